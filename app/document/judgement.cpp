#include "document/judgement.h"

#include <QDir>
#include <QFile>
#include <QFileInfo>
#include <QSaveFile>

#include <algorithm>

#include "judge/rule_proposals.h"
#include "look/words.h"

namespace mt::app {
namespace {

// A recording's name without what says that it is one.
QString stem_of(const QString& file) {
    for (const char* end : {".target.toml", ".mtrail"})
        if (file.endsWith(QLatin1String(end))) return file.chopped(static_cast<qsizetype>(std::string_view(end).size()));
    return file;
}

// What stands in a file; nothing if there is none, or if it cannot be read.
std::optional<QByteArray> bytes_of(const QString& path) {
    QFile in(path);
    if (!in.open(QIODevice::ReadOnly)) return std::nullopt;
    return in.readAll();
}

}  // namespace

Judgement::Judgement(Document& document, QObject* parent) : QObject(parent), document_(document) {
    connect(&document, &Document::opened, this, [this] {
        ++turn_;
        outcomes_.clear();
        limits_.clear();
        added_.reset();
        judging_ = false;
        find_file();
        emit changed();
    });
    connect(&document, &Document::finished, this, &Judgement::judge);
}

// Beside the recording: what is named like it, else the only one.
void Judgement::find_file() {
    file_.clear();
    trouble_.clear();
    const auto recording = document_.recording();
    if (!recording || recording->input.empty()) return;
    const QFileInfo input(words(recording->input));
    const QDir folder = input.dir();
    const QString named = stem_of(input.fileName()) + ".rules.toml";
    const QStringList there = folder.entryList({"*.rules.toml"}, QDir::Files);
    if (there.contains(named))
        file_ = folder.filePath(named);
    else if (there.size() == 1)
        file_ = folder.filePath(there[0]);
}

QString Judgement::file_for_new() const {
    if (!file_.isEmpty()) return file_;
    const auto recording = document_.recording();
    if (!recording || recording->input.empty()) return {};
    const QFileInfo input(words(recording->input));
    return input.dir().filePath(stem_of(input.fileName()) + ".rules.toml");
}

std::vector<LimitLine> Judgement::limits_of(const LaneId& lane, std::uint64_t activity, std::size_t length) const {
    std::vector<LimitLine> all;
    for (const LimitLine& l : limits_)
        if (l.lane == lane && l.activity == activity && l.length == length) all.push_back(l);
    return all;
}

void Judgement::use_file(const QString& path) {
    file_ = path;
    judge();
}

bool Judgement::write(const QString& path, const QByteArray& text) {
    QSaveFile out(path);
    if (out.open(QIODevice::WriteOnly) && out.write(text) == text.size() && out.commit()) return true;
    emit told(tr("Cannot write %1: %2").arg(path, out.errorString()), true);
    return false;
}

void Judgement::propose_into(const QString& path) {
    const auto trail = document_.trail();
    const auto recording = document_.recording();
    if (!trail || !recording) return;
    jobs_.add([this, path, trail, recording] {
        const std::string text = rules_text(propose_rules(*recording, *trail));
        QMetaObject::invokeMethod(
            this,
            [this, path, text] {
                if (!write(path, QByteArray::fromStdString(text))) return;
                emit told(tr("Proposed rules are in %1. Check each: they say what this recording does, not what is right.").arg(path), false);
                use_file(path);
            },
            Qt::QueuedConnection);
    });
}

bool Judgement::add_rule(const QString& path, Rule rule) {
    const auto before = bytes_of(path);
    if (!before && QFileInfo::exists(path)) {
        emit told(tr("Cannot read %1").arg(path), true);
        return false;
    }
    const auto text = text_with_rule(before ? before->toStdString() : std::string(), path.toStdString(), rule);
    if (!text) {
        emit told(words(text.error().text()), true);
        return false;
    }
    const QByteArray after = QByteArray::fromStdString(*text);
    if (!write(path, after)) return false;
    added_ = Added{path, words(rule.name), before, after};
    emit told(tr("Rule “%1” is in %2. Judge ▸ Take back the added rule undoes that.").arg(words(rule.name), QFileInfo(path).fileName()), false);
    use_file(path);
    return true;
}

void Judgement::take_back() {
    if (!added_) {
        emit told(tr("No rule was added here that could be taken back."), false);
        return;
    }
    const Added added = *std::exchange(added_, std::nullopt);
    if (bytes_of(added.path) != added.after) {
        emit told(tr("%1 was changed by somebody else since: “%2” stays in it.").arg(added.path, added.name), true);
        return;
    }
    if (added.before ? !write(added.path, *added.before) : !QFile::remove(added.path)) return;
    emit told(tr("Rule “%1” is taken back.").arg(added.name), false);
    use_file(added.before ? added.path : QString());
}

void Judgement::judge() {
    const auto trail = document_.trail();
    const auto recording = document_.recording();
    const quint64 turn = ++turn_;
    trouble_.clear();
    judging_ = !file_.isEmpty() && trail && trail->complete;
    if (file_.isEmpty()) {
        outcomes_.clear();
        limits_.clear();
    }
    emit changed();
    if (!judging_) return;
    jobs_.add([this, turn, trail, recording, path = file_.toStdString()] {
        const auto file = read_rules(path);
        Result<std::vector<RuleOutcome>> outcomes =
            file ? judge_rules(*recording, *trail, *file) : tl::make_unexpected(file.error());
        std::vector<LimitLine> limits;
        if (outcomes) limits = limit_lines(*trail, *outcomes);
        QMetaObject::invokeMethod(
            this,
            [this, turn, outcomes = std::move(outcomes), limits = std::move(limits)] {
                if (turn != turn_) return;
                judging_ = false;
                trouble_ = outcomes ? QString() : words(outcomes.error().text());
                outcomes_ = outcomes ? *outcomes : std::vector<RuleOutcome>();
                limits_ = limits;
                emit changed();
            },
            Qt::QueuedConnection);
    });
}

}  // namespace mt::app
