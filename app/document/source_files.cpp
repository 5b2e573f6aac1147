#include "document/source_files.h"

#include <QFile>
#include <QFileInfo>
#include <QSettings>
#include <QSaveFile>
#include <QTextStream>

#include <filesystem>

#include "base/read_file.h"
#include "recording/source_places.h"
#include "target/project.h"
#include "target/target_edit.h"

namespace mt::app {
namespace {
constexpr qint64 kMostSource = 8 << 20;
}

Result<void> keep_source_place(const Recording* recording, const QString& from, const QString& to) {
    const auto project = recording != nullptr ? project_of(recording->input) : std::nullopt;
    if (!project) {
        QSettings settings;
        settings.setValue("sources", QStringList{from, to} + settings.value("sources").toStringList());
        return {};
    }
    const auto text = read_small_file(*project, 4'000'000, "project");
    if (!text) return tl::make_unexpected(text.error());
    const std::string near =
        std::filesystem::path(to.toStdString()).lexically_relative(std::filesystem::path(*project).parent_path());
    const std::size_t n = count_tables(*text, "source");
    const auto now = changed_target(*text, {{"source", n, "from", toml_quoted(from.toStdString())},
                                            {"source", n, "to", toml_quoted(near.empty() ? to.toStdString() : near)}});
    if (!now) return tl::make_unexpected(now.error());
    QSaveFile out(QString::fromStdString(*project));
    if (!out.open(QIODevice::WriteOnly) || out.write(now->data(), static_cast<qint64>(now->size())) < 0 ||
        !out.commit())
        return failure("cannot write", *project, "check the folder, the permissions and free space");
    return {};
}

SourcePaths source_paths(const Recording* recording, std::size_t core) {
    SourcePaths p = recording != nullptr ? source_places(*recording, core) : SourcePaths();
    const QSettings settings;
    const QStringList all = settings.value("sources").toStringList();
    for (qsizetype i = 0; i + 1 < all.size(); i += 2)
        p.replaced.emplace_back(all[i].toStdString(), all[i + 1].toStdString());
    return p;
}

std::vector<QString> read_source(const QString& path) {
    std::vector<QString> lines;
    QFile file(path);
    if (!file.open(QIODevice::ReadOnly) || file.size() > kMostSource) return lines;
    QTextStream in(&file);
    while (!in.atEnd()) lines.push_back(in.readLine().replace('\t', "    "));
    return lines;
}

void SourceFiles::use(const Recording* recording, std::size_t core) {
    if (recording == recording_ && core == core_) return;
    recording_ = recording;
    core_ = core;
    files_.clear();
}

QString SourceFiles::line(const QString& file, int number) {
    auto found = files_.find(file);
    if (found == files_.end()) {
        const std::string path = find_source(file.toStdString(), source_paths(recording_, core_));
        found = files_.emplace(file, path.empty() ? std::vector<QString>() : read_source(QString::fromStdString(path)))
                    .first;
    }
    const auto& lines = found->second;
    return number >= 1 && static_cast<std::size_t>(number) <= lines.size()
               ? lines[static_cast<std::size_t>(number) - 1].trimmed()
               : QString();
}

}  // namespace mt::app
