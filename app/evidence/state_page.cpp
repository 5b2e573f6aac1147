#include "evidence/state_page.h"

#include <QAction>
#include <QClipboard>
#include <QGuiApplication>
#include <QHeaderView>
#include <QKeyEvent>
#include <QSettings>
#include <QShortcut>

#include <bit>

#include "base/text.h"
#include "look/layout.h"
#include "look/page_parts.h"
#include "look/table_text.h"
#include "look/theme.h"
#include "look/words.h"
#include "replay/past_frame.h"
#include "replay/past_state.h"

namespace mt::app {
namespace {

constexpr int kStepRole = kCellSortRole + 1, kPathRole = kStepRole + 1;
constexpr std::size_t kMostFrames = 16, kMostShown = 3000;
constexpr int kDeepest = 4;
constexpr std::uint64_t kAtOnce = 200'000;  // instructions that are executed while nobody notices

}  // namespace

struct StatePage::Kept {
    std::shared_ptr<const Recording> recording;
    std::shared_ptr<const Trail> trail;
    std::size_t stream = 0;
    std::optional<Result<PastStates>> states;
    std::unique_ptr<Locals> locals{};
    const StepTrail& steps() const { return trail->steps[stream]; }
    /// What the last instructions before `step` tell, and the end if it is near. REQUIRES: there are states.
    std::optional<PastState> glimpse(std::uint64_t step, Progress& progress) const;
    /// What is to be shown of a state. `progress`: null if it is not all that can be known.
    std::shared_ptr<const Found> look(PastState state, const QStringList& watched, Progress* progress);
};

std::optional<PastState> StatePage::Kept::glimpse(std::uint64_t step, Progress& progress) const {
    auto near = PastStates::of(*recording, steps(), step - std::min(step, kAtOnce));
    if (near && near->distance(step) <= 3 * kAtOnce) return near->before(step, progress);
    return (*states)->glimpse(step, kAtOnce, progress);
}

std::shared_ptr<const StatePage::Found> StatePage::Kept::look(PastState state, const QStringList& watched, Progress* progress) {
    auto found = std::make_shared<Found>(Found{std::move(state), {}, {}, progress != nullptr});
    const CoreSpec& core = recording->target.cores[steps().core_index];
    const Isa kind = isa_of(core.isa).value_or(Isa::thumb);
    if (!locals) locals = std::make_unique<Locals>(core.images());
    const FrameState frame = progress != nullptr ? frame_of(found->state, kind, **states, *recording, steps(), *progress)
                                                 : frame_of(found->state, kind);
    std::size_t room = kMostShown;
    for (LocalFrame& f : locals->frames(found->state.pc, frame, kMostFrames)) {
        Frame shown{f.function, f.pc, {}};
        for (LocalValue& v : f.values) shown.parts.push_back(with_parts(std::move(v), *locals, frame, 0, room));
        found->frames.push_back(std::move(shown));
    }
    for (const QString& name : watched) {
        const auto local = locals->named(name.toStdString(), found->state.pc, frame);
        if (local)
            found->variables.push_back(*local ? Result<StateVariable>(variable_of(**local)) : tl::make_unexpected(local->error()));
        else
            found->variables.push_back(variable_in(core, name.toStdString(), *found->state.memory));
    }
    return found;
}

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
    locals_ = new QTreeWidget;
    locals_->setObjectName("state_locals");
    locals_->setAccessibleName(tr("Local variables"));
    locals_->setHeaderLabels({tr("function and its variables"), tr("value"), tr("written by instruction")});
    locals_->setUniformRowHeights(true);
    locals_->setExpandsOnDoubleClick(false);  // that goes to the instruction
    locals_->setContextMenuPolicy(Qt::ActionsContextMenu);
    locals_->header()->setStretchLastSection(false);
    locals_->header()->setSectionResizeMode(1, QHeaderView::Stretch);
    locals_->header()->setSectionResizeMode(2, QHeaderView::ResizeToContents);
    across_ = new QSplitter(Qt::Horizontal);
    across_->addWidget(locals_);
    across_->addWidget(registers_);
    across_->addWidget(variables_);
    variables_->hide();  // until one is named
    kept_model_ = new QStandardItemModel(this);
    kept_view_ = figures_view("state_kept", tr("Kept picture"), *kept_model_, false);
    kept_view_->hide();
    across_->addWidget(kept_view_);
    across_->setStretchFactor(0, 1);
    across_->setStretchFactor(1, 1);
    across_->setHandleWidth(1);
    setFocusProxy(registers_);
    put_ = tool_button("state_put", tr("Put the target here…"), tr("Write what is known of this state into the halted target; it is asked first, and can be taken back"));
    put_->hide();
    connect(put_, &QToolButton::clicked, this, &StatePage::want_put);
    keep_ = tool_button("state_keep", tr("Keep this picture beside"), tr("It stays while you look at another instruction; what differs is marked"));
    keep_->setCheckable(true);
    connect(keep_, &QToolButton::toggled, this, &StatePage::keep_picture);
    line_ = new QHBoxLayout;
    for (QWidget* part : {static_cast<QWidget*>(hint_), static_cast<QWidget*>(keep_), static_cast<QWidget*>(put_), static_cast<QWidget*>(add_)})
        line_->addWidget(part, part == hint_ ? 1 : 0);
    auto* column = column_in(this, {12, 4, 12, 4}, 3);
    column->addLayout(line_);
    column->addWidget(across_, 1);
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
    for (QTableView* table : {registers_, variables_}) {
        auto* seek = new QAction(tr("To the instruction that changes it next"), table);
        connect(seek, &QAction::triggered, this, [this, table] { seek_change(table); });
        seek->setShortcut(QKeySequence(Qt::CTRL | Qt::ALT | Qt::Key_Right));
        seek->setShortcutContext(Qt::WidgetShortcut);
        table->addAction(seek);
    }
    connect(locals_, &QTreeWidget::itemDoubleClicked, this, [this](QTreeWidgetItem* item) {
        const QVariant step = item->data(0, kStepRole);
        if (step.isValid() && stream_) emit step_wanted(*stream_, step.toULongLong());
    });
    for (const bool opens : {true, false})
        connect(locals_, opens ? &QTreeWidget::itemExpanded : &QTreeWidget::itemCollapsed, this, [this, opens](QTreeWidgetItem* item) {
            if (!filling_) open_locals_[item->data(0, kPathRole).toString()] = opens;
        });
    auto* show = new QAction(tr("Keep among the variables to show"), locals_);
    connect(show, &QAction::triggered, this, [this] {
        const QTreeWidgetItem* item = locals_->currentItem();
        if (item != nullptr && item->parent() != nullptr) watch(item->data(0, kPathRole).toString().section('/', 1));
    });
    auto* copy = new QAction(tr("Copy the value"), locals_);
    copy->setShortcut(QKeySequence::Copy);
    copy->setShortcutContext(Qt::WidgetShortcut);
    connect(copy, &QAction::triggered, this, [this] {
        if (const QTreeWidgetItem* item = locals_->currentItem()) QGuiApplication::clipboard()->setText(item->text(1));
    });
    locals_->addActions({show, copy});
    auto* away = new QShortcut(QKeySequence::Delete, variables_);
    away->setContext(Qt::WidgetWithChildrenShortcut);
    connect(away, &QShortcut::activated, this, [this] {
        if (const int row = variables_->currentIndex().row(); row >= 0 && row < watched_.size()) watched_.removeAt(row);
        keep_watched();
        ask();
    });
    connect(&document, &Document::grew, this, [this] {  // while it is recorded: how it stands now tells more
        const auto trail = document_.trail();
        if (!kept_ || !trail || !stream_ || *stream_ >= trail->steps.size()) return;
        if (trail->steps[*stream_].stands && trail->steps[*stream_].stands != kept_->steps().stands) ask();
    });
    connect(&document, &Document::opened, this, [this] {
        if (progress_) progress_->cancel();
        kept_.reset();
        keep_picture(false);
        shown_.reset();
        found_.reset();
        stream_.reset();
        before_.clear();
        register_model_->clear();
        variable_model_->clear();
        locals_->clear();
        open_locals_.clear();
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

void StatePage::want_put() {
    const auto trail = document_.trail();
    if (shown_ && trail && stream_ && *stream_ < trail->steps.size()) emit put_wanted(words(trail->steps[*stream_].core), shown_);
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
    const auto post = [this, progress = progress_](std::shared_ptr<const Found> found, const QString& trouble) {
        QMetaObject::invokeMethod(
            this,
            [this, found, trouble, progress] {
                if (progress->cancelled()) return;
                found_ = found;
                if (found)
                    fill(*found);
                else
                    hint_->setText(trouble.isEmpty() ? tr("This state cannot be worked out.") : trouble);
            },
            Qt::QueuedConnection);
    };
    jobs_.add([kept = kept_, step = step_, watched = watched_, progress = progress_, post] {
        if (!kept->states) kept->states.emplace(PastStates::of(*kept->recording, kept->steps()));
        if (!*kept->states) return post(nullptr, words(kept->states->error().text()));
        PastStates& states = **kept->states;
        // What the last instructions tell is there at once; all that is known may take long the first time.
        if (states.distance(step) > kAtOnce)
            if (auto glimpse = kept->glimpse(step, *progress)) post(kept->look(std::move(*glimpse), watched, nullptr), {});
        auto state = states.before(step, *progress);
        if (!progress->cancelled()) post(state ? kept->look(std::move(*state), watched, progress.get()) : nullptr, {});
    });
    // Whatever is clicked next is near then.
    jobs_.add([kept = kept_, progress = progress_] {
        if (kept->states && *kept->states) (*kept->states)->execute_all(*progress);
    });
}

StatePage::Cells StatePage::cells(const QString& name, const QString& value, const QString& plain, bool is_known, std::uint64_t set_at,
                                  std::map<QString, QString>& now) {
    Cells c{text_cell(name, true), number_cell(value, 0, plain)};
    if (!is_known)
        c.shown->setForeground(theme().second);
    else if (const auto before = before_.find(name); before != before_.end() && before->second != value)
        c.shown->setForeground(theme().interrupt);
    for (QStandardItem* item : {c.called, c.shown}) {
        if (set_at != Known::kNever) item->setData(qulonglong(set_at), kStepRole);
        item->setToolTip(set_at != Known::kNever ? tr("Written by instruction %1; a double click goes there").arg(words(count_text(set_at)))
                                                 : tr("No instruction that was recorded wrote it"));
    }
    now[name] = value;
    live_.emplace_back(name, value);
    return c;
}

namespace {

// A register's value; of a floating-point register the number too, and after it.
QString shown_of(const std::string& name, std::uint64_t value) {
    const QString hex = words(hex_text(value, 8));
    if (name.empty() || name[0] != 'f') return hex;
    const bool single = value >> 32 == 0 || value >> 32 == 0xFFFF'FFFF;
    const double number = single ? std::bit_cast<float>(static_cast<std::uint32_t>(value)) : std::bit_cast<double>(value);
    return hex + "  " + QString::number(number, 'g', single ? 7 : 12);
}

}  // namespace

int StatePage::fill_registers(const Found& found, std::map<QString, QString>& now) {
    register_model_->clear();
    int known = 0;
    const int rows = static_cast<int>(found.state.registers.size()) + (found.state.flags ? 1 : 0);
    const int high = (rows + blocks_ - 1) / blocks_;
    const auto put = [&](int i, const Cells& cells) {
        register_model_->setItem(i % high, 2 * (i / high), cells.called);
        register_model_->setItem(i % high, 2 * (i / high) + 1, cells.shown);
    };
    for (int i = 0; i < static_cast<int>(found.state.registers.size()); ++i) {
        const auto& [name, value] = found.state.registers[static_cast<std::size_t>(i)];
        known += value.known ? 1 : 0;
        put(i, cells(words(name), value.known ? shown_of(name, value.value) : tr("not known"), value.known ? QString::number(value.value) : QString(),
                     value.known, value.set_at, now));
    }
    if (found.state.flags) {
        Cells flags = cells(tr("flags"), words(flags_text(*found.state.flags)), QString(), found.state.flags->known != 0, Known::kNever, now);
        for (QStandardItem* item : {flags.called, flags.shown}) item->setToolTip(tr("Negative, zero, carry, overflow; ? is not known"));
        put(rows - 1, flags);
    }
    QStringList heads;
    for (int block = 0; block < blocks_; ++block) heads << tr("register") << tr("value");
    register_model_->setHorizontalHeaderLabels(heads);
    // A value stands beside its register, not beside the next one.
    for (int c = 0; c < 2 * blocks_; ++c) {
        const bool value = c % 2 == 1;
        registers_->horizontalHeader()->setSectionResizeMode(c, value ? QHeaderView::Stretch : QHeaderView::ResizeToContents);
        register_model_->setHeaderData(c, Qt::Horizontal, int(Qt::AlignLeft | Qt::AlignVCenter), Qt::TextAlignmentRole);
        for (int row = 0; value && row < register_model_->rowCount(); ++row)
            if (QStandardItem* item = register_model_->item(row, c)) item->setTextAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    }
    return known;
}

// Low and wide: one beside the other; high and narrow, as a column of the Code arrangement: one above the other.
void StatePage::resizeEvent(QResizeEvent* event) {
    QWidget::resizeEvent(event);
    const bool narrow = width() < 620;
    across_->setOrientation(narrow ? Qt::Vertical : Qt::Horizontal);
    hint_->setWordWrap(narrow);
    line_->setDirection(narrow ? QBoxLayout::TopToBottom : QBoxLayout::LeftToRight);
    locals_->setColumnWidth(0, narrow ? 110 : 190);
    locals_->headerItem()->setText(0, narrow ? tr("variable") : tr("function and its variables"));
    locals_->headerItem()->setText(2, narrow ? tr("written by") : tr("written by instruction"));
    const int blocks = std::clamp((narrow ? width() : width() / 2) / 140, 1, 4);
    if (blocks == blocks_) return;
    blocks_ = blocks;
    if (!found_) return;
    std::map<QString, QString> now;
    const auto live = live_;
    fill_registers(*found_, now);
    live_ = live;
}

void StatePage::fill(const Found& found) {
    std::map<QString, QString> now;
    live_.clear();
    const auto row = [&](QStandardItemModel* model, const QString& name, const QString& value, const QString& plain, bool is_known,
                         std::uint64_t set_at) {
        const auto [called, shown] = cells(name, value, plain, is_known, set_at, now);
        model->appendRow({called, shown, number_cell(set_at != Known::kNever ? words(count_text(set_at)) : QStringLiteral("–"), 0,
                                                     set_at != Known::kNever ? QString::number(set_at) : QString())});
    };
    const int known = fill_registers(found, now);
    variable_model_->clear();
    variables_->setVisible(!watched_.isEmpty());
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
            const bool as_bytes = v.text.empty();
            for (const Known& b : v.bytes) {
                is_known = is_known && b.known;
                if (as_bytes) text += b.known ? words(hex_text(b.value, 2)).mid(2) + " " : QStringLiteral("?? ");
                if (b.set_at != Known::kNever && (set == Known::kNever || b.set_at > set)) set = b.set_at;
            }
        }
        row(variable_model_, name,
            v.held_in == "nothing" ? tr("not kept here")
            : text.isEmpty()       ? tr("not known")
                                   : text.trimmed(),
            text.trimmed(), is_known, set);
    }
    fill_locals(found.frames, now);
    variables_->resizeColumnsToContents();
    variables_->setColumnWidth(1, std::clamp(variables_->columnWidth(1), 110, 420));
    restore_columns(*variables_, variables_->objectName());
    if (found.whole) before_ = std::move(now);
    put_->setEnabled(found.whole);
    shown_ = found.whole ? std::make_shared<const HandState>(hand_state_of(found.state)) : nullptr;
    hint_->setText(tr("before instruction %1 at %2: %3 of %4 registers known%5")
                       .arg(words(count_text(found.state.step)), words(hex_text(found.state.pc, 8)))
                       .arg(known)
                       .arg(found.state.registers.size())
                       .arg(!found.whole         ? tr(" from the last %1 instructions · executing all before them …").arg(words(count_text(kAtOnce)))
                            : watched_.isEmpty() ? tr(" · name variables to see them, too")
                                                 : QString()));
    fill_picture();
    emit filled();
}

StatePage::Part StatePage::with_parts(LocalValue value, const Locals& locals, const FrameState& state, int depth, std::size_t& room) {
    Part part{std::move(value), {}};
    if (room > 0) --room;
    if (depth >= kDeepest || room == 0) return part;
    for (LocalValue& inner : locals.parts(part.value, state)) {
        if (room == 0) break;
        part.parts.push_back(with_parts(std::move(inner), locals, state, depth + 1, room));
    }
    return part;
}

// One function a row, its variables below; the innermost is open.
void StatePage::fill_locals(const std::vector<Frame>& frames, std::map<QString, QString>& now) {
    filling_ = true;
    locals_->clear();
    const std::function<void(QTreeWidgetItem*, const Part&, const QString&, const std::string&)> add =
        [&](QTreeWidgetItem* parent, const Part& part, const QString& path, const std::string& function) {
            const LocalValue& v = part.value;
            const std::string value = v.text();
            const bool known = !value.empty();
            const QString text = !v.present ? tr("not kept here") : known ? words(value) : tr("not known");
            const std::uint64_t set_at = v.set_at();
            auto* item = new QTreeWidgetItem(parent, {words(v.name), text, set_at == FrameWord::kNever ? QStringLiteral("–") : words(count_text(set_at))});
            if (!v.function.empty() && v.function != function) item->setText(0, tr("%1 of %2").arg(words(v.name), words(v.function)));
            item->setFont(1, fixed_font());
            item->setTextAlignment(2, Qt::AlignRight);
            if (!known)
                item->setForeground(1, theme().second);
            else if (const auto before = before_.find(path); before != before_.end() && before->second != text)
                item->setForeground(1, theme().interrupt);
            item->setForeground(2, theme().second);
            item->setData(0, kPathRole, path);
            if (set_at != FrameWord::kNever) item->setData(0, kStepRole, qulonglong(set_at));
            item->setToolTip(0, tr("%1%2").arg(words(v.place.type_name), v.argument ? tr(", argument") : QString()));
            item->setToolTip(1, !v.present ? tr("The compiler keeps it nowhere while this instruction runs")
                                : v.in_memory ? tr("at %1").arg(words(hex_text(v.place.address, 8)))
                                              : tr("in a register"));
            now[path] = text;
            if (known) live_.emplace_back(path, text);
            const bool leads = v.kind == LocalValue::Kind::pointer;
            for (const Part& inner : part.parts) {
                const QString name = words(inner.value.name);
                const QString joint = name.startsWith('[') ? QString() : leads ? (name == "*" ? QString() : QStringLiteral("->")) : QStringLiteral(".");
                add(item, inner, name == "*" ? path.section('/', 0, 0) + "/*" + path.section('/', 1) : path + joint + name, function);
            }
            if (const auto chosen = open_locals_.find(path); chosen != open_locals_.end()) item->setExpanded(chosen->second);
        };
    for (std::size_t i = 0; i < frames.size(); ++i) {
        const QString path = words(frames[i].function);
        auto* frame = new QTreeWidgetItem(locals_, {path, QString(), QString()});
        frame->setToolTip(0, i == 0 ? tr("at %1").arg(words(hex_text(frames[i].pc, 8))) : tr("goes on at %1").arg(words(hex_text(frames[i].pc, 8))));
        frame->setData(0, kPathRole, path);
        if (frames[i].parts.empty()) {
            frame->setText(1, tr("no variables"));
            frame->setForeground(1, theme().second);
        }
        for (const Part& part : frames[i].parts) add(frame, part, path + "/" + words(part.value.name), frames[i].function);
        const auto chosen = open_locals_.find(path);
        frame->setExpanded(chosen == open_locals_.end() ? i == 0 : chosen->second);
    }
    filling_ = false;
}

void StatePage::keep_picture(bool on) {
    picture_ = on ? live_ : std::vector<std::pair<QString, QString>>();
    keep_->setChecked(on);
    kept_view_->setVisible(on && !picture_.empty());
    if (on && across_->orientation() == Qt::Horizontal) across_->setSizes({420, 300, 200, 420});
    kept_model_->setHorizontalHeaderLabels({});
    if (on) kept_model_->setObjectName(tr("instruction %1").arg(words(count_text(step_))));
    fill_picture();
}

// The kept picture beside what stands there now.
void StatePage::fill_picture() {
    if (picture_.empty()) return;
    kept_model_->clear();
    kept_model_->setHorizontalHeaderLabels({tr("kept of %1").arg(kept_model_->objectName()), tr("value then"), tr("value now")});
    const std::map<QString, QString> now(live_.begin(), live_.end());
    for (const auto& [name, value] : picture_) {
        const auto found = now.find(name);
        const QString here = found == now.end() ? tr("not shown") : found->second;
        auto *called = text_cell(name, true), *then = number_cell(value, 0, value), *is = number_cell(here, 0, here);
        for (QStandardItem* item : {then, is})
            if (here != value)
                item->setForeground(theme().interrupt);
            else if (here == tr("not known"))
                item->setForeground(theme().second);
        kept_model_->appendRow({called, then, is});
    }
    kept_view_->resizeColumnsToContents();
}

void StatePage::seek_change(const QTableView* table) {
    const auto trail = document_.trail();
    const QModelIndex at = table->currentIndex();
    if (!at.isValid() || !kept_ || !kept_->states || !*kept_->states || !trail || !stream_) return;
    const int column = table == registers_ ? at.column() / 2 * 2 : 0;
    const QString name = table->model()->index(at.row(), column).data().toString();
    PastStates::Watched watched;
    if (table == registers_) {
        watched.name = name.toStdString();
    } else {
        const auto place = find_data(document_.recording()->target.cores[trail->steps[*stream_].core_index], name.toStdString());
        if (!place) return hint_->setText(words(place.error().text()));
        watched.address = place->address;
        watched.bytes = static_cast<unsigned>(std::clamp<std::uint64_t>(place->size, 1, 8));
    }
    if (progress_) progress_->cancel();
    progress_ = std::make_shared<Progress>();
    jobs_.clear();
    hint_->setText(tr("looking for the next change of %1 …").arg(name));
    jobs_.add([this, kept = kept_, watched, name, step = step_, progress = progress_] {
        const auto found = (*kept->states)->next_change(step, watched, *progress);
        QMetaObject::invokeMethod(
            this,
            [this, found, name, progress, stream = kept->stream] {
                if (progress->cancelled()) return;
                if (found)
                    emit step_wanted(stream, *found);
                else
                    hint_->setText(tr("%1 is not changed any more.").arg(name));
            },
            Qt::QueuedConnection);
    });
}

}  // namespace mt::app
