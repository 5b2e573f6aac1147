#include "shell/report_dialog.h"

#include <QDateTime>
#include <QDialogButtonBox>
#include <QFileDialog>
#include <QFileInfo>
#include <QSaveFile>
#include <QVBoxLayout>

#include <algorithm>

#include "look/words.h"
#include "share/report.h"

namespace mt::app {

ReportDialog::ReportDialog(Document& document, const QString& rules, std::shared_ptr<const TwoCompared> compared, QWidget* parent)
    : QDialog(parent), document_(document), rules_(rules), compared_(std::move(compared)) {
    setWindowTitle(tr("Report"));
    setMinimumWidth(420);
    auto* column = new QVBoxLayout(this);
    auto* head = new QLabel(tr("One page that needs neither this program nor a network. What goes in:"));
    head->setWordWrap(true);
    column->addWidget(head);
    const auto trail = document.trail();
    const std::tuple<const char*, QString, bool> all[] = {
        {"summary", tr("What was recorded, and how whole it is"), true},
        {"findings", tr("Findings, with pictures of their lanes"), true},
        {"rules", rules.isEmpty() ? tr("Verdicts of rules (open a rules file on the page Rules first)") : tr("Verdicts of the rules in %1").arg(QFileInfo(rules).fileName()),
         !rules.isEmpty()},
        {"measures", tr("Figures of everything that ran"), true},
        {"coverage", tr("Coverage"), trail && !trail->steps.empty()},
        {"comparison", compared_ ? tr("What changed since %1").arg(compared_->before) : tr("What changed (compare with another recording first)"), compared_ != nullptr},
        {"waymarks", tr("Waymarks and notes"), trail && (!trail->waymarks.empty() || !trail->notes.empty())}};
    for (const auto& [id, text, there] : all) {
        auto* box = new QCheckBox(text);
        box->setObjectName(QString("report_") + id);
        box->setChecked(there);
        box->setEnabled(there);
        column->addWidget(box);
        parts_.emplace_back(id, box);
        connect(box, &QCheckBox::toggled, this, &ReportDialog::renew);
    }
    message_ = new QLabel;
    message_->setObjectName("report_message");
    message_->setWordWrap(true);
    column->addWidget(message_);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel);
    save_ = buttons->addButton(tr("Save as…"), QDialogButtonBox::AcceptRole);
    save_->setObjectName("report_save");
    column->addWidget(buttons);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(save_, &QPushButton::clicked, this, [this] {
        const auto recording = document_.recording();
        const QString path = QFileDialog::getSaveFileName(this, tr("Save report"), recording ? words(recording->title) + ".html" : QString(),
                                                          tr("Pages (*.html)"));
        if (!path.isEmpty()) write_to(path);
    });
    renew();
}

ReportDialog::~ReportDialog() {
    if (progress_) progress_->cancel();
}

void ReportDialog::renew() {
    save_->setEnabled(!progress_ && std::any_of(parts_.begin(), parts_.end(), [](const auto& p) { return p.second->isChecked(); }));
}

void ReportDialog::write_to(const QString& path) {
    const auto trail = document_.trail();
    const auto recording = document_.recording();
    if (!trail || !recording || progress_) return;
    progress_ = std::make_shared<Progress>();
    message_->setText(tr("Working it out…"));
    renew();
    ReportParts parts;
    for (const auto& [id, box] : parts_)
        if (box->isChecked()) parts.sections.push_back(id);
    parts.findings = document_.findings();
    parts.made = tr("made %1").arg(QDateTime::currentDateTime().toString("yyyy-MM-dd hh:mm")).toStdString();
    jobs_.add([this, path, trail, recording, parts = std::move(parts), rules = rules_.toStdString(), compared = compared_, progress = progress_]() mutable {
        const auto has = [&](const char* id) { return std::find(parts.sections.begin(), parts.sections.end(), id) != parts.sections.end(); };
        QString trouble;
        if (const auto frame = report_frame({}, *recording))
            parts.frame = *frame;
        else
            trouble = words(frame.error().text());
        if (has("rules")) {
            const auto file = read_rules(rules);
            auto outcomes = file ? judge_rules(*recording, *trail, *file, progress.get()) : tl::make_unexpected(file.error());
            if (outcomes)
                parts.rules = std::move(*outcomes);
            else
                trouble = words(outcomes.error().text());
        }
        if (has("coverage"))
            for (const StepTrail& steps : trail->steps)
                parts.coverage.push_back({steps.core, Coverage::of(steps.code, steps.functions,
                                                                   recording->source_map(steps.core_index, *steps.code),
                                                                   CoverCounts::of(steps))});
        if (compared && has("comparison"))
            parts.comparison = ReportComparison{compared->before.toStdString(), compared->comparison, compared->mended,
                                                compared->other ? compared->other->code : std::vector<CodeBoth>()};
        const std::string page = trouble.isEmpty() ? report_html(*recording, trail, parts, progress.get()) : std::string();
        QMetaObject::invokeMethod(
            this,
            [this, path, page, trouble] {
                const bool stopped = progress_ == nullptr || progress_->cancelled();
                progress_.reset();
                renew();
                if (stopped) return;
                QSaveFile out(path);
                if (!trouble.isEmpty())
                    message_->setText(trouble);
                else if (!out.open(QIODevice::WriteOnly) || out.write(page.data(), static_cast<qint64>(page.size())) < 0 || !out.commit())
                    message_->setText(tr("Cannot write %1: %2").arg(path, out.errorString()));
                else {
                    emit written(path);
                    accept();
                }
            },
            Qt::QueuedConnection);
    });
}

}  // namespace mt::app
