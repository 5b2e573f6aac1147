#include "judge/rule_place.h"

#include <algorithm>

#include "measure/tasks.h"

namespace mt {
namespace {

std::size_t core_of(const Trail& trail, const Rule& rule, const RulePlace& place) {
    if (place.span)
        if (const auto lane = place.span->lane.kind->lane(trail, place.span->lane.index)) return lane->core();
    const std::string& of = rule.to ? rule.to->of : rule.of;
    if (const auto subject = subject_of(trail, rule, of); subject && subject->core < trail.cores.size())
        return subject->core;
    for (std::size_t c = 0; c < trail.cores.size(); ++c)
        if (trail.cores[c].name == rule.core) return c;
    return 0;
}

// What handlers of a core took of [from, to) for themselves.
void add_handlers(const CoreTrail& core, Time from, Time to, std::vector<HadCore>& had) {
    for (const ExceptionLane& lane : core.lanes) {
        Time own;
        std::size_t i = lane.first_from(from);
        if (i > 0 && lane.end(i - 1) > from) --i;
        for (; i < lane.size() && lane.begin(i) < to; ++i) {
            const Time inside = std::min(lane.end(i), to) - std::max(lane.begin(i), from), whole = lane.length(i);
            // Of one that is only partly inside, nobody knows which part was preempted: at most what is inside.
            own += whole.ps > 0 && inside < whole ? std::min(inside, lane.own(i)) : lane.own(i);
        }
        if (own > Time{}) had.push_back({lane.name(), own, true});
    }
}

}  // namespace

PlaceExplained explain_place(const Recording& recording, const Trail& trail, const Rule& rule, const RulePlace& place,
                             const Progress* progress) {
    PlaceExplained out;
    const bool of_a_length = rule.what == RuleWhat::response || rule.what == RuleWhat::running ||
                             rule.what == RuleWhat::duration || rule.what == RuleWhat::own;
    if (of_a_length && place.span) out.why = why_longer(recording, trail, *place.span, progress);
    if (trail.cores.empty() || !(place.begin < place.end)) return out;
    const std::size_t core = core_of(trail, rule, place);
    out.core = trail.cores[core].name;
    add_handlers(trail.cores[core], place.begin, place.end, out.had);
    if (core < trail.tasks.cores.size())
        for (const auto& [task, time] : tasks_that_ran(trail, core, place.begin, place.end, true))
            if (time > Time{} && task < trail.tasks.tasks.size())
                out.had.push_back({trail.tasks.tasks[task].name, time, false});
    std::stable_sort(out.had.begin(), out.had.end(), [](const HadCore& a, const HadCore& b) { return a.time > b.time; });
    return out;
}

}  // namespace mt
