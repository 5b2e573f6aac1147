#include "document/source_files.h"

#include <QFile>
#include <QFileInfo>
#include <QSettings>
#include <QTextStream>

namespace mt::app {
namespace {
constexpr qint64 kMostSource = 8 << 20;
}

SourcePaths source_paths(const Recording* recording, std::size_t core) {
    SourcePaths p;
    const QSettings settings;
    const QStringList all = settings.value("sources").toStringList();
    for (qsizetype i = 0; i + 1 < all.size(); i += 2)
        p.replaced.emplace_back(all[i].toStdString(), all[i + 1].toStdString());
    if (recording == nullptr) return p;
    const auto add = [&p](const std::string& file) {
        if (!file.empty()) p.folders.push_back(QFileInfo(QString::fromStdString(file)).absolutePath().toStdString());
    };
    add(recording->target.path);
    const auto image = core < recording->images.size() ? recording->images[core] : nullptr;
    if (!image) return p;
    add(image->path());
    // Where it was compiled, seen from there: names in it may start from that folder.
    const std::vector<std::string> beside = p.folders;
    for (const std::string& compiled : image->source_folders()) {
        if (compiled.starts_with('/')) p.folders.push_back(compiled);
        for (const std::string& base : beside) p.folders.push_back(base + "/" + compiled);
    }
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
