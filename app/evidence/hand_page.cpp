#include "evidence/hand_page.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QMenu>
#include <QMessageBox>
#include <QPointer>
#include <QSettings>
#include <QTreeWidgetItemIterator>
#include <QShortcut>
#include <QSplitter>
#include <QVBoxLayout>

#include <algorithm>

#include "base/kept_file.h"
#include "base/text.h"
#include "control/kept_points.h"
#include "look/layout.h"
#include "look/page_parts.h"
#include "look/theme.h"
#include "look/words.h"
#include "share/put_there.h"

namespace mt::app {
namespace {

constexpr int kValue = 1;                               // the column
constexpr int kOfRole = Qt::UserRole;                   // expression of a row, or a group's name
constexpr int kShownRole = Qt::UserRole + 1;            // the value that stands there
constexpr int kPeripheralRole = Qt::UserRole + 2;       // index of a peripheral
constexpr int kFrameRole = Qt::UserRole + 3;            // of a function on the stack: how many it called
constexpr int kPathRole = Qt::UserRole + 4;             // function and name of a local variable

QWidget* column_of(std::initializer_list<QWidget*> line, QWidget* body) {
    auto* w = new QWidget;
    auto* column = bare_column(w, 2);
    auto* row = new QHBoxLayout;
    for (QWidget* part : line) row->addWidget(part);
    if (line.size() > 0) column->addLayout(row);
    column->addWidget(body, 1);
    return w;
}

// What the core's register groups are called for people.
QString group_words(const std::string& group) {
    if (group == "general" || group == "cpu" || group == "m-profile" || group == "core") return HandPage::tr("core");
    if (group == "float" || group == "fpu" || group == "vfp") return HandPage::tr("floating point");
    if (group == "csr" || group == "system" || group == "m-system") return HandPage::tr("special and machine");
    if (group == "virtual") return HandPage::tr("mode");
    return group.empty() ? HandPage::tr("others") : words(group);
}

}  // namespace

HandPage::HandPage(Document& document, LiveSession& live, QWidget* parent)
    : QWidget(parent), document_(document), live_(live) {
    setAccessibleName(tr("Target in hand"));
    cores_ = new QComboBox;
    cores_->setObjectName("hand_core");
    cores_->setAccessibleName(tr("Core in hand"));
    const auto button = [this](const char* name, const QString& text, const QString& tip, const QString& what) {
        auto* b = tool_button(name, text, tip);
        b->setFocusPolicy(Qt::TabFocus);
        connect(b, &QToolButton::clicked, this, [this, what] { command(what); });
        return b;
    };
    go_ = tool_button("hand_go", tr("Halt"), tr("Let the core run, or halt it (F6)"));
    connect(go_, &QToolButton::clicked, this, &HandPage::go_or_halt);
    steps_ = {button("hand_step", tr("Instruction"), tr("Execute one instruction (F7)"), "step"),
              button("hand_line", tr("Line"), tr("Up to another source line, into calls (F8)"), "step line"),
              button("hand_over", tr("Over"), tr("Up to another source line, not into calls (F9)"), "step over"),
              button("hand_out", tr("Out"), tr("Up to the return from this function (Shift+F9)"), "step out")};
    auto* reset = button("hand_reset", tr("Reset"), tr("Reset the core with the recipe's command; it stands still then"), "reset");
    undo_ = button("hand_undo", tr("Take back"), tr("Take the last change of the target back"), "undo");
    together_ = new QCheckBox(tr("together"));
    together_->setObjectName("hand_together");
    together_->setToolTip(tr("What one core does, the others do: go, halt, step, reset; when one stops, all stop"));
    writing_ = new QCheckBox(tr("writing"));
    writing_->setObjectName("hand_writing");
    writing_->setToolTip(tr("Registers, variables and memory may be changed: a double click on a value. Each change is noted in the recording"));
    where_ = hint_label("hand_where");
    registers_ = tree_of_values("hand_registers", tr("Registers"), {tr("register"), tr("value")});
    variables_ = tree_of_values("hand_variables", tr("Variables"), {tr("variable"), tr("value")});
    memory_ = new MemoryView(live, {[this] { return at_hand() ? core() : QString(); }, [this] { return core_isa(); }, [this] { return writing_->isChecked(); }});
    points_ = tree_of_values("hand_points", tr("Breakpoints and watchpoints"), {tr("stops"), tr("core"), tr("hits")});
    points_->setRootIsDecorated(false);
    points_->header()->setStretchLastSection(false);
    points_->header()->setSectionResizeMode(0, QHeaderView::Stretch);
    for (const int narrow : {1, 2}) points_->header()->setSectionResizeMode(narrow, QHeaderView::ResizeToContents);
    const auto field = [](const char* name, const QString& hint, const QString& tip) {
        auto* f = new QLineEdit;
        f->setObjectName(name);
        f->setPlaceholderText(hint);
        f->setAccessibleName(hint);
        f->setToolTip(tip);
        return f;
    };
    add_variable_ = field("hand_add_variable", tr("Variable: guide.state"),
                          tr("A variable, a member, an element, or *(uint32_t*)0x20000100; Enter adds it, Delete takes one away"));
    add_point_ = field("hand_add_point", tr("Stop: guide_task if n > 3"),
                       tr("PLACE [hardware] [if VALUE OP NUMBER] [count N] [say TEXT], or watch VALUE [read|write|access] …, also of FIRST..LAST; Enter sets it"));
    auto* across = new QSplitter(Qt::Horizontal);
    across->setHandleWidth(1);
    across->addWidget(column_of({}, registers_));
    across->addWidget(column_of({add_variable_}, variables_));
    across->addWidget(memory_);
    across->addWidget(column_of({add_point_}, points_));
    across->setSizes({260, 280, 380, 280});
    lay_page(*this, {cores_, go_, steps_[0], steps_[1], steps_[2], steps_[3], reset, together_, where_, writing_, undo_}, where_, across);
    setFocusProxy(registers_);

    connect(cores_, &QComboBox::activated, this, [this] {
        ++rows_;
        registers_->clear();
        read();
        renew();
    });
    connect(writing_, &QCheckBox::toggled, this, [this](bool on) {
        live_.allow_writing(on);
        renew();
    });
    connect(together_, &QCheckBox::toggled, this, [this](bool on) {
        QStringList names;
        for (int i = 0; i < cores_->count(); ++i) names << cores_->itemText(i);
        command(on ? "together " + names.join(' ') : "apart");
    });
    connect(add_variable_, &QLineEdit::returnPressed, this, [this] {
        if (!add_variable_->text().trimmed().isEmpty()) watch(add_variable_->text().trimmed());
        add_variable_->clear();
    });
    connect(memory_, &MemoryView::told, this, &HandPage::told);
    connect(memory_, &MemoryView::changed, this, &HandPage::read);
    connect(add_point_, &QLineEdit::returnPressed, this, &HandPage::add_point);
    for (QTreeWidget* t : {registers_, variables_}) {
        connect(t, &QTreeWidget::itemDoubleClicked, this, [this, t](QTreeWidgetItem* item, int) {
            if (!item->data(kValue, kOfRole).isValid()) return;
            if (item->data(kValue, kShownRole).toString().isEmpty()) {  // reading it does something: asked for now
                live_.ask(core() + ": read " + item->data(kValue, kOfRole).toString(), [this, item, rows = rows_](const auto& answers) {
                    if (rows != rows_) return;  // the row is gone
                    if (!answers) return void(emit told(words(answers.error().text()), true));
                    put(item, words(answers->front().values.front().text), true);
                });
                return;
            }
            if (!writing_->isChecked()) return void(emit told(tr("The target may only be looked at. Switch “writing” on to change it."), false));
            item->setFlags(item->flags() | Qt::ItemIsEditable);
            t->editItem(item, kValue);
        });
        connect(t, &QTreeWidget::itemChanged, this, [this, t](QTreeWidgetItem* item, int column) {
            if (!filling_ && column == kValue) edited(item, t == registers_);
        });
    }
    connect(registers_, &QTreeWidget::itemExpanded, this, &HandPage::read_peripheral);
    for (const bool opens : {true, false})
        connect(variables_, opens ? &QTreeWidget::itemExpanded : &QTreeWidget::itemCollapsed, this, [this, opens](QTreeWidgetItem* item) {
            if (!filling_ && item->data(0, kPathRole).isValid()) open_locals_[item->data(0, kPathRole).toString()] = opens;
        });
    variables_->setContextMenuPolicy(Qt::ActionsContextMenu);
    for (const auto& [text, how] : {std::pair{tr("Stop when it is written"), "write"}, {tr("Stop when it is read or written"), "access"}}) {
        auto* stop = new QAction(text, variables_);
        connect(stop, &QAction::triggered, this, [this, how = QString(how)] {
            const QTreeWidgetItem* item = variables_->currentItem();
            const QString of = item != nullptr ? item->data(kValue, kOfRole).toString() : QString();
            if (of.isEmpty()) return;
            add_point_->setText("watch " + of + " " + how);
            add_point();
        });
        variables_->addAction(stop);
    }
    const auto on_delete = [this](QTreeWidget* t, auto what) {
        auto* away = new QShortcut(QKeySequence::Delete, t);
        away->setContext(Qt::WidgetWithChildrenShortcut);
        connect(away, &QShortcut::activated, this, what);
    };
    on_delete(variables_, [this] {
        QTreeWidgetItem* item = variables_->currentItem();
        if (item == nullptr || item->parent() != nullptr || item->data(0, kFrameRole).isValid()) return;
        watched_.removeAll(item->text(0));
        ++rows_;
        delete item;
        QSettings().setValue(place(), watched_);
    });
    on_delete(points_, [this] {
        const QTreeWidgetItem* item = points_->currentItem();
        if (item == nullptr) return;
        live_.ask(item->text(1) + ": clear " + item->data(0, kOfRole).toString(), [this](const auto& answers) {
            if (!answers) emit told(words(answers.error().text()), true);
            fill_points();
            keep_points();
        });
    });
    connect(&live, &LiveSession::renewed, this, &HandPage::renew);
    connect(&live, &LiveSession::ended, this, [this] {
        was_at_hand_ = points_sent_ = false;
        writing_->setChecked(false);
    });
}

QString HandPage::stands() const {
    const RunState::Core* c = core_state();
    return at_hand() && c != nullptr && !c->running && !c->lost ? tr("%1 halted at %2").arg(core(), words(hex_text(c->pc, 8))) : QString();
}

const RunState::Core* HandPage::core_state() const {
    const auto& cores = live_.state().cores;
    const auto found = std::find_if(cores.begin(), cores.end(), [this](const auto& c) { return words(c.name) == core(); });
    return found == cores.end() ? nullptr : &*found;
}

QString HandPage::core_isa() const {
    const auto recording = document_.recording();
    if (recording)
        for (const CoreSpec& c : recording->target.cores)
            if (words(c.name) == core()) return words(c.isa);
    return {};
}

bool HandPage::has_something() const {
    const auto& cores = live_.state().cores;
    return live_.recording() && std::any_of(cores.begin(), cores.end(), [](const auto& c) { return c.debug && !c.lost; });
}

QString HandPage::place() const {
    return "hand/watched/" + QString::fromUtf8(words(live_.recipe() ? live_.recipe()->target : std::string()).toUtf8().toHex());
}

QString HandPage::points_path() const {
    return live_.recipe() ? words(kept_file_path(live_.recipe()->target, "points")) : QString();
}

void HandPage::began() {
    ++rows_;
    stands_.clear();
    registers_->clear();
    variables_->clear();
    memory_->clear();
    points_->clear();
    peripherals_.reset();
    const QSignalBlocker quiet(together_);
    together_->setChecked(false);
    const QString before = core();
    cores_->clear();
    for (const auto& c : live_.state().cores)
        if (c.debug) cores_->addItem(words(c.name));
    cores_->setCurrentIndex(std::max(0, cores_->findText(before)));
    together_->setVisible(cores_->count() > 1);
    watched_ = QSettings().value(place()).toStringList();
    for (const QString& name : watched_) {
        auto* item = new QTreeWidgetItem(variables_, {name, QString()});
        item->setData(kValue, kOfRole, name);
    }
    const auto kept = read_points(points_path().toStdString());
    if (!kept) return void(emit told(words(kept.error().text()), true));
    std::size_t left = kept->size();
    points_sent_ = left == 0;
    for (const KeptPoint& p : *kept)
        live_.ask(words(p.core) + ": " + words(p.command), [this, last = --left == 0](const auto& answers) {
            if (!answers) emit told(words(answers.error().text()), true);
            points_sent_ = points_sent_ || last;
            fill_points();
        });
}

void HandPage::renew() {
    const bool at_hand = has_something();
    if (at_hand && !was_at_hand_) began();
    was_at_hand_ = at_hand;
    const RunState::Core* c = core_state();
    const bool stands = at_hand && c != nullptr && !c->running && !c->lost;
    go_->setEnabled(at_hand && c != nullptr && !c->lost);
    go_->setText(stands ? tr("Go") : tr("Halt"));
    for (QToolButton* b : steps_) b->setEnabled(stands);
    undo_->setEnabled(live_.state().hand.undoable > 0 && writing_->isChecked());
    if (!at_hand || c == nullptr) return where_->setText(tr("A target is in hand while it is recorded through a debug server."));
    QString text;
    if (c->lost)
        text = tr("the debug server is lost");
    else if (c->running)
        text = tr("runs");
    else
        text = tr("stands at %1").arg(c->place.empty() ? words(hex_text(c->pc, 8)) : words(c->place)) +
               (c->reason.empty() ? QString() : ": " + words(c->reason));
    const auto& hand = live_.state().hand;
    if (hand.brief_halts > 0)
        text += tr(" · halted %1 to look, for %2 in all")
                    .arg(words(plural(hand.brief_halts, "time", "times")), words(duration_text(Time::from_ns(hand.brief_halt_s * 1e9))));
    if (!hand.said.empty()) text += tr(" · said: %1").arg(words(hand.said.back()));
    where_->setText(text);
    fill_points();
    std::size_t index = 0;
    for (const auto& other : live_.state().cores) {
        const QString name = words(other.name);
        if (other.stands > stands_[name]) {
            stands_[name] = other.stands;
            const auto recording = document_.recording();
            if (recording)
                for (std::size_t i = 0; i < recording->target.cores.size(); ++i)
                    if (recording->target.cores[i].name == other.name) index = i;
            if (name == core()) {
                read();
                emit stood(index);
            }
        }
    }
}

void HandPage::go_or_halt() {
    const RunState::Core* c = core_state();
    if (at_hand() && c != nullptr) command(c->running ? "halt" : "go");
}

void HandPage::command(const QString& what) {
    if (!at_hand()) return;
    live_.ask(core() + ": " + what, [this](const Result<std::vector<HandAnswer>>& answers) {
        if (!answers) return void(emit told(words(answers.error().text()), true));
        for (const HandAnswer& a : *answers)
            if (!a.as_wanted) emit told(words(a.core + ": " + a.reason), false);
        renew();
    });
}

void HandPage::put_there(const QString& of, std::shared_ptr<const HandState> state) {
    const int at = cores_->findText(of);
    if (!at_hand() || at < 0) return void(emit told(tr("Core %1 is not in hand.").arg(of), true));
    if (at != cores_->currentIndex()) {
        cores_->setCurrentIndex(at);
        emit cores_->activated(at);
    }
    const RunState::Core* c = core_state();
    if (c == nullptr || c->running) return void(emit told(tr("Core %1 runs. Halt it first.").arg(of), true));
    const auto answer = QMessageBox::question(
        this, tr("Put the target there?"),
        tr("Core %1 becomes as it was before instruction %2.\n\n%3.\n\nIt can be taken back.")
            .arg(of, words(count_text(state->step)), words(put_text(*state))));
    if (answer != QMessageBox::Yes) return;
    writing_->setChecked(true);
    HandCommand command;
    command.kind = HandCommand::Kind::put;
    command.core = of.toStdString();
    command.text = "put";
    command.state = std::move(state);
    live_.ask(std::move(command), [this](const Result<std::vector<HandAnswer>>& answers) {
        if (!answers) return void(emit told(words(answers.error().text()), true));
        emit told(words(answers->front().core + ": " + answers->front().reason), false);
        read();
    });
}

// Registers first, then what a person named.
void HandPage::read() {
    if (!at_hand()) return;
    live_.ask(core() + ": registers", [this, of = core()](const Result<std::vector<HandAnswer>>& answers) {
        if (answers && of == core()) fill_registers(answers->front().values);
    });
    live_.ask(core() + ": locals", [this, of = core()](const Result<std::vector<HandAnswer>>& answers) {
        if (of == core()) fill_locals(answers ? answers->front().locals : std::vector<HandAnswer::Value>());
    });
    for (int i = 0; i < variables_->topLevelItemCount(); ++i) {
        if (variables_->topLevelItem(i)->data(0, kFrameRole).isValid()) continue;
        const QString name = variables_->topLevelItem(i)->text(0);
        live_.ask(core() + ": read " + name, [this, name](const Result<std::vector<HandAnswer>>& answers) {
            for (int row = 0; row < variables_->topLevelItemCount(); ++row)
                if (QTreeWidgetItem* item = variables_->topLevelItem(row); item->text(0) == name && !item->data(0, kFrameRole).isValid())
                    put(item, answers ? words(answers->front().values.front().text) : words(answers.error().what), answers.has_value());
        });
    }
    memory_->renew();
    for (int i = 0; i < registers_->topLevelItemCount(); ++i)
        for (int p = 0; p < registers_->topLevelItem(i)->childCount(); ++p)
            if (QTreeWidgetItem* item = registers_->topLevelItem(i)->child(p); item->isExpanded()) read_peripheral(item);
}

void HandPage::put(QTreeWidgetItem* item, const QString& value, bool known) {
    filling_ = true;
    const QString before = item->data(kValue, kShownRole).toString();
    item->setText(kValue, value);
    item->setFont(kValue, fixed_font());
    item->setData(kValue, kShownRole, known ? value : QString());
    item->setForeground(kValue, !known                                   ? theme().second
                                : before.isEmpty() || before == value ? theme().text
                                                                         : theme().interrupt);
    item->setToolTip(kValue, !known ? value : before.isEmpty() || before == value ? QString() : tr("was %1 where it stood before").arg(before));
    filling_ = false;
}

// Below the variables that were named: functions on the stack with theirs.
void HandPage::fill_locals(const std::vector<HandAnswer::Value>& locals) {
    filling_ = true;
    std::map<QString, QString> before;
    before.swap(local_values_);
    for (int i = variables_->topLevelItemCount(); i-- > 0;)
        if (variables_->topLevelItem(i)->data(0, kFrameRole).isValid()) delete variables_->takeTopLevelItem(i);
    std::vector<QTreeWidgetItem*> in;  // the row of each depth
    int frames = 0;
    for (const HandAnswer::Value& v : locals) {
        in.resize(v.depth);
        const QString key = words(v.group + "/" + v.name);
        QTreeWidgetItem* item = nullptr;
        if (v.depth == 0) {
            item = new QTreeWidgetItem(variables_, {words(v.name), words(v.text)});
            item->setData(0, kFrameRole, frames++);
            item->setForeground(kValue, theme().second);
        } else if (in.back() != nullptr) {
            item = new QTreeWidgetItem(in.back(), {words(v.name), words(v.text)});
            item->setFont(kValue, fixed_font());
            const auto was = before.find(key);
            const bool other = was != before.end() && was->second != words(v.text);
            item->setForeground(kValue, !v.known ? theme().second : other ? theme().interrupt : theme().text);
            if (other) item->setToolTip(kValue, tr("was %1 where it stood before").arg(was->second));
            // Those of the innermost function can be named by a command.
            if (v.known && frames == 1) {
                item->setData(kValue, kOfRole, words(v.name).section(QStringLiteral(": "), -1));
                item->setData(kValue, kShownRole, words(v.text));
            }
            local_values_[key] = words(v.text);
        }
        if (item != nullptr) item->setData(0, kPathRole, key);
        in.push_back(item);
    }
    // Expanding takes effect once a row has children.
    for (QTreeWidgetItemIterator it(variables_); *it != nullptr; ++it) {
        const auto chosen = open_locals_.find((*it)->data(0, kPathRole).toString());
        const bool first = (*it)->data(0, kFrameRole).isValid() && (*it)->data(0, kFrameRole).toInt() == 0;
        (*it)->setExpanded(chosen == open_locals_.end() ? first : chosen->second);
    }
    filling_ = false;
}

void HandPage::fill_registers(const std::vector<HandAnswer::Value>& values) {
    if (registers_->topLevelItemCount() == 0) {
        std::map<QString, QTreeWidgetItem*> groups;
        for (const auto& v : values) {
            const QString name = group_words(v.group);
            QTreeWidgetItem*& group = groups[name];
            if (group == nullptr) {
                group = new QTreeWidgetItem(registers_, {name});
                group->setFirstColumnSpanned(true);
                group->setExpanded(groups.size() == 1);
            }
            auto* item = new QTreeWidgetItem(group, {words(v.name), QString()});
            item->setData(kValue, kOfRole, words(v.name));
        }
        fill_peripherals();
    }
    std::map<QString, QString> by_name;
    for (const auto& v : values) by_name[words(v.name)] = words(v.text);
    for (int g = 0; g < registers_->topLevelItemCount(); ++g)
        for (int i = 0; i < registers_->topLevelItem(g)->childCount(); ++i) {
            QTreeWidgetItem* item = registers_->topLevelItem(g)->child(i);
            if (item->data(0, kPeripheralRole).isValid()) continue;
            const auto found = by_name.find(item->text(0));
            put(item, found == by_name.end() ? tr("not known") : found->second, found != by_name.end());
        }
}

// The SVD file is read on a worker: it may be large.
void HandPage::fill_peripherals() {
    const auto recording = document_.recording();
    if (!recording) return;
    std::string path;
    for (const CoreSpec& c : recording->target.cores)
        if (words(c.name) == core()) path = c.svd;
    if (path.empty()) return;
    jobs_.add([this, path, rows = rows_] {
        auto read = read_svd_registers(path);
        auto all = read ? std::make_shared<const std::vector<SvdPeripheral>>(std::move(*read)) : nullptr;
        const QString trouble = read ? QString() : words(read.error().text());
        QMetaObject::invokeMethod(
            this,
            [this, all, trouble, rows] {
                if (rows != rows_) return;
                if (!all) return void(emit told(trouble, true));
                peripherals_ = all;
                filling_ = true;
                auto* group = new QTreeWidgetItem(registers_, {tr("peripherals")});
                group->setFirstColumnSpanned(true);
                for (std::size_t p = 0; p < all->size(); ++p) {
                    auto* item = new QTreeWidgetItem(group, {words((*all)[p].name), words(hex_text((*all)[p].base, 8))});
                    item->setData(0, kPeripheralRole, qulonglong(p));
                    item->setToolTip(0, words((*all)[p].description));
                    item->setForeground(kValue, theme().second);
                    item->setChildIndicatorPolicy(QTreeWidgetItem::ShowIndicator);
                }
                filling_ = false;
            },
            Qt::QueuedConnection);
    });
}

// Its registers, read now; those that reading changes only when they are asked for.
void HandPage::read_peripheral(QTreeWidgetItem* item) {
    if (!item->data(0, kPeripheralRole).isValid() || !peripherals_) return;
    const SvdPeripheral& p = (*peripherals_)[static_cast<std::size_t>(item->data(0, kPeripheralRole).toULongLong())];
    const auto add = [this](QTreeWidgetItem* to, const QString& name, const std::string& description, const QString& of, bool acts, bool can_read) {
        auto* row = new QTreeWidgetItem(to, {name, QString()});
        row->setToolTip(0, words(description));
        if (can_read) row->setData(kValue, kOfRole, of);
        filling_ = true;
        row->setText(kValue, !can_read ? tr("can only be written") : acts ? tr("reading it acts: double click") : QString());
        row->setForeground(kValue, theme().second);
        filling_ = false;
    };
    if (item->childCount() == 0)
        for (const SvdRegister& r : p.registers) {
            const QString of = words(p.name) + "." + words(r.name);
            const bool acts = r.reading_acts || std::any_of(r.fields.begin(), r.fields.end(), [](const SvdField& f) { return f.reading_acts; });
            add(item, words(r.name), r.description, of, acts, r.access != SvdAccess::write_only);
            for (const SvdField& f : r.fields)
                add(item->child(item->childCount() - 1), words(f.name), f.description, of + "." + words(f.name), acts,
                    r.access != SvdAccess::write_only && f.access != SvdAccess::write_only);
        }
    const auto ask = [this](QTreeWidgetItem* row, bool acts) {
        const QString of = row->data(kValue, kOfRole).toString();
        if (of.isEmpty() || acts) return;
        live_.ask(core() + ": read " + of, [this, row, rows = rows_](const Result<std::vector<HandAnswer>>& answers) {
            if (rows != rows_) return;  // the row is gone
            put(row, answers ? words(answers->front().values.front().text) : words(answers.error().what), answers.has_value());
        });
    };
    for (int i = 0; i < item->childCount() && static_cast<std::size_t>(i) < p.registers.size(); ++i) {
        const SvdRegister& r = p.registers[static_cast<std::size_t>(i)];
        const bool acts = r.reading_acts || std::any_of(r.fields.begin(), r.fields.end(), [](const SvdField& f) { return f.reading_acts; });
        ask(item->child(i), acts);
        for (int f = 0; f < item->child(i)->childCount(); ++f) ask(item->child(i)->child(f), acts);
    }
}

void HandPage::watch(const QString& expression) {
    if (!watched_.contains(expression)) {
        watched_ << expression;
        auto* item = new QTreeWidgetItem({expression, QString()});
        item->setData(kValue, kOfRole, expression);
        variables_->insertTopLevelItem(static_cast<int>(watched_.size()) - 1, item);  // before the functions
        variables_->resizeColumnToContents(0);
        QSettings().setValue(place(), watched_);
    }
    read();
}

void HandPage::edited(QTreeWidgetItem* item, bool is_register) {
    const QString value = item->text(kValue).trimmed(), shown = item->data(kValue, kShownRole).toString();
    const QString of = item->data(kValue, kOfRole).toString();
    const bool of_core = is_register && !of.contains('.');
    filling_ = true;
    item->setFlags(item->flags() & ~Qt::ItemIsEditable);
    item->setText(kValue, shown);
    filling_ = false;
    if (of.isEmpty() || value.isEmpty() || value == shown) return;
    live_.ask(core() + (of_core ? ": set " : ": write ") + of + " " + value, [this](const Result<std::vector<HandAnswer>>& answers) {
        if (!answers) return void(emit told(words(answers.error().text()), true));
        if (!live_.state().hand.written.empty()) emit told(tr("Written: %1").arg(words(live_.state().hand.written.back())), false);
        read();
    });
}

void HandPage::fill_points() {
    const auto& all = live_.state().hand.points;
    while (points_->topLevelItemCount() > static_cast<int>(all.size())) delete points_->topLevelItem(points_->topLevelItemCount() - 1);
    for (std::size_t i = 0; i < all.size(); ++i) {
        QTreeWidgetItem* item = points_->topLevelItem(static_cast<int>(i));
        if (item == nullptr) item = new QTreeWidgetItem(points_);
        QString text = words(all[i].text);
        if (const auto colon = text.indexOf(": "); colon > 0 && text.left(colon) == words(all[i].core)) text = text.mid(colon + 2);
        if (text.startsWith("break ")) text = text.mid(6);
        item->setText(0, text);
        const QString at = all[i].address ? words(hex_text(*all[i].address, 8)) : QString();
        item->setToolTip(0, all[i].hardware ? tr("%1, in hardware: it takes a comparator of the core").arg(at) : at);
        item->setText(1, words(all[i].core));
        item->setText(2, words(count_text(all[i].hits)));
        item->setData(0, kOfRole, words(all[i].place));
    }
}

void HandPage::add_point() {
    const QString text = add_point_->text().trimmed();
    if (text.isEmpty()) return;
    const bool whole = text.startsWith("break ") || text.startsWith("watch ");
    live_.ask(core() + ": " + (whole ? text : "break " + text), [this](const Result<std::vector<HandAnswer>>& answers) {
        if (!answers) return void(emit told(words(answers.error().text()), true));
        add_point_->clear();
        fill_points();
        keep_points();
    });
}

void HandPage::toggle_stop(const QString& at) {
    for (const HandPoint& p : live_.state().hand.points)
        if (words(p.place) == at && words(p.core) == core()) {
            live_.ask(core() + ": clear " + at, [this](const auto& answers) {
                if (!answers) emit told(words(answers.error().text()), true);
                fill_points();
                keep_points();
            });
            return;
        }
    add_point_->setText(at);
    add_point();
}

// Once those that were kept are set again: else they would be lost.
void HandPage::keep_points() {
    if (!points_sent_ || !live_.recipe()) return;
    std::vector<KeptPoint> all;
    for (const HandPoint& p : live_.state().hand.points) {
        std::string command = p.text;
        if (command.rfind(p.core + ": ", 0) == 0) command = command.substr(p.core.size() + 2);
        all.push_back({p.core, command});
    }
    if (auto kept = write_points(all, points_path().toStdString()); !kept) emit told(words(kept.error().text()), true);
}

}  // namespace mt::app
