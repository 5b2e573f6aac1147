#include "record/trace_more.h"

#include <algorithm>
#include <limits>

#include "base/text.h"
#include "look/form_rows.h"
#include "look/words.h"

namespace mt::app {
namespace {

QSpinBox* amount(const char* name, int most, int step, const QString& none, const QString& unit) {
    auto* s = new QSpinBox;
    s->setObjectName(name);
    s->setRange(0, most);
    s->setSingleStep(step);
    s->setSpecialValueText(none);
    s->setSuffix(unit);
    return s;
}

int fitting(std::uint64_t n) { return static_cast<int>(std::min<std::uint64_t>(n, std::numeric_limits<int>::max())); }

// "-5", "0x1F"; empty or no number: none.
std::optional<std::uint64_t> value_of(const QLineEdit* field) {
    bool number = false;
    const QString text = field->text().trimmed();
    const qint64 n = text.toLongLong(&number, 0);
    if (number) return static_cast<std::uint64_t>(n);
    const quint64 big = text.toULongLong(&number, 0);
    return number ? std::optional<std::uint64_t>(big) : std::nullopt;
}

void show_value(QLineEdit* field, const std::optional<TraceWish::Trigger>& t) {
    field->setText(t && t->value ? QString::number(static_cast<qint64>(*t->value)) : QString());
}

}  // namespace

TraceMore::TraceMore(QWidget* parent) : QWidget(parent) {
    sync_ = line_field("trace_sync", tr("as found; or off; or 16777216 cycles"));
    privileged_ = line_field("trace_privileged", tr("as found; or 24, 25; or none"));
    counts_ = amount("trace_counts", 4095, 4, tr("no cycle counts"), tr(" cycles at least"));
    context_ = three_way("trace_context", tr("context"));
    broadcast_ = three_way("trace_broadcast", tr("each branch's address"));
    events_ = line_field("trace_events", tr("none; or guide_task, axis.c:41"));
    start_value_ = line_field("trace_start_value", tr("any value"));
    stop_value_ = line_field("trace_stop_value", tr("any value"));
    after_bytes_ = amount("trace_after_bytes", 1 << 30, 256, tr("at once"), tr(" B after it"));
    coding_ = choice("trace_coding", {tr("NRZ"), tr("Manchester")});
    formatter_ = three_way("trace_formatter", tr("frames"));
    memory_ = line_field("trace_memory", tr("a symbol, or 0x20010000"));
    memory_size_ = amount("trace_memory_size", 1 << 30, 1024, tr("its size"), tr(" B"));
    ignore_ = line_field("trace_ignore", tr("none; or 0xe0043000"));
    ignore_->setToolTip(tr("Units that answer nothing and are known not to stand on the trace's way"));

    FormRows rows(6);
    rows.add(tr("Synchronisation"), {sync_});
    rows.add(tr("Privileged ports"), {privileged_});
    rows.add(tr("Cycle counts"), {counts_, context_});
    rows.add(tr("Branches"), {broadcast_});
    rows.add(tr("Events at"), {events_});
    rows.add(tr("Start value"), {start_value_});
    rows.add(tr("Stop value"), {stop_value_, after_bytes_});
    rows.add(tr("Coding"), {coding_, formatter_});
    rows.add(tr("Memory"), {memory_, memory_size_});
    rows.add(tr("Ignore units"), {ignore_});
    rows.grid()->setColumnMinimumWidth(0, kCaption);
    rows.grid()->setContentsMargins(0, 0, 0, 0);
    setLayout(rows.grid());

    for (auto* e : {sync_, privileged_, events_, start_value_, stop_value_, memory_, ignore_})
        connect(e, &QLineEdit::editingFinished, this, &TraceMore::changed);
    for (auto* s : {counts_, after_bytes_, memory_size_})
        connect(s, &QSpinBox::valueChanged, this, &TraceMore::changed);
    for (auto* b : {context_, broadcast_, formatter_}) connect(b, &QCheckBox::stateChanged, this, &TraceMore::changed);
    connect(coding_, &QComboBox::currentIndexChanged, this, &TraceMore::changed);
}

void TraceMore::show_wish(const TraceWish& w) {
    const TraceWish::Instructions none, &i = w.instructions ? *w.instructions : none;
    sync_->setText(!w.sync ? QString() : *w.sync == 0 ? tr("off") : QString::number(*w.sync));
    show_numbers(privileged_, w.privileged_ports);
    counts_->setValue(static_cast<int>(i.cycle_counts.value_or(0)));
    ask(context_, i.context);
    ask(broadcast_, i.branch_broadcast);
    show_parts(events_, i.events);
    show_value(start_value_, w.start);
    show_value(stop_value_, w.stop);
    after_bytes_->setValue(w.stop ? fitting(w.stop->after_bytes.value_or(0)) : 0);
    coding_->setCurrentIndex(w.manchester ? 1 : 0);
    ask(formatter_, w.formatter);
    memory_->setText(!w.memory_symbol.empty() ? words(w.memory_symbol)
                     : w.memory_at != 0       ? words(hex_text(w.memory_at))
                                              : QString());
    memory_size_->setValue(fitting(w.memory_size));
    show_parts(ignore_, w.ignore_units);
}

void TraceMore::add_to(TraceWish& w) const {
    const QString sync = sync_->text().trimmed();
    bool number = false;
    const quint64 cycles = sync.section(' ', 0, 0).toULongLong(&number);
    w.sync = number           ? std::optional<std::uint64_t>(cycles)
             : sync.isEmpty() ? std::nullopt
                              : std::optional<std::uint64_t>(0);
    w.privileged_ports = numbers_of(privileged_);
    if (w.instructions) {
        TraceWish::Instructions& i = *w.instructions;
        if (counts_->value() > 0 || i.cycle_counts) i.cycle_counts = static_cast<unsigned>(counts_->value());
        i.context = answer(context_);
        i.branch_broadcast = answer(broadcast_);
        i.events = parts_of(events_);
    }
    if (w.start) w.start->value = w.start->access.empty() ? std::nullopt : value_of(start_value_);
    if (w.stop) {
        w.stop->value = w.stop->access.empty() ? std::nullopt : value_of(stop_value_);
        w.stop->after_bytes.reset();
        if (after_bytes_->value() > 0) w.stop->after_bytes = static_cast<std::uint64_t>(after_bytes_->value());
    }
    w.manchester = coding_->currentIndex() == 1;
    w.formatter = answer(formatter_);
    const QString memory = memory_->text().trimmed();
    const quint64 at = memory.startsWith("0x") ? memory.toULongLong(&number, 0) : 0;
    w.memory_at = at;
    w.memory_symbol = at == 0 ? memory.toStdString() : std::string();
    w.memory_size = static_cast<std::uint64_t>(memory_size_->value());
    w.ignore_units = parts_of(ignore_);
}

bool TraceMore::says_anything(const TraceWish& w) {
    const bool instructions = w.instructions && (w.instructions->cycle_counts || w.instructions->context ||
                                                 w.instructions->branch_broadcast || !w.instructions->events.empty());
    return w.sync || w.privileged_ports || instructions || (w.start && w.start->value) ||
           (w.stop && (w.stop->value || w.stop->after_bytes)) || w.manchester || w.formatter ||
           !w.memory_symbol.empty() || w.memory_at != 0 || w.memory_size > 0 || !w.ignore_units.empty();
}

}  // namespace mt::app
