#include "shell/target_side.h"

#include <QDir>
#include <QFileDialog>
#include <QFileInfo>
#include <QInputDialog>

#include <algorithm>
#include <utility>

#include "base/text.h"
#include "identify/described.h"
#include "judge/mends.h"
#include "look/words.h"
#include "shell/desk.h"
#include "shell/signals_import.h"
#include "target/project.h"

namespace mt::app {

TargetSide::TargetSide(Desk& desk)
    : QObject(&desk), desk_(desk), document_(desk.document()), form_(new TargetForm(draft_)) {
    form_->hide();
    connect(&draft_, &TargetDraft::turned, this, &TargetSide::turned);
    connect(form_, &TargetForm::close_wanted, this, [this] { show(false); });
    connect(form_, &TargetForm::told, &desk_, &Desk::told);
}

void TargetSide::forget() {
    turned_by_.clear();
    described_.clear();
    draft_.end();
    show(false);
}

QString TargetSide::description_of(const QString& bytes) {
    described_by_.clear();
    for (const std::string& target : targets_of_capture(bytes.toStdString())) described_by_ << words(target);
    if (described_by_.isEmpty()) return {};
    described_ = bytes;
    return described_by_.first();
}

void TargetSide::failed(const Problem& problem) {
    std::vector<Offer> offers;
    if (!std::exchange(turned_by_, {}).isEmpty() && draft_.can_undo())
        offers.push_back({tr("Undo"), [this] { draft_.undo(); }});
    else if (const auto target = read_target_file(document_.path().toStdString());
             target && document_.path().endsWith(".target.toml")) {
        // Its settings may be what is wrong.
        offers.push_back({tr("Target…"), [this] { show(true); }});
        for (const StreamSpec& s : target->streams)
            if (offers.size() == 1 && QFileInfo(words(s.file)).isFile())
                offers.push_back({tr("Identify %1").arg(QFileInfo(words(s.file)).fileName()),
                                  [this, file = words(s.file)] { desk_.open_bytes(file); }});
    }
    if (offers.empty())
        emit desk_.told(words(problem.text()), true);
    else
        emit desk_.offered(words(problem.text()), true, offers);
}

void TargetSide::finished() {
    if (!turned_by_.isEmpty())
        tell_what_changed();
    else if (!described_.isEmpty())
        tell_description();
    else if (!desk_.bytes_->path().isEmpty())
        offer_project();
    else if (!document_.live() && !document_.trail()->cancelled)
        offer_mends();
}

void TargetSide::led_to(const Finding& finding) {
    if (!document_.recording()) return;
    if (const auto mends = mends_of(finding, *document_.recording()); !mends.empty())
        emit desk_.offered(words(finding.title + ". " + finding.cause), false, offers_of(mends));
}

void TargetSide::offer_project() {
    const QString bytes = desk_.bytes_->path();
    const auto path = project_of(bytes.toStdString());
    const auto project = path ? read_project(*path) : Result<Project>(tl::make_unexpected(Problem{}));
    if (!project || project->target.empty() || !QFileInfo::exists(words(project->target))) return;
    const QString target = words(project->target);
    emit desk_.offered(
        tr("This file belongs to the project %1.").arg(words(project->name)), false,
        {{tr("Use %1").arg(QFileInfo(target).fileName()), [this, bytes, target] { read_as_project(bytes, target); }}});
}

// The stream of the same protocol as the bytes, if there is one, else the first, has them now.
void TargetSide::read_as_project(const QString& bytes, const QString& target) {
    const auto read = read_target_file(target.toStdString());
    if (!read) return emit desk_.told(words(read.error().text()), true);
    std::size_t stream = 0;
    const auto& guesses = desk_.bytes_->identified().guesses;
    for (std::size_t i = read->streams.size(); i-- > 0 && !guesses.empty();)
        if (read->streams[i].protocol == guesses[0].stream.protocol) stream = i;
    const std::string file = QFileInfo(target).absoluteDir().relativeFilePath(bytes).toStdString();
    std::vector<KeyChange> changes = {{"stream", stream, "file", toml_quoted(file)}};
    for (std::size_t i = read->streams.size(); i-- > 0;)  // those of the other recordings do not belong to this one
        if (i != stream) changes.push_back({"stream", i, "", ""});
    const auto text = changed_target(read->text, changes);
    if (!text) return emit desk_.told(words(text.error().text()), true);
    // As a file of its own beside the shared one, which is written only if a person saves it.
    const QDir folder = QFileInfo(target).absoluteDir();
    QString own = folder.filePath(QFileInfo(bytes).completeBaseName() + ".target.toml");
    for (int n = 2; QFileInfo::exists(own); ++n)
        own = folder.filePath(QString("%1-%2.target.toml").arg(QFileInfo(bytes).completeBaseName()).arg(n));
    desk_.bytes_->leave();
    desk_.opening_ = own;
    document_.open_as(own, *text);
}

// The bytes were given, and a target file that names them was opened: which, and what else there is.
void TargetSide::tell_description() {
    const QString path = std::exchange(described_, {});
    std::vector<Offer> offers;
    for (qsizetype i = 1; i < described_by_.size() && i < 4; ++i) {
        const QString other = described_by_[i];
        offers.push_back({tr("Use %1").arg(QFileInfo(other).fileName()), [this, other] { desk_.open(other); }});
    }
    offers.push_back({tr("Identify again"), [this, path] { desk_.open_bytes(path); }});
    emit desk_.offered(tr("%1 is decoded as described in %2.")
                           .arg(QFileInfo(path).fileName(), QFileInfo(described_by_.first()).fileName()),
                       false, offers);
}

bool TargetSide::begin_draft() {
    const auto recording = document_.recording();
    if (document_.live()) return false;
    if (!recording) {  // what could not be decoded: its target file may say why
        const auto target = read_target_file(document_.path().toStdString());
        if (!target) return false;
        if (draft_.path() != document_.path()) draft_.begin(document_.path(), target->text);
        return true;
    }
    if (recording->target.path.empty()) return false;
    const QString path = words(recording->target.path);
    if (draft_.path() != path) draft_.begin(path, recording->target.text);
    return true;
}

void TargetSide::show(bool on) {
    if (on && !begin_draft()) {
        emit desk_.told(document_.recording() ? tr("A trace folder describes itself; it has no target file to edit.")
                                              : tr("Open a recording first."),
                        false);
        on = false;
    }
    form_->setVisible(on);
    if (on)
        form_->parts()->setFocus();
    else if (document_.trail())
        desk_.lanes_->setFocus();
    emit desk_.renewed();
}

// The draft says something else: all is decoded anew, and everybody stays where they were.
void TargetSide::turned(const QString& what) {
    if (!document_.trail()) {
        turned_by_ = what;
        outcome_before_ = tr("it could not be decoded");
        return document_.open_as(draft_.path(), draft_.text());
    }
    if (turned_by_.isEmpty()) outcome_before_ = outcome();
    turned_by_ = what;
    desk_.keep_place();
    document_.read_as(draft_.text());
}

QString TargetSide::outcome() const {
    const auto trail = document_.trail();
    if (!trail) return {};
    QStringList parts;
    parts << words(duration_text(trail->end));
    std::uint64_t bad = 0, steps = 0, events = 0;
    for (const StreamTrail& s : trail->streams) bad += s.bad_bytes, events += s.events;
    for (const StepTrail& s : trail->steps) bad += s.bad_bytes, steps += s.steps;
    if (events > 0) parts << words(plural(events, "event", "events"));
    if (steps > 0) parts << words(plural(steps, "instruction", "instructions"));
    parts << (bad == 0 ? tr("no bad bytes") : tr("%1 bad").arg(words(bytes_text(bad))));
    parts << words(plural(document_.findings().size(), "finding", "findings"));
    parts << words(plural(trail->doubts.size(), "warning", "warnings"));
    return parts.join(", ");
}

void TargetSide::tell_what_changed() {
    const QString what = std::exchange(turned_by_, {});
    std::vector<Offer> offers;
    if (draft_.can_undo()) offers.push_back({tr("Undo"), [this] { draft_.undo(); }});
    if (draft_.changed())
        offers.push_back({tr("Save in %1").arg(QFileInfo(draft_.path()).fileName()), [this] {
                              if (const auto saved = draft_.save(); saved)
                                  emit desk_.told(tr("Saved as %1").arg(draft_.path()), false);
                              else
                                  emit desk_.told(words(saved.error().text()), true);
                          }});
    emit desk_.offered(tr("%1.\nBefore: %2.\nNow: %3.").arg(what, outcome_before_, outcome()), false, offers);
}

std::vector<Offer> TargetSide::offers_of(const std::vector<Mend>& mends) {
    std::vector<Offer> offers;
    for (const Mend& m : mends)
        if (offers.size() < 3) offers.push_back({words(m.label), [this, m] { mend(m); }});
    return offers;
}

// The first warning that something can be done about, with what that is.
void TargetSide::offer_mends() {
    for (const Doubt& d : document_.trail()->doubts)
        if (!d.mends.empty() && !document_.recording()->target.path.empty()) {
            std::vector<Offer> offers = offers_of(d.mends);
            offers.push_back({tr("Target…"), [this] { show(true); }});
            return emit desk_.offered(words(d.text + " " + d.advice), false, offers);
        }
}

void TargetSide::ask_signals(const QString& path) {
    if (!begin_draft()) {
        emit desk_.told(tr("Signals are laid beside a recording by its target file, and this has none: make one first."),
                        true);
        return;
    }
    SignalsImport import(path, &desk_);
    if (import.exec() == QDialog::Accepted) lay_signals(path, import.all_chosen() ? QStringList() : import.chosen());
}

void TargetSide::lay_signals(const QString& path, const QStringList& select) {
    const auto recording = document_.recording();
    if (!recording || !begin_draft()) return;
    const std::size_t n = recording->target.beside.size();
    const QString file = QFileInfo(draft_.path()).absoluteDir().relativeFilePath(path);
    Mend laid;
    laid.label = "Lay " + QFileInfo(path).fileName().toStdString() + " beside it";
    laid.changes = {{"signals", n, "file", toml_quoted(file.toStdString())}};
    if (!select.isEmpty()) {
        std::string list;
        for (const QString& name : select) list += (list.empty() ? "" : ", ") + toml_quoted(name.toStdString());
        laid.changes.push_back({"signals", n, "select", "[" + list + "]"});
    }
    mend(laid);
}

void TargetSide::move_clock(const QString& device, Time by) {
    const auto recording = document_.recording();
    const auto trail = document_.trail();
    if (!recording || !trail) return;
    const auto laid = std::find_if(trail->beside.begin(), trail->beside.end(),
                                   [&](const LaidSignals& s) { return words(s.name) == device; });
    if (laid == trail->beside.end()) return;
    std::string table;
    std::size_t index = 0;
    for (const SampleTrail& s : trail->measured)
        if (s.name == laid->name) {
            table = "stream.samples";
            index = s.spec;
        }
    for (std::size_t i = 0; i < recording->target.beside.size(); ++i)
        if (recording->target.beside[i].file == laid->file) {
            table = "signals";
            index = i;
        }
    if (table.empty()) return;
    // measured = offset + (1 + drift) * recording: what lies later in the recording was measured at the same moment.
    const double offset = laid->offset_ns - (1 + laid->drift_ppm / 1e6) * static_cast<double>(by.ps) / 1e3;
    Mend moved;
    moved.label = "Move " + laid->name + " by hand";
    moved.changes = {{table, index, "align", ""},
                     {table, index, "drift_ppm", QString::number(laid->drift_ppm, 'f', 6).toStdString()},
                     {table, index, "offset_ns", QString::number(offset, 'f', 3).toStdString()}};
    mend(moved);
}

void TargetSide::mend(const Mend& m) {
    if (!begin_draft()) return;
    if (m.asks == Mend::Asks::nothing) return mend_with(m, {});
    QString answer;
    if (m.asks == Mend::Asks::image || m.asks == Mend::Asks::stream_file)
        answer = QFileDialog::getOpenFileName(&desk_, words(m.label), QFileInfo(draft_.path()).path());
    else
        answer = QInputDialog::getText(&desk_, words(m.label), words(m.changes.back().key));
    if (!answer.isEmpty()) mend_with(m, answer);
}

void TargetSide::mend_with(const Mend& m, const QString& answer) {
    if (!begin_draft() || m.changes.empty()) return;
    std::vector<KeyChange> changes = m.changes;
    QString what = words(m.label);
    if (m.asks != Mend::Asks::nothing) {
        const bool file = m.asks == Mend::Asks::image || m.asks == Mend::Asks::stream_file;
        QString value = file ? QFileInfo(draft_.path()).absoluteDir().relativeFilePath(answer) : answer.trimmed();
        what = tr("%1 set to %2").arg(words(changes.back().key), value);
        if (m.asks == Mend::Asks::number) value.remove(' ').remove(QChar(0x202F));
        changes.back().value = m.asks == Mend::Asks::number ? value.toStdString() : toml_quoted(value.toStdString());
    }
    if (const auto done = draft_.change(what, changes); !done) emit desk_.told(words(done.error().text()), true);
}

}  // namespace mt::app
