#include "record/recipe_form.h"

#include <QFileDialog>
#include <QFileInfo>
#include <QGridLayout>
#include <QGroupBox>
#include <QHBoxLayout>
#include <QScrollArea>
#include <QVBoxLayout>

#include "base/text.h"
#include "look/form_rows.h"
#include "look/html.h"
#include "look/theme.h"
#include "look/words.h"
#include "target/target_edit.h"
#include "target/target_file.h"
#include "look/layout.h"

namespace mt::app {
namespace {

// Places in the list of sources; the others are as in SourceSpec::Kind.
constexpr const char* kSamples = "samples";
constexpr const char* kConsole = "console";
constexpr int kBuffer = static_cast<int>(SourceSpec::Kind::buffer), kPrinted = static_cast<int>(SourceSpec::Kind::console),
              kNothing = kPrinted + 1;

// What a row's box says: a SourceSpec::Kind, or kNothing.
int kind_in(const QComboBox* box) { return box->currentData().toInt(); }
void choose_kind(QComboBox* box, int kind) { box->setCurrentIndex(std::max(0, box->findData(kind))); }

QLineEdit* edit(const char* name, const QString& placeholder) {
    auto* e = new QLineEdit;
    e->setObjectName(name);
    e->setPlaceholderText(placeholder);
    return e;
}

}  // namespace

RecipeForm::RecipeForm(LiveSession& live, QWidget* parent) : QWidget(parent), live_(live) {
    heading_ = new QLabel(tr("How to record"));
    heading_->setFont(text_font(16, true));
    name_ = edit("recipe_name", tr("night start"));
    target_ = edit("recipe_target", tr("the *.target.toml that describes the device"));
    save_ = edit("recipe_save", tr("{name}-{n}.mtrail"));
    save_->setToolTip(
        tr("{name}, {date}, {time} and {n}, the first free number, are filled in; relative to the recipe's folder"));
    auto* choose = new QPushButton(tr("Choose…"));
    connect(choose, &QPushButton::clicked, this, &RecipeForm::choose_target);
    connect(target_, &QLineEdit::editingFinished, this, [this] {
        if (!target_->text().isEmpty() && target_->text() != words(base_.target)) show_target(target_->text());
    });
    check_ = new QCheckBox(tr("Check that the image matches the target's memory"));
    reset_ = new QCheckBox(tr("Reset"));
    check_->setObjectName("recipe_check");
    reset_->setObjectName("recipe_reset");
    run_to_ = edit("recipe_run_to", tr("function, main.c:41 or 0x8000100; empty: start at once"));
    seconds_ = new QDoubleSpinBox;
    seconds_->setObjectName("recipe_seconds");
    seconds_->setRange(0, 1e6);
    seconds_->setDecimals(1);
    seconds_->setSuffix(tr(" s"));
    seconds_->setSpecialValueText(tr("no limit"));
    megabytes_ = new QSpinBox;
    megabytes_->setRange(0, 1'000'000);
    megabytes_->setSuffix(tr(" MB"));
    megabytes_->setSpecialValueText(tr("no limit"));
    until_ = edit("recipe_until", tr("function, line or address"));
    times_ = new QSpinBox;
    times_->setRange(1, 1'000'000'000);
    times_->setSuffix(tr(" times"));
    times_->setSpecialValueText(tr("once"));
    watch_ = edit("recipe_watch", tr("variable"));
    watch_on_ = new QComboBox;
    watch_on_->addItems({tr("is written"), tr("is read"), tr("is accessed")});
    mark_port_ = new QSpinBox;
    mark_port_->setRange(-1, 255);
    mark_port_->setSpecialValueText(tr("none"));
    mark_port_->setPrefix(tr("port "));
    mark_value_ = new QSpinBox;
    mark_value_->setRange(0, 0x7FFFFFFF);
    mark_value_->setPrefix(tr("value "));
    keep_ = new QComboBox;
    keep_->setObjectName("recipe_keep");
    keep_->addItems({tr("keep the oldest: stop when full"), tr("keep the newest: give up the oldest")});
    limit_ = new QSpinBox;
    limit_->setRange(0, 1'000'000);
    limit_->setSuffix(tr(" MB a stream"));
    limit_->setSpecialValueText(tr("no limit"));
    leave_ = new QComboBox;
    leave_->addItems({tr("leave the cores running"), tr("halt the cores")});
    rows_box_ = new QWidget;
    rows_grid_ = new QGridLayout(rows_box_);
    rows_grid_->setContentsMargins(0, 0, 0, 0);
    rows_grid_->setHorizontalSpacing(8);

    test_ = new QPushButton(tr("Test the connection"));
    test_->setObjectName("recipe_test");
    use_ = new QPushButton(tr("Use this recipe"));
    use_->setObjectName("recipe_use");
    use_->setDefault(true);
    auto* trace = new QPushButton(tr("What to trace…"));
    trace->setObjectName("recipe_trace");
    trace->setToolTip(tr("Exceptions, samples, variables, instructions: what the target's trace units are set to"));
    connect(trace, &QPushButton::clicked, this, &RecipeForm::trace_wanted);
    trace_said_ = new QLabel;
    trace_said_->setObjectName("recipe_trace_said");
    trace_said_->setWordWrap(true);
    auto* open = new QPushButton(tr("Open a recipe…"));
    auto* save = new QPushButton(tr("Save the recipe as…"));
    save->setObjectName("recipe_save_as");
    connect(test_, &QPushButton::clicked, this, &RecipeForm::test);
    connect(use_, &QPushButton::clicked, this, &RecipeForm::use);
    connect(open, &QPushButton::clicked, this, &RecipeForm::open_wanted);
    connect(save, &QPushButton::clicked, this, &RecipeForm::save_wanted);
    auto* head = new QHBoxLayout;
    head->addWidget(heading_, 1);
    for (auto* b : {use_, save, open}) head->addWidget(b);
    report_ = new QLabel;
    report_->setObjectName("recipe_report");
    report_->setWordWrap(true);
    report_->setTextFormat(Qt::RichText);
    report_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    connect(&live_, &LiveSession::tested, this, &RecipeForm::show_reports);

    FormRows rows(7);
    rows.add(tr("Name"), {name_});
    rows.add(tr("Target file"), {target_, choose});
    rows.part(tr("Connection"));
    rows.whole(rows_box_);
    auto* try_row = new QHBoxLayout;
    try_row->addWidget(test_, 0, Qt::AlignTop);
    try_row->addSpacing(8);
    try_row->addWidget(report_, 1);
    rows.whole(try_row);
    rows.part(tr("Before"));
    rows.add({}, {check_, reset_});
    rows.add(tr("Run to"), {run_to_});
    rows.part(tr("What to trace"));
    auto* trace_row = new QHBoxLayout;
    trace_row->addWidget(trace, 0, Qt::AlignTop);
    trace_row->addSpacing(8);
    trace_row->addWidget(trace_said_, 1);
    rows.whole(trace_row);
    parameters_caption_ = caption(tr("Parameters"));
    parameters_box_ = new QWidget;
    parameters_row_ = new QHBoxLayout(parameters_box_);
    parameters_row_->setContentsMargins(0, 0, 0, 0);
    parameters_row_->setSpacing(8);
    rows.whole(parameters_box_, parameters_caption_);
    rows.part(tr("Record until"));
    rows.add(tr("Time"), {seconds_, caption(tr("or bytes")), megabytes_});
    rows.add(tr("or place reached"), {until_, times_});
    rows.add(tr("or variable"), {watch_, watch_on_});
    rows.add(tr("or stop mark"), {mark_port_, mark_value_, caption(tr("or until stopped"))});
    rows.add(tr("Size limit"), {keep_, limit_});
    rows.part(tr("After"));
    rows.add(tr("Cores"), {leave_});
    rows.add(tr("Save as"), {save_});

    auto* inner = new QWidget;
    auto* column = column_in(inner, {28, 18, 28, 18}, 10);
    column->addLayout(head);
    column->addLayout(rows.grid());
    column->addStretch();
    inner->setMaximumWidth(1000);
    auto* scroll = new QScrollArea;
    scroll->setWidget(inner);
    scroll->setAccessibleName(tr("How to record"));
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    bare_column(this)->addWidget(scroll);
    build_rows({{"main", ""}});
    show_traces({});
    show_parameters();
}

// What is asked for in a few words.
void RecipeForm::show_traces(const std::vector<TraceWish>& traces) {
    base_.traces = traces;
    QStringList parts;
    for (const TraceWish& w : traces) {
        QStringList what;
        if (w.exceptions.value_or(false)) what << tr("exceptions");
        if (w.pc_samples.value_or(0) > 0) what << tr("a sample each %1 cycles").arg(words(count_text(*w.pc_samples)));
        if (w.counters && !w.counters->empty()) what << tr("event counters");
        for (const auto& v : w.variables) what << words(v.of);
        if (w.ports && !w.ports->empty()) what << tr("ports");
        if (w.instructions) what << tr("instructions");
        if (what.isEmpty()) what << tr("less than is found");
        parts << (w.core.empty() ? what.join(", ") : words(w.core) + ": " + what.join(", "));
    }
    trace_said_->setText(parts.isEmpty() ? tr("as the firmware sets it up") : parts.join("; "));
    set_style(*trace_said_, QString("color: %1").arg((parts.isEmpty() ? theme().second : theme().text).name()));
}

void RecipeForm::show_parameters() {
    while (auto* item = parameters_row_->takeAt(0)) {
        delete item->widget();
        delete item;
    }
    parameters_.clear();
    for (const auto& p : base_.parameters) {
        auto* field = new QLineEdit(words(toml_unquoted(p.value)));
        field->setObjectName("parameter_" + words(p.name));
        field->setAccessibleName(words(p.name));
        field->setMaximumWidth(120);
        auto* name = caption(words(p.name));
        parameters_row_->addWidget(name);
        parameters_row_->addWidget(field);
        parameters_.emplace_back(p.name, field);
        connect(field, &QLineEdit::editingFinished, this, &RecipeForm::set_parameters);
    }
    parameters_row_->addStretch();
    const bool any = !base_.parameters.empty();
    parameters_caption_->setVisible(any);
    parameters_box_->setVisible(any);
}

// The recipe is read again with these values.
void RecipeForm::set_parameters() {
    std::vector<std::string> given;
    bool other = false;
    for (const auto& [name, field] : parameters_) {
        const std::string value = field->text().trimmed().toStdString();
        given.push_back(name + "=" + value);
        for (const auto& p : base_.parameters) other = other || (p.name == name && toml_unquoted(p.value) != value);
    }
    if (!other) return;
    auto again = read_recipe(base_.path, given);
    if (!again) {
        report_->setText(escaped(words(again.error().text())));
        return;
    }
    report_->clear();
    show_recipe(*again);
}

void RecipeForm::build_rows(const std::vector<std::pair<std::string, std::string>>& streams) {
    rows_.clear();
    while (auto* item = rows_grid_->takeAt(0)) {
        delete item->widget();
        delete item;
    }
    int column = 0;
    for (const QString& head : {tr("Core"), tr("Debug server"), tr("Trace from"), tr("Where"), QString()})
        rows_grid_->addWidget(caption(head), 0, column++);
    rows_grid_->setColumnStretch(1, 1);
    rows_grid_->setColumnStretch(3, 1);
    for (const auto& [core, protocol] : streams) {
        Row row;
        row.core = words(core);
        row.protocol = words(protocol);
        const QString name = protocol.empty() ? row.core : row.core + "_" + row.protocol;
        row.debug = edit("", tr("127.0.0.1:3333, empty: none"));
        row.debug->setObjectName("debug_" + name);
        row.trace = new QComboBox;
        row.trace->setObjectName("trace_" + name);
        const QString kinds[] = {tr("TCP"),         tr("serial line"),    tr("growing file"), tr("ring in memory"),
                                 tr("memory dump"), tr("on-chip buffer"), tr("debug server"), tr("nothing")};
        for (int kind = 0; kind <= kNothing; ++kind) {
            const bool carries_text = kind <= static_cast<int>(SourceSpec::Kind::file) || kind == kPrinted;
            if (kind == kNothing || (protocol == kConsole ? carries_text : kind != kPrinted))
                row.trace->addItem(kinds[kind], kind);
        }
        row.address = edit("", {});
        row.address->setObjectName("address_" + name);
        row.debug->setAccessibleName(tr("Debug server of %1").arg(row.core));
        row.trace->setAccessibleName(tr("How the trace of %1 comes").arg(row.core));
        row.address->setAccessibleName(tr("Where the trace of %1 comes from").arg(row.core));
        row.baud = new QSpinBox;
        row.baud->setAccessibleName(tr("Rate of the serial line of %1").arg(row.core));
        row.baud->setRange(50, 100'000'000);
        row.baud->setValue(2'000'000);
        row.baud->setSuffix(tr(" baud"));
        const int y = static_cast<int>(rows_.size()) + 1;
        rows_grid_->addWidget(new QLabel(protocol.empty() ? row.core : row.core + ", " + row.protocol), y, 0);
        rows_grid_->addWidget(row.debug, y, 1);
        if (!protocol.empty()) row.debug->hide();  // the core's first row has it
        rows_grid_->addWidget(row.trace, y, 2);
        rows_grid_->addWidget(row.address, y, 3);
        rows_grid_->addWidget(row.baud, y, 4);
        if (!rows_.empty()) choose_kind(row.trace, kNothing);  // one connection is enough to begin with
        connect(row.trace, &QComboBox::currentIndexChanged, this, [this, row] { adapt_row(row); });
        adapt_row(row);
        rows_.push_back(row);
    }
}

void RecipeForm::adapt_row(const Row& row) {
    const QString hints[] = {tr("127.0.0.1:3344"),
                             tr("/dev/ttyACM0"),
                             tr("trace.bin"),
                             tr("symbol, or 0x address"),
                             tr("symbol, or 0x address+size"),
                             tr("found by itself"),
                             tr("semihosting, and what it says itself"),
                             {}};
    const int kind = kind_in(row.trace);
    row.address->setPlaceholderText(hints[kind]);
    row.address->setEnabled(kind < kBuffer);
    row.baud->setVisible(kind == 1);
}

void RecipeForm::choose_target() {
    const QString path =
        QFileDialog::getOpenFileName(this, tr("Target file"), {}, tr("Target files (*.target.toml *.toml)"));
    if (!path.isEmpty()) show_target(path);
}

void RecipeForm::show_target(const QString& path) {
    target_->setText(path);
    base_.target = path.toStdString();
    const auto target = read_target_file(base_.target);
    if (!target) {
        report_->setText(escaped(words(target.error().text())));
        return;
    }
    report_->clear();
    if (name_->text().isEmpty()) name_->setText(words(target->name));
    std::vector<std::pair<std::string, std::string>> rows;
    for (const auto& c : target->cores) {
        rows.emplace_back(c.name, "");
        bool first = true;
        for (const auto& s : target->streams) {
            if (s.core != c.name || s.protocol == Protocol::polled) continue;
            const bool console = s.protocol == Protocol::console;
            if (!first || console) rows.emplace_back(c.name, protocol_name(s.protocol));
            first = first && console;
        }
        for (const Recipe::Connect& had : base_.connects)
            if (had.core == c.name && had.protocol == kConsole &&
                std::find(rows.begin(), rows.end(), std::pair<std::string, std::string>(c.name, kConsole)) == rows.end())
                rows.emplace_back(c.name, kConsole);
    }
    for (const auto& s : target->streams)  // a device of its own stands in the place of a core
        if (s.protocol == Protocol::samples) rows.emplace_back(s.samples.name, kSamples);
    build_rows(rows);
}

void RecipeForm::show_recipe(const Recipe& r) {
    base_ = r;
    name_->setText(words(r.name));
    show_target(words(r.target));
    base_ = r;
    show_traces(r.traces);
    show_parameters();
    save_->setText(words(r.save));
    const auto target = read_target_file(r.target);
    // The protocol of a core's first stream may be said or not.
    const auto row_protocol = [&](const Recipe::Connect& c) {
        if (!target || c.protocol.empty()) return QString();
        if (c.protocol == kConsole) return words(c.protocol);
        Recipe::Connect first;
        first.core = c.core;
        return stream_of(*target, c) == stream_of(*target, first) ? QString() : words(c.protocol);
    };
    for (auto& row : rows_) {
        choose_kind(row.trace, kNothing);
        for (const auto& c : r.connects) {
            const bool device = c.protocol == kSamples;
            if (device ? row.protocol != kSamples || (!c.device.empty() && words(c.device) != row.core)
                       : words(c.core) != row.core || row_protocol(c) != row.protocol)
                continue;
            row.debug->setText(words(c.debug));
            if (!c.trace) continue;
            choose_kind(row.trace, static_cast<int>(c.trace->kind));
            QString where = words(c.trace->kind <= SourceSpec::Kind::file ? c.trace->address : c.trace->symbol);
            if (c.trace->kind > SourceSpec::Kind::file && c.trace->symbol.empty() &&
                c.trace->kind < SourceSpec::Kind::buffer)
                where = "0x" + QString::number(c.trace->at, 16);
            if (c.trace->kind == SourceSpec::Kind::dump && c.trace->size > 0)
                where += "+" + QString::number(c.trace->size);
            row.address->setText(where);
            if (c.trace->baud > 0) row.baud->setValue(static_cast<int>(c.trace->baud));
        }
        adapt_row(row);
    }
    check_->setChecked(r.check_image);
    reset_->setChecked(r.reset);
    run_to_->setText(r.run_to ? words(r.run_to->where) : QString());
    seconds_->setValue(r.seconds.value_or(0));
    megabytes_->setValue(static_cast<int>(r.bytes.value_or(0) / 1'000'000));
    until_->setText(r.until ? words(r.until->where) : QString());
    times_->setValue(r.until ? static_cast<int>(r.until->times) : 1);
    watch_->setText(r.watch ? words(r.watch->symbol) : QString());
    watch_on_->setCurrentIndex(r.watch && r.watch->on_read ? (r.watch->on_write ? 2 : 1) : 0);
    mark_port_->setValue(r.mark ? static_cast<int>(r.mark->port) : -1);
    mark_value_->setValue(r.mark ? static_cast<int>(r.mark->value) : 0);
    keep_->setCurrentIndex(r.keep == Recipe::Keep::newest ? 1 : 0);
    limit_->setValue(static_cast<int>(r.limit_bytes / 1'000'000));
    leave_->setCurrentIndex(r.leave == Recipe::Leave::halted ? 1 : 0);
    // What a parameter stands for is changed there.
    const auto by_parameter = [&](QWidget* field, const char* place) {
        QString name;
        for (const auto& p : r.parameters)
            for (const std::string& at : p.places)
                if (at == place) name = words(p.name);
        field->setEnabled(name.isEmpty());
        field->setToolTip(name.isEmpty() ? QString() : tr("Set by the parameter “%1”").arg(name));
    };
    by_parameter(seconds_, "record.seconds");
    by_parameter(run_to_, "before.run_to.place");
    by_parameter(until_, "record.until.place");
    by_parameter(watch_, "record.watch.symbol");
}

// The form's text goes through the reader of recipe files: one set of rules, one set of messages.
Result<Recipe> RecipeForm::recipe() const {
    Recipe r = base_;
    if (name_->text().trimmed().isEmpty()) return failure("the recipe has no name", "", "give it one");
    if (target_->text().trimmed().isEmpty())
        return failure("no target file is given", "", "choose the *.target.toml of the device");
    r.name = name_->text().trimmed().toStdString();
    r.target = QFileInfo(target_->text()).absoluteFilePath().toStdString();
    r.save = save_->text().isEmpty() ? "{name}-{n}.mtrail" : save_->text().toStdString();
    if (r.path.empty()) r.path = (QFileInfo(target_->text()).absolutePath() + "/new.recipe.toml").toStdString();
    std::vector<Recipe::Connect> before = r.connects;
    r.connects.clear();
    for (const auto& row : rows_) {
        Recipe::Connect c;
        (row.protocol == kSamples ? c.device : c.core) = row.core.toStdString();
        c.protocol = row.protocol.toStdString();
        c.debug = row.debug->text().trimmed().toStdString();
        for (const auto& old : before)
            if (!c.debug.empty() && old.core == c.core && old.protocol == c.protocol) c.thread = old.thread;
        const QString where = row.address->text().trimmed();
        const int kind = kind_in(row.trace);
        if (kind == kNothing && c.debug.empty()) continue;
        if (kind != kNothing) {
            SourceSpec s;
            s.kind = static_cast<SourceSpec::Kind>(kind);
            if (where.isEmpty() && kind < kBuffer)
                return failure((c.core.empty() ? c.device : "core " + c.core) + ": where its trace comes from is not given", "", "fill in “Where”");
            if (s.kind == SourceSpec::Kind::console) {
                s.every_ms = 0;
            } else if (s.kind == SourceSpec::Kind::buffer) {
                s.every_ms = 0;
                for (const auto& old : before)
                    if (old.core == c.core && old.trace && old.trace->kind == s.kind) s.every_ms = old.trace->every_ms;
            } else if (s.kind <= SourceSpec::Kind::file) {
                s.address = where.toStdString();
                if (s.kind == SourceSpec::Kind::serial) s.baud = static_cast<std::uint64_t>(row.baud->value());
            } else {
                QString place = where;
                if (s.kind == SourceSpec::Kind::dump && where.contains('+')) {
                    s.size = where.section('+', 1).toULongLong(nullptr, 0);
                    place = where.section('+', 0, 0);
                }
                bool number = false;
                s.at = place.startsWith("0x") ? place.toULongLong(&number, 16) : 0;
                if (!number) s.symbol = place.toStdString();
                for (const auto& old : before)
                    if (old.core == c.core && old.trace && old.trace->kind == s.kind) s.every_ms = old.trace->every_ms;
            }
            c.trace = s;
        }
        r.connects.push_back(c);
    }
    r.check_image = check_->isChecked();
    r.reset = reset_->isChecked();
    const auto place = [](const QLineEdit* e, std::uint64_t times, const std::optional<Recipe::Place>& old) {
        std::optional<Recipe::Place> p;
        if (!e->text().trimmed().isEmpty())
            p = Recipe::Place{old ? old->core : "", e->text().trimmed().toStdString(), times};
        return p;
    };
    r.run_to = place(run_to_, base_.run_to ? base_.run_to->times : 1, base_.run_to);
    r.until = place(until_, static_cast<std::uint64_t>(times_->value()), base_.until);
    r.seconds = seconds_->value() > 0 ? std::optional(seconds_->value()) : std::nullopt;
    r.bytes = megabytes_->value() > 0 ? std::optional(static_cast<std::uint64_t>(megabytes_->value()) * 1'000'000)
                                      : std::nullopt;
    r.watch.reset();
    if (!watch_->text().trimmed().isEmpty())
        r.watch = Recipe::Watch{base_.watch ? base_.watch->core : "", watch_->text().trimmed().toStdString(),
                                watch_on_->currentIndex() != 0, watch_on_->currentIndex() != 1};
    r.mark.reset();
    if (mark_port_->value() >= 0)
        r.mark =
            Recipe::Mark{static_cast<unsigned>(mark_port_->value()), static_cast<std::uint32_t>(mark_value_->value())};
    r.keep = keep_->currentIndex() == 1 ? Recipe::Keep::newest : Recipe::Keep::oldest;
    r.limit_bytes = static_cast<std::uint64_t>(limit_->value()) * 1'000'000;
    r.leave = leave_->currentIndex() == 1 ? Recipe::Leave::halted : Recipe::Leave::running;
    std::vector<std::string> given;
    for (const auto& p : base_.parameters) given.push_back(p.name + "=" + toml_unquoted(p.value));
    auto checked = parse_recipe(recipe_text(r, r.path), r.path, given);
    if (!checked) {
        Problem p = checked.error();
        p.where.clear();  // there is no file to point into
        return tl::make_unexpected(p);
    }
    return checked;
}

void RecipeForm::test() {
    auto r = recipe();
    if (!r) {
        report_->setText(escaped(words(r.error().text())));
        return;
    }
    test_->setEnabled(false);
    report_->setText(tr("Connecting, and listening for a second …"));
    live_.test(*r);
}

void RecipeForm::show_reports(const std::vector<mt::ConnectionReport>& reports) {
    test_->setEnabled(true);
    QString text;
    for (const auto& r : reports) {
        QStringList found;
        for (const auto& f : r.findings) found << escaped(words(f));
        text += QString("<p style=\"margin:3px 0\"><b style=\"color:%1\">%2</b> %3: %4")
                    .arg((r.good ? theme().land : theme().finding).name(), r.good ? "✓" : "✗",
                         escaped(words(r.core)), found.join("; "));
        if (!r.advice.empty()) text += "<br>" + escaped(words(r.advice));
        text += "</p>";
    }
    report_->setText(text);
}

void RecipeForm::use() {
    auto r = recipe();
    if (!r) {
        report_->setText(escaped(words(r.error().text())));
        return;
    }
    report_->clear();
    emit use_wanted(*r);
}

}  // namespace mt::app
