#include <algorithm>
#include <array>

#include "base/text.h"
#include "judge/detector.h"
#include "judge/sentences.h"
#include "measure/tasks.h"

namespace mt {

#define MT_DETECTOR(name) const Detector& name##_detector();
#include "judge_detectors.inc"
#undef MT_DETECTOR

Finding about_instance(FindingKind kind, const Trail& trail, std::size_t core, std::size_t lane, std::size_t instance) {
    const CoreTrail& c = trail.cores[core];
    const ExceptionLane& l = c.lanes[lane];
    Finding f;
    f.kind = kind;
    f.begin = l.begin(instance);
    f.end = l.end(instance);
    f.core = c.name;
    f.core_index = core;
    f.set_about(execution_ref(core, lane, instance));
    f.involve(Role::subject, l.name(), f.lane);
    return f;
}

LaneId task_lane(const Trail& trail, std::uint64_t task) {
    return task < trail.tasks.tasks.size() ? task_lane(task) : LaneId{};
}
LaneId lock_lane(const Trail& trail, std::uint32_t id) {
    for (std::size_t i = 0; i < trail.tasks.locks.size(); ++i)
        if (trail.tasks.locks[i].id == id) return {&locks_kind(), i};
    return {};
}
LaneId queue_lane(const Trail& trail, std::uint32_t id) {
    for (std::size_t i = 0; i < trail.tasks.queues.size(); ++i)
        if (trail.tasks.queues[i].id == id) return {&queues_kind(), i};
    return {};
}

Finding about_job(FindingKind kind, const Trail& trail, std::size_t task, std::size_t job) {
    const TaskLane& lane = trail.tasks.tasks[task];
    Finding f;
    f.kind = kind;
    f.set_about(job_ref(task, job));
    f.involve(Role::subject, lane.name, f.lane);
    f.core_index = std::min<std::size_t>(lane.core, trail.cores.size() - 1);
    f.core = trail.cores[f.core_index].name;
    if (job < lane.jobs.size()) {
        f.begin = lane.jobs[job].ready;
        f.end = lane.jobs[job].end;
    }
    return f;
}

void add_parts(Finding& f, const Trail& trail, std::size_t task, Time from, Time to) {
    const JobParts parts = parts_of(trail, task, from, to);
    std::vector<std::pair<Time, const char*>> all = {
        {parts.own, "its own work"},        {parts.interrupts, "interrupts"},         {parts.others, "other tasks"},
        {parts.lock, "waiting for a lock"}, {parts.data, "waiting for data or time"}, {parts.kernel, "the kernel"},
        {parts.unknown, "what was lost"}};
    std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    for (const auto& [time, what] : all)
        if (time.ps > 0 && time.ps * 200 > (to - from).ps) f.fact("part", time, what);
    for (std::size_t i = 0; i < parts.by_task.size() && i < 3; ++i)
        f.fact("other_task", parts.by_task[i].second, trail.tasks.task_name(parts.by_task[i].first));
    if (parts.by_lock.size() == 1) f.fact("part_lock", trail.tasks.object_name(parts.by_lock[0].first));
}

bool is_about_interrupt(const Finding& f) { return f.lane.kind == &interrupts_kind(); }

namespace {

// Whether all tasks that it names, on whichever core, are surely known in this time.
bool surely_known(const Trail& trail, const Finding& f, Time from, Time to) {
    return std::all_of(trail.tasks.tasks.begin(), trail.tasks.tasks.end(), [&](const TaskLane& lane) {
        return !f.names(lane.name) || (lane.trusted(from, to) && trail.trusted(lane.core, from, to));
    });
}

// Near a loss anything may look unusual: what leans on it is no finding.
bool can_be_trusted(const Recording& recording, const Trail& trail, const Finding& f) {
    using Kind = FindingKind;
    if (f.kind == Kind::gap || f.kind == Kind::clock_doubt || f.kind == Kind::image_doubt ||
        f.kind == Kind::device_clock)
        return true;
    if (f.lane.kind == &functions_kind()) return trail.steps[f.lane.index].trusted(f.begin, f.end);
    // These are looked at instance by instance where they are found.
    if ((f.kind == Kind::fault && is_about_interrupt(f)) || f.kind == Kind::slow_growth ||
        f.kind == Kind::never_ran || f.kind == Kind::unaccounted_current)
        return true;
    if (f.kind == Kind::deadlock) return surely_known(trail, f, f.begin, f.begin);  // it lasts to the end
    // Of an exception that packets tell, an overflow beside it takes nothing away; periods across it are none anyway.
    const bool packets = is_about_interrupt(f) && std::any_of(recording.streams.begin(), recording.streams.end(),
                                                              [&](const auto& s) { return s.core == f.core_index; });
    const bool of_tasks =
        f.lane.kind == &tasks_kind() || f.with(Role::masker) != nullptr || f.with(Role::task) != nullptr;
    if (of_tasks && !surely_known(trail, f, f.begin, f.end)) return false;
    return packets || trail.trusted(f.core_index, f.begin, f.end);
}

}  // namespace

std::vector<const Detector*>& detectors() {
    static std::vector<const Detector*> all = [] {
        std::vector<const Detector*> built_in = {
#define MT_DETECTOR(name) &name##_detector(),
#include "judge_detectors.inc"
#undef MT_DETECTOR
        };
        std::stable_sort(built_in.begin(), built_in.end(),
                         [](const Detector* a, const Detector* b) { return a->order < b->order; });
        return built_in;
    }();
    return all;
}

std::vector<Finding> find_all(const Recording& recording, const Trail& trail, const Progress* progress,
                              const Thresholds& thresholds) {
    std::vector<Finding> all;
    const Judged judged{recording, trail, progress, thresholds};
    for (const Detector* detector : detectors())
        if (!judged.stopped()) detector->find(judged, all);
    join_findings(trail, all);
    std::erase_if(all, [&](const Finding& f) { return !can_be_trusted(recording, trail, f); });
    for (Finding& f : all) {
        f.timed = f.core_index >= trail.cores.size() || trail.cores[f.core_index].timed;
        std::stable_sort(f.evidence.begin(), f.evidence.end(),
                         [](const Finding::Evidence& a, const Finding::Evidence& b) { return a.time < b.time; });
        if (f.title.empty()) f.title = title_of(f);
        if (f.cause.empty()) f.cause = cause_of(f);
    }
    std::stable_sort(all.begin(), all.end(),
                     [](const Finding& a, const Finding& b) { return a.severity > b.severity; });
    return all;
}

}  // namespace mt
