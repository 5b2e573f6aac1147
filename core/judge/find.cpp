#include <algorithm>
#include <array>

#include "base/text.h"
#include "judge/detector.h"
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

std::string parts_text(const Trail& trail, std::size_t task, Time from, Time to) {
    const JobParts parts = parts_of(trail, task, from, to);
    struct Part {
        Time time;
        std::string text;
    };
    std::vector<Part> all = {
        {parts.own, "its own work"},        {parts.interrupts, "interrupts"},         {parts.others, "other tasks"},
        {parts.lock, "waiting for a lock"}, {parts.data, "waiting for data or time"}, {parts.kernel, "the kernel"},
        {parts.unknown, "what was lost"}};
    for (std::size_t i = 0; i < parts.by_task.size() && i < 3; ++i)
        all[2].text += (i == 0 ? " (" : ", ") + trail.tasks.task_name(parts.by_task[i].first) + " " +
                       duration_text(parts.by_task[i].second) +
                       (i + 1 == std::min<std::size_t>(parts.by_task.size(), 3) ? ")" : "");
    if (parts.by_lock.size() == 1) all[3].text = "waiting for " + trail.tasks.object_name(parts.by_lock[0].first);
    std::stable_sort(all.begin(), all.end(), [](const Part& a, const Part& b) { return a.time > b.time; });
    std::string text;
    for (const Part& p : all)
        if (p.time.ps > 0 && p.time.ps * 200 > (to - from).ps)
            text += (text.empty() ? "" : ", ") + p.text + " " + duration_text(p.time);
    return text;
}

bool is_about_interrupt(const Finding& f) { return f.lane.kind == &interrupts_kind(); }

std::string_view role_name(Role role) {
    constexpr std::string_view kNames[] = {"subject", "masker", "function", "task",   "runner", "victim", "holder",
                                           "lock",    "queue",  "resource", "sender", "nested", "caller", "also"};
    return kNames[static_cast<std::size_t>(role)];
}

const Involved* Finding::with(Role role) const {
    const auto found =
        std::find_if(involved.begin(), involved.end(), [role](const Involved& i) { return i.role == role; });
    return found == involved.end() ? nullptr : &*found;
}

bool Finding::names(std::string_view name) const {
    return std::any_of(involved.begin(), involved.end(), [name](const Involved& i) { return i.name == name; });
}

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
    if (f.kind == Kind::gap || f.kind == Kind::clock_doubt || f.kind == Kind::image_doubt) return true;
    if (f.lane.kind == &functions_kind()) return trail.steps[f.lane.index].trusted(f.begin, f.end);
    // These are looked at instance by instance where they are found.
    if ((f.kind == Kind::fault && is_about_interrupt(f)) || f.kind == Kind::slow_growth || f.kind == Kind::never_ran)
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

std::vector<Finding> find_all(const Recording& recording, const Trail& trail, const Progress* progress) {
    std::vector<Finding> all;
    const Judged judged{recording, trail, progress};
    for (const Detector* detector : detectors())
        if (!judged.stopped()) detector->find(judged, all);
    join_findings(trail, all);
    std::erase_if(all, [&](const Finding& f) { return !can_be_trusted(recording, trail, f); });
    for (Finding& f : all) f.timed = f.core_index >= trail.cores.size() || trail.cores[f.core_index].timed;
    std::stable_sort(all.begin(), all.end(),
                     [](const Finding& a, const Finding& b) { return a.severity > b.severity; });
    return all;
}

}  // namespace mt
