#include "record/trace_page.h"

#include <QGridLayout>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QInputDialog>
#include <QScrollArea>
#include <QSettings>
#include <QSplitter>
#include <QVBoxLayout>

#include "base/text.h"
#include "control/units/cost.h"
#include "judge/trace_rates.h"
#include "look/form_rows.h"
#include "look/layout.h"
#include "look/theme.h"
#include "look/words.h"
#include "record/cost_bars.h"
#include "record/trace_more.h"

namespace mt::app {
namespace {

const QStringList kTells = {"value", "pc", "value+pc", "address", "value+address"};

}  // namespace

TracePage::TracePage(QWidget* parent) : QWidget(parent) {
    auto* heading = new QLabel(tr("What to trace"));
    heading->setFont(text_font(16, true));
    cores_ = choice("trace_core", {});
    cores_->setAccessibleName(tr("Core"));
    preset_ = choice("trace_preset", {});
    preset_->setAccessibleName(tr("Start from"));
    look_ = new QPushButton(tr("Look at the target"));
    look_->setObjectName("trace_look");
    auto* back = new QPushButton(tr("How to record"));
    back->setObjectName("trace_back");
    auto* head = new QHBoxLayout;
    head->setSpacing(8);
    head->addWidget(heading);
    head->addWidget(cores_);
    head->addStretch();
    head->addWidget(caption(tr("Start from")));
    head->addWidget(preset_);
    head->addWidget(look_);
    head->addWidget(back);

    auto* split = new QSplitter;
    split->addWidget(build_form());
    split->addWidget(build_right());
    split->setStretchFactor(0, 0);
    split->setStretchFactor(1, 1);
    split->setSizes({440, 800});
    split->setChildrenCollapsible(false);
    auto* column = column_in(this, {20, 12, 20, 10}, 8);
    column->addLayout(head);
    column->addWidget(split, 1);

    connect(look_, &QPushButton::clicked, this, &TracePage::look);
    connect(back, &QPushButton::clicked, this, &TracePage::back_wanted);
    connect(cores_, &QComboBox::textActivated, this, &TracePage::show_core);
    connect(preset_, &QComboBox::activated, this, &TracePage::use_preset);
    show_presets();
}

TracePage::~TracePage() {
    if (progress_) progress_->cancel();
    if (looker_.joinable()) looker_.join();
}

// Those that come with the program, own ones, and a way to keep another.
void TracePage::show_presets() {
    preset_->clear();
    preset_->addItem(tr("a question …"));
    for (const auto& p : trace_presets()) {
        preset_->addItem(words(p.name));
        preset_->setItemData(preset_->count() - 1, words(p.meaning), Qt::ToolTipRole);
    }
    QSettings settings;
    settings.beginGroup("wishes");
    const QStringList own = settings.childKeys();
    if (!own.isEmpty()) preset_->insertSeparator(preset_->count());
    for (const QString& name : own) preset_->addItem(name, settings.value(name).toString());
    preset_->insertSeparator(preset_->count());
    preset_->addItem(tr("Keep this wish as…"));
    if (!own.isEmpty()) preset_->addItem(tr("Forget one of mine…"));
}

void TracePage::use_preset(int index) {
    const QString text = preset_->itemData(index).toString();
    const QString said = preset_->itemText(index);
    preset_->setCurrentIndex(0);
    const auto& ours = trace_presets();
    const bool built_in = index >= 1 && static_cast<std::size_t>(index) <= ours.size();
    if (built_in || !text.isEmpty()) {
        const auto read = built_in ? Result<TraceWish>(ours[static_cast<std::size_t>(index) - 1].wish)
                                   : parse_trace_wish(text.toStdString());
        if (!read) return;
        TraceWish w = *read;
        w.core = base_.core;
        if (w.to == TraceWish::To::unsaid) w.to = base_.to;
        w.baud = base_.baud;
        if (!w.variables.empty() && w.variables[0].of.empty())
            w.variables[0].of = base_.variables.empty() ? "" : base_.variables[0].of;
        show_wish(w);
        take();
        return;
    }
    if (said == tr("Keep this wish as…")) {
        const QString name = QInputDialog::getText(this, tr("Keep this wish"), tr("As the answer to which question?"));
        if (!name.trimmed().isEmpty()) keep_wish(name.trimmed());
    } else if (said == tr("Forget one of mine…")) {
        QSettings settings;
        settings.beginGroup("wishes");
        bool chosen = false;
        const QString name =
            QInputDialog::getItem(this, tr("Forget a wish"), tr("Which?"), settings.childKeys(), 0, false, &chosen);
        if (chosen) settings.remove(name);
        show_presets();
    }
}

void TracePage::keep_wish(const QString& name) {
    TraceWish w = wish();
    w.core.clear();
    QSettings settings;
    settings.beginGroup("wishes");
    settings.setValue(QString(name).replace('/', ' ').replace('\\', ' '),
                      QString::fromStdString(trace_wish_text(w, false)));
    show_presets();
}

QWidget* TracePage::build_form() {
    keep_ = new QCheckBox(tr("Leave what is not named as it is found"));
    keep_->setObjectName("trace_keep");
    keep_->setToolTip(tr("Otherwise it is switched off. Half marked boxes below stay as they are found"));
    exceptions_ = three_way("trace_exceptions", tr("Exceptions: entry, exit, return"));
    samples_ = choice("trace_samples", {tr("as found"), tr("off"), tr("one each")});
    period_ = new QSpinBox;
    period_->setObjectName("trace_period");
    period_->setRange(64, 16'384);
    period_->setSingleStep(64);
    period_->setValue(1024);
    period_->setSuffix(tr(" cycles"));
    sleep_ = three_way("trace_sleep", tr("sleep"));
    local_ = three_way("trace_local", tr("local"));
    global_ = three_way("trace_global", tr("global"));
    prescaler_ = choice("trace_prescaler", {tr("as found"), "1", "4", "16", "64"});
    ports_ = line_field("trace_ports", tr("as found; or 0, 8, 31; or none"));
    variables_ = new QTableWidget(0, 4);
    variables_->setObjectName("trace_variables");
    variables_->setAccessibleName(tr("Variables"));
    variables_->setHorizontalHeaderLabels({tr("Variable"), tr("on"), tr("tell"), QString()});
    variables_->horizontalHeader()->setSectionResizeMode(0, QHeaderView::Stretch);
    variables_->setColumnWidth(1, 82);
    variables_->setColumnWidth(2, 112);
    variables_->setColumnWidth(3, 30);
    variables_->verticalHeader()->hide();
    variables_->setFixedHeight(112);
    add_ = new QPushButton(tr("Add a variable"));
    add_->setObjectName("trace_add_variable");
    instructions_ = choice("trace_instructions", {tr("as found"), tr("off"), tr("on")});
    ranges_ = line_field("trace_ranges", tr("everything; or guide_*, axis.c, 0x8000000..0x80003ff"));
    return_stack_ = three_way("trace_return_stack", tr("return stack"));
    instruction_times_ = three_way("trace_instruction_times", tr("timestamps"));
    start_ = line_field("trace_start", tr("at once"));
    start_what_ = choice("trace_start_what", {tr("reached"), tr("written"), tr("read")});
    start_after_ = new QSpinBox;
    stop_ = line_field("trace_stop", tr("never"));
    stop_what_ = choice("trace_stop_what", {tr("reached"), tr("written"), tr("read")});
    stop_after_ = new QSpinBox;
    for (auto* s : {start_after_, stop_after_}) {
        s->setRange(1, 65'535);
        s->setSuffix(tr(" times"));
        s->setSpecialValueText(tr("once"));
    }
    to_ = choice("trace_to", {tr("as it goes now"), tr("serial wire"), tr("parallel port"), tr("on-chip buffer"),
                              tr("system memory")});
    baud_ = new QSpinBox;
    baud_->setObjectName("trace_baud");
    baud_->setRange(0, 500'000'000);
    baud_->setSingleStep(500'000);
    baud_->setSpecialValueText(tr("baud as found"));
    baud_->setSuffix(tr(" baud"));
    width_ = choice("trace_width", {tr("1 line"), tr("2 lines"), tr("4 lines")});
    width_->setCurrentIndex(2);
    mode_ = choice("trace_mode", {tr("keep the newest"), tr("until it is full")});

    FormRows rows(6);
    rows.add({}, {keep_});
    rows.add({}, {exceptions_});
    rows.add(tr("Program counter"), {samples_, period_, sleep_});
    auto* counters = new QWidget;
    auto* counter_row = new QHBoxLayout(counters);
    counter_row->setContentsMargins(0, 0, 0, 0);
    counter_row->setSpacing(8);
    for (const char* name : {"cpi", "exc", "sleep", "lsu", "fold"}) {
        auto* b = new QCheckBox(name);
        b->setObjectName(QString("trace_counter_") + name);
        counters_.emplace_back(name, b);
        counter_row->addWidget(b);
    }
    rows.add(tr("Event counters"), {counters});
    rows.add(tr("Timestamps"), {local_, global_, caption(tr("tick")), prescaler_});
    rows.add(tr("Ports"), {ports_});
    rows.add(tr("Variables"), {variables_});
    rows.add({}, {add_});
    rows.add(tr("Instructions"), {instructions_, return_stack_, instruction_times_});
    rows.add(tr("of"), {ranges_});
    rows.add(tr("Start when"), {start_, start_what_, start_after_});
    rows.add(tr("Stop when"), {stop_, stop_what_, stop_after_});
    rows.add(tr("To"), {to_, baud_, width_, mode_});
    more_ = new TraceMore;
    more_->hide();
    unfold_ = new QPushButton(tr("More wishes"));
    unfold_->setObjectName("trace_unfold");
    unfold_->setCheckable(true);
    connect(unfold_, &QPushButton::toggled, this, [this](bool on) {
        more_->setVisible(on);
        unfold_->setText(on ? tr("Fewer wishes") : tr("More wishes"));
    });
    connect(more_, &TraceMore::changed, this, &TracePage::take);
    rows.add({}, {unfold_});
    auto* inner = new QWidget;
    auto* column = new QVBoxLayout(inner);
    column->setContentsMargins(0, 0, 10, 0);
    rows.grid()->setColumnMinimumWidth(0, TraceMore::kCaption);
    column->addLayout(rows.grid());
    column->addWidget(more_);
    column->addStretch();
    auto* scroll = new QScrollArea;
    scroll->setWidget(inner);
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    scroll->setMinimumWidth(410);
    scroll->setAccessibleName(tr("What to trace"));

    for (auto* b : {keep_, exceptions_, sleep_, local_, global_, return_stack_, instruction_times_})
        connect(b, &QCheckBox::stateChanged, this, &TracePage::take);
    for (const auto& counter : counters_) connect(counter.second, &QCheckBox::stateChanged, this, &TracePage::take);
    for (auto* c : {samples_, prescaler_, instructions_, start_what_, stop_what_, to_, mode_, width_})
        connect(c, &QComboBox::currentIndexChanged, this, &TracePage::take);
    for (auto* e : {ports_, ranges_, start_, stop_}) connect(e, &QLineEdit::editingFinished, this, &TracePage::take);
    for (auto* s : {period_, baud_, start_after_, stop_after_})
        connect(s, &QSpinBox::valueChanged, this, &TracePage::take);
    connect(variables_, &QTableWidget::itemChanged, this, &TracePage::take);
    connect(add_, &QPushButton::clicked, this, [this] {
        add_variable({});
        variables_->setCurrentCell(variables_->rowCount() - 1, 0);
        variables_->editItem(variables_->item(variables_->rowCount() - 1, 0));
        take();
    });
    return scroll;
}

QWidget* TracePage::build_right() {
    picture_ = new UnitPicture;
    picture_->setObjectName("trace_picture");
    detail_ = new QLabel;
    detail_->setObjectName("trace_detail");
    detail_->setWordWrap(true);
    detail_->setTextFormat(Qt::RichText);
    detail_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    detail_->setAlignment(Qt::AlignTop | Qt::AlignLeft);
    verdict_ = new QLabel;
    verdict_->setObjectName("trace_verdict");
    verdict_->setWordWrap(true);
    verdict_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    notes_ = new QLabel;
    notes_->setWordWrap(true);
    notes_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    costs_ = new CostBars;
    auto* below = new QWidget;
    auto* left = new QVBoxLayout;
    left->setSpacing(8);
    left->addWidget(costs_);
    left->addWidget(notes_);
    left->addStretch();
    auto* right_side = new QVBoxLayout;
    right_side->addWidget(detail_);
    right_side->addStretch();
    auto* beside = new QHBoxLayout;
    beside->setSpacing(18);
    beside->addLayout(left, 1);
    beside->addLayout(right_side, 1);
    auto* column = column_in(below, {2, 6, 8, 4}, 8);
    column->addWidget(verdict_);
    column->addLayout(beside, 1);
    auto* scroll = new QScrollArea;
    scroll->setWidget(below);
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setAccessibleName(tr("Units, costs and remarks"));
    auto* right = new QWidget;
    auto* all = bare_column(right, 6);
    all->addWidget(picture_, 0);
    all->addWidget(scroll, 1);
    picture_->setFixedHeight(196);
    connect(picture_, &UnitPicture::chosen_changed, this, [this] { detail_->setText(picture_->detail()); });
    return right;
}

void TracePage::add_variable(const TraceWish::Variable& v) {
    const bool before = std::exchange(filling_, true);
    const int row = variables_->rowCount();
    variables_->insertRow(row);
    variables_->setRowHeight(row, 26);
    auto* item = new QTableWidgetItem(words(v.of));
    item->setToolTip(tr("axis_error, guide.state, table[0..15] or *(uint32_t*)0x20000000"));
    variables_->setItem(row, 0, item);
    auto* on = choice("", {tr("write"), tr("read"), tr("access")});
    on->setCurrentIndex(static_cast<int>(v.on));
    on->setAccessibleName(tr("On which access"));
    auto* tell = choice("", kTells);
    tell->setCurrentIndex(static_cast<int>(v.tell));
    tell->setAccessibleName(tr("What is told"));
    auto* gone = new QPushButton("×");
    gone->setFlat(true);
    gone->setToolTip(tr("Do not trace this variable"));
    gone->setAccessibleName(tr("Remove the variable"));
    variables_->setCellWidget(row, 1, on);
    variables_->setCellWidget(row, 2, tell);
    variables_->setCellWidget(row, 3, gone);
    connect(on, &QComboBox::currentIndexChanged, this, &TracePage::take);
    connect(tell, &QComboBox::currentIndexChanged, this, &TracePage::take);
    connect(gone, &QPushButton::clicked, this, [this, gone] {
        for (int r = 0; r < variables_->rowCount(); ++r)
            if (variables_->cellWidget(r, 3) == gone) {
                variables_->removeRow(r);
                break;
            }
        take();
    });
    filling_ = before;
}

void TracePage::show_recipe(const Recipe& recipe, std::shared_ptr<const Trail> open) {
    open_ = std::move(open);
    if (recipe.path != recipe_.path || recipe.target != recipe_.target) {
        views_.clear();
        picture_->clear();
    }
    recipe_ = recipe;
    target_.reset();
    images_.clear();
    if (auto target = read_target_file(recipe.target)) {
        target_ = std::make_unique<TargetFile>(std::move(*target));
        for (const auto& core : target_->cores) {
            images_.emplace_back();
            if (core.image.empty()) continue;
            if (auto image = Image::open(core.images(), core.isa)) images_.back() = std::move(*image);
        }
    }
    cores_->clear();
    for (const auto& c : recipe.connects)
        if (!c.debug.empty()) cores_->addItem(words(c.core));
    cores_->setVisible(cores_->count() > 1);
    const int same = cores_->findText(core_);
    show_core(same >= 0 ? core_ : cores_->count() > 0 ? cores_->itemText(0) : QString());
}

void TracePage::show_core(const QString& core) {
    core_ = core;
    cores_->setCurrentText(core);
    const TraceWish* wish = wish_for(recipe_, core.toStdString());
    TraceWish fresh;
    show_wish(wish != nullptr ? *wish : fresh);
    replan();
}

void TracePage::show_wish(const TraceWish& w) {
    filling_ = true;
    base_ = w;
    keep_->setChecked(w.keep);
    ask(exceptions_, w.exceptions);
    samples_->setCurrentIndex(!w.pc_samples ? 0 : *w.pc_samples == 0 ? 1 : 2);
    if (w.pc_samples.value_or(0) > 0)
        period_->setValue(static_cast<int>(std::min<std::uint64_t>(*w.pc_samples, 16'384)));
    ask(sleep_, w.sleep);
    for (const auto& counter : counters_) {
        const bool on = w.counters && std::find(w.counters->begin(), w.counters->end(), counter.first.toStdString()) !=
                                          w.counters->end();
        counter.second->setChecked(on);
    }
    ask(local_, w.local_timestamps);
    ask(global_, w.global_timestamps);
    prescaler_->setCurrentIndex(!w.prescaler         ? 0
                                : *w.prescaler == 1  ? 1
                                : *w.prescaler == 4  ? 2
                                : *w.prescaler == 16 ? 3
                                                     : 4);
    show_numbers(ports_, w.ports);
    variables_->setRowCount(0);
    for (const auto& v : w.variables) add_variable(v);
    instructions_->setCurrentIndex(w.instructions ? 2 : w.no_instructions ? 1 : 0);
    show_parts(ranges_, w.instructions ? w.instructions->of : std::vector<std::string>());
    ask(return_stack_, w.instructions ? w.instructions->return_stack : std::nullopt);
    ask(instruction_times_, w.instructions ? w.instructions->timestamps : std::nullopt);
    const auto trigger_fields = [](const std::optional<TraceWish::Trigger>& t, QLineEdit* place, QComboBox* what,
                                   QSpinBox* after) {
        place->setText(!t ? QString() : words(t->at.empty() ? t->access : t->at));
        what->setCurrentIndex(!t || !t->at.empty() ? 0 : t->on == Access::read ? 2 : 1);
        after->setValue(t ? static_cast<int>(std::min<std::uint64_t>(t->after, 65'535)) : 1);
    };
    trigger_fields(w.start, start_, start_what_, start_after_);
    trigger_fields(w.stop, stop_, stop_what_, stop_after_);
    to_->setCurrentIndex(static_cast<int>(w.to));
    baud_->setValue(static_cast<int>(w.baud.value_or(0)));
    width_->setCurrentIndex(w.width.value_or(4) == 1 ? 0 : w.width.value_or(4) == 2 ? 1 : 2);
    mode_->setCurrentIndex(w.until_full ? 1 : 0);
    more_->show_wish(w);
    if (TraceMore::says_anything(w)) unfold_->setChecked(true);
    filling_ = false;
}

std::optional<TraceWish::Trigger> TracePage::trigger(const QLineEdit* place, const QComboBox* what,
                                                     bool is_stop) const {
    const std::string text = place->text().trimmed().toStdString();
    if (text.empty()) return std::nullopt;
    TraceWish::Trigger t;
    const auto& old = is_stop ? base_.stop : base_.start;
    if (old) t = *old;  // a value, or bytes behind it
    t.at.clear();
    t.access.clear();
    if (what->currentIndex() == 0) {
        t.at = text;
        t.value.reset();
    } else {
        t.access = text;
        t.on = what->currentIndex() == 2 ? Access::read : Access::write;
    }
    t.after = static_cast<std::uint64_t>((is_stop ? stop_after_ : start_after_)->value());
    return t;
}

TraceWish TracePage::wish() const {
    TraceWish w = base_;
    w.keep = keep_->isChecked();
    w.exceptions = answer(exceptions_);
    w.pc_samples.reset();
    if (samples_->currentIndex() > 0)
        w.pc_samples = samples_->currentIndex() == 1 ? 0 : static_cast<std::uint64_t>(period_->value());
    w.sleep = answer(sleep_);
    std::vector<std::string> counters;
    for (const auto& counter : counters_)
        if (counter.second->isChecked()) counters.push_back(counter.first.toStdString());
    if (!counters.empty() || base_.counters) w.counters = counters;
    w.local_timestamps = answer(local_);
    w.global_timestamps = answer(global_);
    w.prescaler.reset();
    constexpr unsigned ticks[] = {0, 1, 4, 16, 64};
    if (prescaler_->currentIndex() > 0) w.prescaler = ticks[prescaler_->currentIndex()];
    w.ports = numbers_of(ports_);
    w.variables.clear();
    for (int r = 0; r < variables_->rowCount(); ++r) {
        const auto* item = variables_->item(r, 0);
        if (item == nullptr || item->text().trimmed().isEmpty()) continue;
        TraceWish::Variable v;
        v.of = item->text().trimmed().toStdString();
        v.on = static_cast<Access>(static_cast<QComboBox*>(variables_->cellWidget(r, 1))->currentIndex());
        v.tell = static_cast<Tell>(static_cast<QComboBox*>(variables_->cellWidget(r, 2))->currentIndex());
        w.variables.push_back(v);
    }
    w.no_instructions = instructions_->currentIndex() == 1;
    if (instructions_->currentIndex() == 2) {
        if (!w.instructions) w.instructions.emplace();
        w.instructions->of = parts_of(ranges_);
        w.instructions->return_stack = answer(return_stack_);
        w.instructions->timestamps = answer(instruction_times_);
    } else {
        w.instructions.reset();
    }
    w.start = trigger(start_, start_what_, false);
    w.stop = trigger(stop_, stop_what_, true);
    w.to = static_cast<TraceWish::To>(to_->currentIndex());
    w.baud.reset();
    if (baud_->value() >= 1000) w.baud = static_cast<std::uint64_t>(baud_->value());
    w.width.reset();
    constexpr unsigned widths[] = {1, 2, 4};
    if (w.to == TraceWish::To::port) w.width = widths[width_->currentIndex()];
    w.until_full = mode_->currentIndex() == 1;
    more_->add_to(w);
    return w;
}

// The form's wish becomes the recipe's; one that asks for nothing is none.
void TracePage::take() {
    if (filling_ || core_.isEmpty()) return;
    const TraceWish w = wish();
    const TraceWish* old = wish_for(recipe_, core_.toStdString());
    const auto at =
        std::find_if(recipe_.traces.begin(), recipe_.traces.end(), [&](const TraceWish& one) { return &one == old; });
    TraceWish nothing;
    nothing.core = w.core;
    const bool empty = trace_wish_text(w, false) == trace_wish_text(nothing, false);
    if (at != recipe_.traces.end()) {
        if (empty)
            recipe_.traces.erase(at);
        else
            *at = w;
    } else if (!empty) {
        recipe_.traces.push_back(w);
        if (cores_->count() > 1) recipe_.traces.back().core = core_.toStdString();
    }
    replan();
    emit changed(recipe_);
}

void TracePage::look() {
    if (looking_) return;
    if (looker_.joinable()) looker_.join();
    if (!target_) {
        verdict_->setText(tr("The target file cannot be read: %1").arg(words(recipe_.target)));
        return;
    }
    looking_ = true;
    look_->setEnabled(false);
    verdict_->setText(tr("Looking at the target …"));
    progress_ = std::make_shared<Progress>();
    looker_ = std::thread([this, recipe = recipe_, target = *target_, images = images_, progress = progress_] {
        auto found = view_units(recipe, target, images, progress.get());
        QMetaObject::invokeMethod(
            this,
            [this, found = std::move(found)]() mutable {
                looking_ = false;
                look_->setEnabled(true);
                if (found)
                    views_ = std::move(*found);
                else
                    verdict_->setText(words(found.error().text()));
                if (found) replan();
                emit looked();
            },
            Qt::QueuedConnection);
    });
}

void TracePage::replan() {
    const int to = to_->currentIndex();
    baud_->setVisible(to <= 1);
    width_->setVisible(to == 2);
    mode_->setVisible(to >= 3);
    period_->setVisible(samples_->currentIndex() == 2);
    const bool instructions = instructions_->currentIndex() == 2;
    for (QWidget* w : {static_cast<QWidget*>(return_stack_), static_cast<QWidget*>(instruction_times_),
                       static_cast<QWidget*>(ranges_)})
        w->setEnabled(instructions);
    const UnitView* view = nullptr;
    for (const auto& v : views_)
        if (words(v.units.core) == core_) view = &v;
    const auto say = [&](const QString& text, bool bad) {
        verdict_->setText(text);
        set_style(*verdict_, QString("color: %1").arg((bad ? theme().finding : theme().text).name()));
    };
    notes_->clear();
    if (core_.isEmpty()) {
        say(tr("Trace units are set up through a debug server: name one under “How to record”."), false);
        costs_->show_cost(std::nullopt, nullptr);
        return;
    }
    if (view == nullptr) {
        say(tr("What the target can do is not known yet."), false);
        costs_->show_cost(std::nullopt, nullptr);
        return;
    }
    if (view->unreadable) {
        picture_->clear();
        say(words(view->unreadable->text()), true);
        costs_->show_cost(std::nullopt, nullptr);
        return;
    }
    const TraceWish* wish = wish_for(recipe_, core_.toStdString());
    QStringList notes;
    for (const auto& n : view->units.notes) notes << words(n);
    if (wish == nullptr) {
        picture_->show_units(view->units, nullptr);
        say(tr("Nothing is asked for: the target stays as it is. Mark what to trace at the left, or start from a "
               "question."),
            false);
        costs_->show_cost(std::nullopt, nullptr);
        notes_->setText(notes.join("\n"));
        return;
    }
    KnownMemory memory(view->words);
    const Image* image = nullptr;
    for (std::size_t i = 0; i < target_->cores.size(); ++i)
        if (target_->cores[i].name == view->units.core) image = images_[i].get();
    const auto plan = plan_trace(*wish, view->units, memory, *target_, image);
    if (!plan) {
        picture_->show_units(view->units, nullptr);
        say(words(plan.error().text()), true);
        costs_->show_cost(std::nullopt, nullptr);
        notes_->setText(notes.join("\n"));
        return;
    }
    picture_->show_units(view->units, &*plan);
    std::size_t writes = 0;
    for (const auto& s : plan->steps) writes += s.waits ? 0 : 1;
    say(tr("This can be had: %1, put back afterwards.")
            .arg(words(plural(writes, "register is written", "registers are written"))),
        false);
    const CoreSpec* core = target_->core(view->units.core);
    std::optional<TraceRates> rates;
    if (open_) rates = rates_of(*open_, view->units.core);
    costs_->show_cost(estimate_cost(*plan, core == nullptr ? 0 : core->clock_hz, rates.value_or(TraceRates{})), &*plan,
                      open_ ? measured_cost(*open_, view->units.core) : std::vector<CostLine>());
    for (const auto& n : plan->notes) notes << words(n);
    notes_->setText(notes.join("\n"));
}

}  // namespace mt::app
