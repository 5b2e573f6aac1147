#include "shell/limit_dialog.h"

#include <QDialogButtonBox>
#include <QFileDialog>
#include <QFileInfo>
#include <QVBoxLayout>

#include "base/text.h"
#include "judge/rule_proposals.h"
#include "look/elided_label.h"
#include "look/form_rows.h"
#include "look/words.h"

namespace mt::app {

LimitDialog::LimitDialog(Document& document, Judgement& judgement, const LaneId& lane, std::uint64_t activity,
                         const QString& name, QWidget* parent)
    : QDialog(parent), document_(document), judgement_(judgement), of_(name.toStdString()) {
    setObjectName("limit_dialog");
    setWindowTitle(tr("Limit %1").arg(name));
    setMinimumWidth(440);
    // The core is said only where the name alone would not do.
    const auto trail = document.trail();
    const LaneId id = lane.kind->lane_of(*trail, activity);
    Rule probe;
    what_ = new QComboBox;
    what_->setObjectName("limit_what");
    for (const RuleWhat w : limitable_of(*lane.kind)) {
        what_->addItem(words(std::string(rule_what_name(w))), static_cast<int>(w));
        probe.what = w;
        if (!subject_of(*trail, probe, of_) && id)
            if (const auto drawn = lane.kind->lane(*trail, id.index); drawn && drawn->core() < trail->cores.size())
                core_ = trail->cores[drawn->core()].name;
    }
    seen_ = new QLabel;
    seen_->setObjectName("limit_seen");
    seen_->setWordWrap(true);
    const auto field = [](const char* called) {
        auto* f = new QLineEdit;
        f->setObjectName(called);
        return f;
    };
    most_ = field("limit_most");
    least_ = field("limit_least");
    name_ = field("limit_name");
    note_ = field("limit_note");
    note_->setPlaceholderText(tr("why, or where it is required"));
    path_ = judgement.file_for_new();
    file_ = new ElidedLabel;
    file_->setObjectName("limit_file");
    auto* other = new QPushButton(tr("Other…"));
    message_ = new QLabel;
    message_->setObjectName("limit_message");
    message_->setWordWrap(true);
    FormRows rows(6);
    rows.add(tr("of its"), {what_});
    rows.whole(seen_);
    rows.add(tr("at most"), {most_});
    rows.add(tr("at least"), {least_});
    rows.add(tr("called"), {name_});
    rows.add(tr("note"), {note_});
    rows.add(tr("kept in"), {file_, other});
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel);
    add_ = buttons->addButton(tr("Add rule"), QDialogButtonBox::AcceptRole);
    add_->setObjectName("limit_add");
    auto* column = new QVBoxLayout(this);
    column->addLayout(rows.grid());
    column->addWidget(message_);
    column->addStretch(1);
    column->addWidget(buttons);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(add_, &QPushButton::clicked, this, &LimitDialog::add);
    connect(what_, &QComboBox::currentIndexChanged, this, &LimitDialog::propose);
    for (QLineEdit* f : {most_, least_, name_}) connect(f, &QLineEdit::textChanged, this, &LimitDialog::renew);
    connect(other, &QPushButton::clicked, this, [this] {
        const QString path = QFileDialog::getSaveFileName(this, tr("Rules file"), path_, tr("Rules (*.rules.toml)"),
                                                          nullptr, QFileDialog::DontConfirmOverwrite);
        if (!path.isEmpty()) path_ = path;
        renew();
    });
    propose();
    most_->setFocus();
}

LimitDialog::~LimitDialog() {
    if (progress_) progress_->cancel();
}

RuleWhat LimitDialog::what() const { return static_cast<RuleWhat>(what_->currentData().toInt()); }

// What the recording does, measured on a worker; the fields wait for it.
void LimitDialog::propose() {
    if (progress_) progress_->cancel();
    progress_ = std::make_shared<Progress>();
    seen_->setText(tr("measuring …"));
    most_->clear();
    least_->clear();
    name_->clear();
    renew();
    jobs_.add([this, trail = document_.trail(), recording = document_.recording(), of = of_, core = core_, w = what(),
               progress = progress_] {
        auto p = propose_limit(*recording, *trail, of, core, w, 0.2, progress.get());
        QMetaObject::invokeMethod(
            this,
            [this, p = std::move(p), w, progress] {
                if (progress->cancelled()) return;
                if (!p) {
                    seen_->setText(words(p.error().text()));
                    return;
                }
                seen_->setText(p->count == 0 || !p->least
                                   ? tr("It did not happen whole in this recording: nothing can be proposed.")
                                   : tr("%1 in this recording, from %2 to %3. Proposed: a fifth looser.")
                                         .arg(words(plural(p->count, "time", "times")), words(rule_value_text(w, *p->least)),
                                              words(rule_value_text(w, *p->greatest))));
                if (p->rule.max) most_->setText(words(p->rule.max->text));
                if (p->rule.min) least_->setText(words(p->rule.min->text));
                name_->setText(words(p->rule.name));
                renew();
                emit proposed();
            },
            Qt::QueuedConnection);
    });
}

std::optional<RuleLimit> LimitDialog::limit_of(const QLineEdit& field) const {
    return parse_limit(field.text().trimmed().toStdString(), unit_of(what()));
}

void LimitDialog::renew() {
    file_->setText(path_.isEmpty() ? tr("no file yet") : QFileInfo(path_).fileName());
    file_->setToolTip(path_);
    QString wrong;
    bool any = false;
    for (const QLineEdit* f : {most_, least_}) {
        if (f->text().trimmed().isEmpty()) continue;
        any = true;
        if (limit_of(*f)) continue;
        const bool time = unit_of(what()) == RuleUnit::time;
        wrong = tr("“%1” is no limit: %2")
                    .arg(f->text().trimmed(), time ? tr("a number with ns, µs, ms, s or cycles is") : tr("a number is"));
    }
    if (const auto most = limit_of(*most_), least = limit_of(*least_);
        wrong.isEmpty() && most && least && most->cycles == least->cycles && most->value < least->value)
        wrong = tr("More is asked for than is allowed.");
    message_->setText(wrong);
    add_->setEnabled(any && wrong.isEmpty() && !name_->text().trimmed().isEmpty() && !path_.isEmpty());
}

void LimitDialog::add() {
    Rule rule;
    rule.name = name_->text().trimmed().toStdString();
    rule.of = of_;
    rule.core = core_;
    rule.what = what();
    rule.max = limit_of(*most_);
    rule.min = limit_of(*least_);
    rule.note = note_->text().trimmed().toStdString();
    if (!judgement_.add_rule(path_, rule)) return;
    emit added(words(rule.name));
    accept();
}

}  // namespace mt::app
