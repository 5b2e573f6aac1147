#include "evidence/state_page.h"

#include <QKeyEvent>
#include <QSettings>
#include <QShortcut>
#include <QSplitter>

#include "base/text.h"
#include "look/page_parts.h"
#include "look/table_text.h"
#include "look/theme.h"
#include "look/words.h"
#include "replay/past_state.h"

namespace mt::app {
namespace {

constexpr int kStepRole = kCellSortRole + 1;

}  // namespace

struct StatePage::Kept {
    std::shared_ptr<const Recording> recording;
    std::shared_ptr<const Trail> trail;
    std::size_t stream = 0;
    std::optional<Result<PastStates>> states;
};

StatePage::StatePage(Document& document, QWidget* parent)
    : QWidget(parent),
      document_(document),
      register_model_(new QStandardItemModel(this)),
      variable_model_(new QStandardItemModel(this)) {
    setAccessibleName(tr("State"));
    hint_ = hint_label("state_hint");
    add_ = new QLineEdit;
    add_->setObjectName("state_add");
    add_->setPlaceholderText(tr("Variable to show: guide.state"));
    add_->setAccessibleName(tr("Variable to show"));
    add_->setToolTip(tr("A variable, a member, an element, or *(uint32_t*)0x20000100; Enter adds it, Delete in the table takes one away"));
    add_->setMinimumWidth(220);
    registers_ = figures_view("state_registers", tr("Registers"), *register_model_, false);
    variables_ = figures_view("state_variables", tr("Variables"), *variable_model_, false);
    auto* across = new QSplitter(Qt::Horizontal);
    across->addWidget(registers_);
    across->addWidget(variables_);
    across->setStretchFactor(0, 1);
    across->setStretchFactor(1, 1);
    across->setHandleWidth(1);
    setFocusProxy(registers_);
    put_ = tool_button("state_put", tr("Put the target here…"), tr("Write what is known of this state into the halted target; it is asked first, and can be taken back"));
    put_->hide();
    connect(put_, &QToolButton::clicked, this, [this] {
        const auto trail = document_.trail();
        if (shown_ && trail && stream_ && *stream_ < trail->steps.size()) emit put_wanted(words(trail->steps[*stream_].core), shown_);
    });
    lay_page(*this, {hint_, put_, add_}, hint_, across);
    soon_.setSingleShot(true);
    soon_.setInterval(40);
    connect(&soon_, &QTimer::timeout, this, &StatePage::compute);
    connect(add_, &QLineEdit::returnPressed, this, [this] {
        if (!add_->text().trimmed().isEmpty()) watch(add_->text().trimmed());
        add_->clear();
    });
    for (QTableView* table : {registers_, variables_})
        connect(table, &QTableView::doubleClicked, this, [this](const QModelIndex& index) {
            const QVariant step = index.data(kStepRole);
            if (step.isValid() && stream_) emit step_wanted(*stream_, step.toULongLong());
        });
    auto* away = new QShortcut(QKeySequence::Delete, variables_);
    away->setContext(Qt::WidgetWithChildrenShortcut);
    connect(away, &QShortcut::activated, this, [this] {
        if (const int row = variables_->currentIndex().row(); row >= 0 && row < watched_.size()) watched_.removeAt(row);
        keep_watched();
        ask();
    });
    connect(&document, &Document::opened, this, [this] {
        if (progress_) progress_->cancel();
        kept_.reset();
        shown_.reset();
        stream_.reset();
        before_.clear();
        register_model_->clear();
        variable_model_->clear();
        watched_ = QSettings().value(place()).toStringList();
        hint_->setText(tr("Choose an instruction on the page Instructions."));
    });
    hint_->setText(tr("Needs instruction trace (ETM, E-Trace, N-Trace or a micro trace buffer) and the image."));
}

StatePage::~StatePage() {
    if (progress_) progress_->cancel();
}

QString StatePage::place() const {
    const auto recording = document_.recording();
    return "state/watched/" + QString::fromUtf8(words(recording ? recording->input : std::string()).toUtf8().toHex());
}

void StatePage::keep_watched() const { QSettings().setValue(place(), watched_); }

void StatePage::watch(const QString& expression) {
    if (!watched_.contains(expression)) watched_ << expression;
    keep_watched();
    ask();
}

void StatePage::look_at(std::size_t stream, std::uint64_t step) {
    if (stream_ == stream && step_ == step) return;
    stream_ = stream;
    step_ = step;
    ask();
}

void StatePage::ask() {
    if (isVisible() && stream_) soon_.start();
}

void StatePage::compute() {
    const auto trail = document_.trail();
    if (!trail || !stream_ || *stream_ >= trail->steps.size()) return;
    if (!trail->complete && !document_.live()) return hint_->setText(tr("States come when decoding has ended."));
    if (progress_) progress_->cancel();
    progress_ = std::make_shared<Progress>();
    jobs_.clear();
    if (!kept_ || kept_->trail != trail || kept_->stream != *stream_)
        kept_ = std::make_shared<Kept>(Kept{document_.recording(), trail, *stream_, std::nullopt});
    hint_->setText(tr("executing what was recorded …"));
    jobs_.add([this, kept = kept_, step = step_, watched = watched_, progress = progress_] {
        const StepTrail& steps = kept->trail->steps[kept->stream];
        if (!kept->states) kept->states.emplace(PastStates::of(*kept->recording, steps));
        QString trouble;
        std::shared_ptr<Found> found;
        if (!*kept->states) {
            trouble = words(kept->states->error().text());
        } else if (auto state = (*kept->states)->before(step, *progress)) {
            found = std::make_shared<Found>(Found{std::move(*state), {}});
            for (const QString& name : watched)
                found->variables.push_back(variable_in(kept->recording->target.cores[steps.core_index], name.toStdString(), *found->state.memory));
        }
        QMetaObject::invokeMethod(
            this,
            [this, found, trouble, progress] {
                if (progress->cancelled()) return;
                if (found)
                    fill(*found);
                else
                    hint_->setText(trouble.isEmpty() ? tr("This state cannot be worked out.") : trouble);
            },
            Qt::QueuedConnection);
    });
}

void StatePage::fill(const Found& found) {
    std::map<QString, QString> now;
    std::size_t known = 0;
    const auto cells = [&](const QString& name, const QString& value, const QString& plain, bool is_known, std::uint64_t set_at) {
        QStandardItem *called = text_cell(name, true), *shown = number_cell(value, 0, plain);
        const auto before = before_.find(name);
        if (!is_known)
            shown->setForeground(theme().second);
        else if (before != before_.end() && before->second != value)
            shown->setForeground(theme().interrupt);
        for (QStandardItem* item : {called, shown}) {
            if (set_at != Known::kNever) item->setData(qulonglong(set_at), kStepRole);
            item->setToolTip(set_at != Known::kNever ? tr("Written by instruction %1; a double click goes there").arg(words(count_text(set_at)))
                                                     : tr("No instruction that was recorded wrote it"));
        }
        now[name] = value;
        return std::pair(called, shown);
    };
    const auto row = [&](QStandardItemModel* model, const QString& name, const QString& value, const QString& plain, bool is_known,
                         std::uint64_t set_at) {
        const auto [called, shown] = cells(name, value, plain, is_known, set_at);
        model->appendRow({called, shown, number_cell(set_at != Known::kNever ? words(count_text(set_at)) : QStringLiteral("–"), 0,
                                                     set_at != Known::kNever ? QString::number(set_at) : QString())});
    };
    // Side by side: the page is low and wide.
    register_model_->clear();
    constexpr int kBlocks = 4;
    const int high = (static_cast<int>(found.state.registers.size()) + kBlocks - 1) / kBlocks;
    for (int i = 0; i < static_cast<int>(found.state.registers.size()); ++i) {
        const auto& [name, value] = found.state.registers[static_cast<std::size_t>(i)];
        known += value.known ? 1 : 0;
        const auto [called, shown] = cells(words(name), value.known ? words(hex_text(value.value, 8)) : tr("not known"),
                                           value.known ? QString::number(value.value) : QString(), value.known, value.set_at);
        register_model_->setItem(i % high, 2 * (i / high), called);
        register_model_->setItem(i % high, 2 * (i / high) + 1, shown);
    }
    QStringList heads;
    for (int block = 0; block < kBlocks; ++block) heads << tr("register") << tr("value");
    register_model_->setHorizontalHeaderLabels(heads);
    variable_model_->clear();
    variable_model_->setHorizontalHeaderLabels({tr("variable"), tr("value"), tr("written by instruction")});
    for (std::size_t i = 0; i < found.variables.size(); ++i) {
        const QString name = watched_.value(static_cast<qsizetype>(i));
        if (!found.variables[i]) {
            row(variable_model_, name, words(found.variables[i].error().text()), {}, false, Known::kNever);
            continue;
        }
        const StateVariable& v = *found.variables[i];
        QString text = words(v.text);
        bool is_known = v.bits.known;
        std::uint64_t set = v.bits.set_at;
        if (!v.bytes.empty()) {
            is_known = true;
            for (const Known& b : v.bytes) {
                is_known = is_known && b.known;
                text += b.known ? words(hex_text(b.value, 2)).mid(2) + " " : QStringLiteral("?? ");
                if (b.set_at != Known::kNever && (set == Known::kNever || b.set_at > set)) set = b.set_at;
            }
        }
        row(variable_model_, name, text.isEmpty() ? tr("not known") : text.trimmed(), text.trimmed(), is_known, set);
    }
    registers_->resizeColumnsToContents();
    variables_->resizeColumnsToContents();
    variables_->setColumnWidth(1, std::clamp(variables_->columnWidth(1), 110, 420));
    restore_columns(*variables_, variables_->objectName());
    before_ = std::move(now);
    shown_ = std::make_shared<const HandState>(hand_state_of(found.state));
    hint_->setText(tr("before instruction %1 at %2: %3 of %4 registers known%5")
                       .arg(words(count_text(found.state.step)), words(hex_text(found.state.pc, 8)))
                       .arg(known)
                       .arg(found.state.registers.size())
                       .arg(watched_.isEmpty() ? tr(" · name variables to see them, too") : QString()));
    emit filled();
}

}  // namespace mt::app
