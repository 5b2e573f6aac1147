#include "navigate/navigator.h"

#include <QRegularExpression>

#include <algorithm>

#include "base/text.h"
#include "look/words.h"
#include "measure/kinds/kinds.h"
#include "measure/value_figures.h"

namespace mt::app {

Navigator::Navigator(Document& document, Viewpoint& view, QObject* parent)
    : QObject(parent), document_(document), view_(view) {
    connect(&document, &Document::opened, this, [this] { finding_.reset(); });
    // What is selected says which core is looked at.
    connect(&view, &Viewpoint::selection_changed, this, [this] {
        const auto& lanes = document_.lanes();
        if (const Lane* lane = lanes ? lanes->find(view_.selection().lane) : nullptr; lane != nullptr)
            view_.set_core(lane->core());
    });
}

void Navigator::go_to(Time t) {
    const Time half = std::min(Time{(view_.to() - view_.from()).ps / 2}, Time::from_us(500));
    go_to(t - half, t + half, t);
}

void Navigator::go_to(Time from, Time to, Time cursor) {
    emit arrived();
    view_.go_to(from, to, cursor);
}

void Navigator::go_to(const SpanRef& ref, bool leave) {
    const Lane* lane = document_.lanes() ? document_.lanes()->find(ref) : nullptr;
    if (lane == nullptr) return;
    if (leave) emit arrived();
    const Span s = lane->span(ref.level, ref.index);
    const auto room = [&](std::int64_t share, Time least) { return std::max(Time{s.length().ps / share}, least); };
    const Time some = Time::from_us(20);
    switch (lane->shape()) {
        case Shape::stack:
            view_.go_to(s.begin - room(8, Time{20'000}), s.end + room(8, Time{20'000}), s.begin, ref);
            break;
        case Shape::states:
            view_.go_to(s.begin - room(3, some), s.end + room(3, some), s.begin, ref);
            break;
        default: {
            const Time around = std::max(Time{s.length().ps * 2}, some);
            view_.go_to(s.begin - around, std::min(s.end + around, s.begin + Time{around.ps * 4}), s.begin, ref);
        }
    }
    emit went();
}

void Navigator::show(const SpanRef& ref) {
    const Lane* lane = document_.lanes() ? document_.lanes()->find(ref) : nullptr;
    if (lane == nullptr) return;
    const Span s = lane->span(ref.level, ref.index);
    const Time half{(view_.to() - view_.from()).ps / 2};
    if (s.begin < view_.from() || s.end > view_.to()) return view_.go_to(s.begin - half, s.begin + half, s.begin, ref);
    view_.select(ref);
    view_.set_cursor(s.begin);
}

void Navigator::go_to_finding(std::size_t index) {
    if (index >= document_.findings().size()) return;
    finding_ = index;
    const Finding& f = document_.findings()[index];
    const LaneBook& lanes = *document_.lanes();
    const Lane* about = f.about ? lanes.find(*f.about) : nullptr;
    const auto& cores = document_.trail()->cores;
    const auto core = std::find_if(cores.begin(), cores.end(), [&f](const CoreTrail& c) { return c.name == f.core; });
    if (about != nullptr && about->shape() == Shape::stack) {
        go_to(*f.about);
    } else {
        emit arrived();
        const bool execution = about != nullptr && f.lane.kind == &interrupts_kind();
        const Time room = std::max(Time{(f.end - f.begin).ps * 3 / 5}, Time::from_us(20));
        Time from = f.begin - room, to = f.end + room;
        if (f.kind == FindingKind::fault && !execution) {  // what led to it
            from = f.begin - Time::from_ms(20);
            to = f.begin + Time::from_ms(2);
        } else if (f.kind == FindingKind::fault) {  // what came before matters, not the long wait in the handler
            from = f.begin - Time::from_us(400);
            to = std::min(to, f.begin + Time::from_us(200));
        }
        view_.go_to(from, to, execution ? about->span(f.about->level, f.about->index).begin : f.begin,
                    about != nullptr ? Selection(*f.about) : Selection(f.lane));
    }
    if (core != cores.end()) view_.set_core(static_cast<std::size_t>(core - cores.begin()));
    emit led(index);
}

void Navigator::go_to_involved(std::size_t finding, std::size_t which) {
    const auto& findings = document_.findings();
    if (finding >= findings.size() || which >= findings[finding].involved.size()) return;
    const Finding& f = findings[finding];
    const LaneId id = f.involved[which].lane;
    const Lane* lane = document_.lanes()->find(id);
    if (lane == nullptr) return;
    if (f.about && f.about->lane == id) return go_to(*f.about);
    emit arrived();
    const auto [first, last] =
        lane->levels() > 0 && lane->shape() != Shape::stack ? lane->touching(0, f.begin, f.end) : Lane::Range{0, 0};
    const Selection selection = first < last ? Selection(SpanRef{id, 0, lane->longest(0, first, last)}) : Selection(id);
    const Time room = std::max(Time{(f.end - f.begin).ps * 3 / 5}, Time::from_us(20));
    view_.go_to(f.begin - room, f.end + room, f.begin, selection);
}

void Navigator::select_first() {
    const LaneBook* lanes = document_.lanes().get();
    if (lanes == nullptr || lanes->find(view_.selection().lane) != nullptr) return;
    for (const Finding& f : document_.findings()) {
        if (lanes->find(f.lane) != nullptr)
            view_.select(f.lane);
        else if (f.about && lanes->find(*f.about) != nullptr)
            view_.select(*f.about);
        else
            continue;
        return;
    }
    LaneId busiest;
    std::size_t most = 0;
    for (const LaneKind* kind : {&tasks_kind(), &interrupts_kind()}) {
        for (const std::uint64_t index : kind->lanes(*document_.trail()))
            if (const std::size_t n = lanes->find(LaneId{kind, index})->size(0); n > most) {
                busiest = {kind, index};
                most = n;
                if (kind == &tasks_kind()) break;  // the most urgent one that works
            }
        if (busiest) return view_.select(busiest);
    }
}

std::optional<Time> Navigator::time_of(const QString& text) {
    static const QRegularExpression time(R"(^\s*([0-9][0-9 .]*)\s*(s|ms|us|µs|ns)\s*$)");
    const auto match = time.match(text);
    if (!match.hasMatch()) return std::nullopt;
    const double value = match.captured(1).remove(' ').toDouble();
    const QString unit = match.captured(2);
    return Time::from_ns(value * (unit == "s" ? 1e9 : unit == "ms" ? 1e6 : unit == "ns" ? 1 : 1e3));
}

bool Navigator::go_to_text(const QString& text) {
    const auto trail = document_.trail();
    if (!trail || text.trimmed().isEmpty()) return false;
    if (const auto t = time_of(text); t) {
        if (*t <= trail->end)
            go_to(*t);
        else
            emit missed(tr("%1 lies after the end of the recording (%2).")
                            .arg(text.trimmed(), words(duration_text(trail->end))));
        return *t <= trail->end;
    }
    const QString wanted = text.trimmed();
    for (const bool exact : {true, false})
        for (const LaneKind* kind : LaneKinds::all())
            for (const LaneKind::Name& name : kind->names(*trail)) {
                const QString known = words(name.name);
                if (exact ? known.compare(wanted, Qt::CaseInsensitive) != 0 && words(name.number) != wanted
                          : !known.contains(wanted, Qt::CaseInsensitive))
                    continue;
                if (const auto next = kind->first_from(*trail, name.index, view_.cursor() + Time{1}, true)) {
                    go_to(*next);
                    return true;
                }
                if (const LaneId lane = kind->lane_of(*trail, name.index); document_.lanes()->find(lane) != nullptr) {
                    emit arrived();
                    view_.select(lane);
                    return true;
                }
            }
    emit missed(
        tr("Nothing here is called “%1”. Type the name of anything in the lanes, or a time with its unit, as 7.063 s.")
            .arg(wanted));
    return false;
}

void Navigator::step(int direction) {
    const Selection& s = view_.selection();
    const auto& lanes = document_.lanes();
    const Lane* lane = lanes ? lanes->find(s.lane) : nullptr;
    if (lane == nullptr || lane->levels() == 0) return;
    if (s.span) {
        if (lanes->find(*s.span) == nullptr) return;
        if (const auto next = s.lane.kind->next(*lanes->trail(), *s.span, direction)) show(*next);
        return;
    }
    const std::size_t from = lane->first_from(0, view_.cursor());
    if (direction > 0 ? from >= lane->size(0) : from == 0) return;
    show({s.lane, 0, direction > 0 ? from : from - 1});
}

void Navigator::go_to_longest() {
    const Selection& s = view_.selection();
    const auto& lanes = document_.lanes();
    if (!lanes || lanes->find(s.lane) == nullptr || (s.span && lanes->find(*s.span) == nullptr)) return;
    const LaneKind& kind = *s.lane.kind;
    if (!s.span && !kind.lanes_are_activities()) return;
    const std::uint64_t activity = s.span ? kind.activity_of(*lanes->trail(), *s.span) : s.lane.index;
    if (const auto worst = kind.worst(*lanes->trail(), activity)) go_to(*worst, false);
}

const ValueLane* Navigator::selected_value() const {
    const LaneId id = view_.selection().lane;
    const auto trail = document_.trail();
    if (!trail || (id.kind != &values_kind() && id.kind != &states_kind())) return nullptr;
    return id.index < trail->tasks.values.size() ? &trail->tasks.values[id.index] : nullptr;
}

std::optional<double> Navigator::value_at_cursor() const {
    const ValueLane* lane = selected_value();
    if (lane == nullptr) return std::nullopt;
    const std::size_t i = lane->at(view_.cursor());
    return i < lane->samples.size() && lane->known(i) ? std::optional(lane->value(i).number()) : std::nullopt;
}

std::optional<double> Navigator::level() const {
    return level_ && level_->first == view_.selection().lane ? std::optional(level_->second) : std::nullopt;
}
void Navigator::set_level(double level) { level_ = {view_.selection().lane, level}; }

void Navigator::step_value(InValue what, int direction) {
    const ValueLane* lane = selected_value();
    if (lane == nullptr || lane->samples.empty()) return emit missed(tr("Select a value in the lanes first."));
    const std::size_t at = lane->at(view_.cursor()), from = at == lane->samples.size() ? 0 : at;
    std::optional<std::size_t> found;
    QString why = tr("It does not change any more in that direction.");
    if (what == InValue::change) found = next_change(*lane, from, direction);
    if (what == InValue::crossing) {
        const auto wanted = level() ? level() : value_at_cursor();
        if (!wanted) return emit missed(tr("Its value is not known at the cursor."));
        found = next_crossing(*lane, from, *wanted, direction);
        why = tr("It does not cross %1 any more in that direction.").arg(*wanted);
        if (found) set_level(*wanted);  // the next press goes on with the same
    }
    if (what == InValue::outside) {
        const auto usual = usual_range(*lane);
        if (!usual) return emit missed(tr("There are too few samples to say what is usual."));
        found = next_outside(*lane, *usual, from, direction);
        why = tr("It stays between %1 and %2 in that direction.").arg(usual->low).arg(usual->high);
    }
    if (!found) return emit missed(why);
    show(SpanRef{view_.selection().lane, 0, *found});
}

}  // namespace mt::app
