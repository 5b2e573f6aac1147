#include "measure/moments.h"

#include <algorithm>

#include "base/near_names.h"
#include "measure/lane_kind.h"

namespace mt {
namespace {

using Times = std::vector<Time>;

tl::unexpected<Problem> no_such(const EventSpec& e, const std::string& what, const std::string& allowed) {
    return failure("'" + e.of + "' is " + what + ", which has no '" + e.at + "'", "", "write at = " + allowed);
}

// Of what has begin and end: executions, calls, uses, states.
Result<Times> of_spans(const Trail& trail, const EventSpec& e, const LaneKind& kind, std::uint64_t activity) {
    const bool begin = e.at.empty() || e.at == "entry" || e.at == "begin", end = e.at == "exit" || e.at == "end";
    if (!begin && !end) return no_such(e, std::string(kind.one()), "\"entry\" or \"exit\"");
    const LaneId id = kind.lane_of(trail, activity);
    const auto lane = id ? kind.lane(trail, id.index) : nullptr;
    Times all;
    for (std::size_t level = 0; lane != nullptr && level < lane->levels(); ++level)
        for (std::size_t i = 0; i < lane->size(level); ++i) {
            const SpanRef ref{id, static_cast<std::uint32_t>(level), i};
            if (!kind.lanes_are_activities() && kind.activity_of(trail, ref) != activity) continue;
            const Span s = lane->span(level, i);
            if ((s.flags & (begin ? Span::kCutBegin : Span::kCutEnd)) == 0) all.push_back(begin ? s.begin : s.end);
        }
    return all;
}

Result<Times> of_task(const EventSpec& e, const TaskLane& task) {
    Times all;
    for (std::size_t i = 0; i < task.jobs.size(); ++i) {
        const TaskJob& j = task.jobs[i];
        if (e.at == "ready" && (j.flags & TaskJob::kUncertain) == 0) all.push_back(j.ready);
        if ((e.at.empty() || e.at == "start") && (j.flags & TaskJob::kStarted) != 0) all.push_back(j.start);
        if (e.at == "end" && (j.flags & TaskJob::kOpen) == 0) all.push_back(j.end);
    }
    if (!e.at.empty() && e.at != "ready" && e.at != "start" && e.at != "end")
        return no_such(e, "a task", "\"ready\", \"start\" or \"end\"");
    return all;
}

Result<Times> of_value(const EventSpec& e, const ValueLane& lane) {
    Times all;
    if (!e.crosses) {
        if (!e.at.empty()) return no_such(e, "a value", "nothing: say crosses = 5, rising = true");
        for (std::size_t i = 0; i < lane.samples.size(); ++i)
            if (lane.known(i) && (!e.value || lane.value(i).number() == static_cast<double>(*e.value)))
                all.push_back(lane.samples.time(i));
        return all;
    }
    std::optional<bool> above;
    for (std::size_t i = 0; i < lane.samples.size(); ++i) {
        const ValueSample s = lane.samples[i];
        if (!lane.known(i)) {
            above.reset();
            continue;
        }
        const bool now = lane.value_of(s.bits).number() >= *e.crosses;
        if (above && *above != now && now == e.rising) all.push_back(s.time);
        above = now;
    }
    return all;
}

// All kinds that have something of that name, the likeliest first.
Result<Times> moments_by_kind(const Trail& trail, const EventSpec& e, const LaneKind& kind, std::uint64_t index) {
    const std::string_view id = kind.id();
    if (id == "tasks") return of_task(e, trail.tasks.tasks[index]);
    if (id == "values") return of_value(e, trail.tasks.values[index]);
    Times all;
    if (id == "marks") {
        const MarkLane& lane = trail.tasks.marks[index];
        for (std::size_t i = 0; i < lane.marks.size(); ++i)
            if (!e.value || lane.marks[i].value == *e.value) all.push_back(lane.marks[i].time);
        return all;
    }
    if (id == "locks") {
        const auto& holds = trail.tasks.locks[index].holds;
        if (!e.at.empty() && e.at != "take" && e.at != "give") return no_such(e, "a lock", "\"take\" or \"give\"");
        for (std::size_t i = 0; i < holds.size(); ++i)
            if (e.at != "give")
                all.push_back(holds[i].begin);
            else if ((holds[i].flags & LockHold::kCut) == 0)
                all.push_back(holds[i].end);
        return all;
    }
    if (id == "queues") {
        if (!e.at.empty() && e.at != "send" && e.at != "receive")
            return no_such(e, "a queue", "\"send\" or \"receive\"");
        const auto& ops = trail.tasks.queues[index].ops;
        for (std::size_t i = 0; i < ops.size(); ++i)
            if (ops[i].kind == (e.at == "receive" ? QueueOp::receive : QueueOp::send)) all.push_back(ops[i].time);
        return all;
    }
    return of_spans(trail, e, kind, index);
}

}  // namespace

Result<std::vector<Time>> moments_of(const Trail& trail, const EventSpec& e) {
    std::vector<std::string> known;
    Times all;
    std::optional<Problem> problem;
    bool any = false;
    for (const LaneKind* kind : LaneKinds::all()) {
        const std::string_view id = kind->id();
        if (id == "charge" || id == "stopwatches") continue;
        for (const LaneKind::Name& name : kind->names(trail)) {
            known.push_back(name.name);
            if (name.name != e.of) continue;
            if (!e.core.empty()) {
                const LaneId lane = kind->lane_of(trail, name.index);
                const auto drawn = lane ? kind->lane(trail, lane.index) : nullptr;
                if (drawn != nullptr && drawn->core() < trail.cores.size() && trail.cores[drawn->core()].name != e.core)
                    continue;
            }
            auto times = moments_by_kind(trail, e, *kind, name.index);
            if (!times) {
                problem = problem ? *problem : times.error();
                continue;
            }
            any = true;
            all.insert(all.end(), times->begin(), times->end());
        }
        if (any) break;  // of one name the first kind counts
    }
    if (!any && problem) return tl::make_unexpected(*problem);
    if (!any)
        return failure("nothing is called '" + e.of + "'", "", near_names_text(e.of, known, "the recording names nothing"));
    std::sort(all.begin(), all.end());
    return all;
}

ResourceLane stopwatch_of(const Trail& trail, const std::string& name, const Times& from, const Times& to) {
    ResourceLane lane;
    lane.name = name;
    std::size_t next = 0;
    for (const Time begin : from) {
        while (next < to.size() && to[next] < begin) ++next;
        if (next >= to.size()) break;
        UseSpan use{begin, to[next], kNobody, 0};
        if (trail.gaps.touch(begin, to[next])) use.flags |= LockHold::kCut;
        lane.add(use);
    }
    return lane;
}

void lay_stopwatches(const TargetFile& target, Trail& trail) {
    for (const StopwatchSpec& s : target.stopwatches) {
        const auto from = moments_of(trail, s.from), to = moments_of(trail, s.to);
        if (!from || !to) {
            const Problem& p = !from ? from.error() : to.error();
            trail.doubts.push_back({"The stopwatch '" + s.name + "' cannot run: " + p.what, p.advice});
            continue;
        }
        trail.tasks.stopwatches.push_back(stopwatch_of(trail, s.name, *from, *to));
        trail.tasks.stopwatches.back().id = static_cast<std::uint32_t>(trail.tasks.stopwatches.size());
    }
}

}  // namespace mt
