#include <algorithm>
#include <array>

#include "judge/detectors.h"

namespace mt {

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

bool is_interrupt(const Finding& f) { return f.lane.kind == &interrupts_kind(); }

bool same_in(Role role, const Finding& a, const Finding& b) {
    const Involved *one = a.with(role), *other = b.with(role);
    return one != nullptr && other != nullptr && one->name == other->name;
}

// By the same task, in the same function as far as samples say; or in the same function where no task is known.
bool masked_alike(const Finding& a, const Finding& b) {
    if (a.with(Role::masker) != nullptr || b.with(Role::masker) != nullptr)
        return same_in(Role::masker, a, b) && same_in(Role::function, a, b);
    return same_in(Role::function, a, b);
}

// Several interrupts that came late because of the same masking are one finding: the latest leads, the
// others are named in it.
void join_late(std::vector<Finding>& all) {
    for (std::size_t i = 0; i < all.size(); ++i) {
        const auto held_up = [](const Finding& f) {
            return f.kind == FindingKind::late_response && is_interrupt(f) &&
                   (f.with(Role::masker) != nullptr || f.with(Role::function) != nullptr);
        };
        if (!held_up(all[i])) continue;
        for (std::size_t k = i + 1; k < all.size(); ++k) {
            if (!held_up(all[k]) || all[k].core != all[i].core ||
                !(masked_alike(all[i], all[k]) || (all[k].begin <= all[i].end && all[i].begin <= all[k].end)))
                continue;
            if (all[k].end - all[k].begin > all[i].end - all[i].begin) std::swap(all[i], all[k]);
            all[i].cause += " Also: " + all[k].title +
                            (all[k].alike > 1 ? ", the worst of " + std::to_string(all[k].alike) : "") + ".";
            all[i].involve(Role::also, all[k].involved[0].name, all[k].lane);
            all[i].severity = std::max(all[i].severity, all[k].severity);
            all[i].evidence.push_back({all[k].begin, all[k].title});
            all.erase(all.begin() + static_cast<std::ptrdiff_t>(k--));
        }
    }
}

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
    if ((f.kind == Kind::fault && is_interrupt(f)) || f.kind == Kind::slow_growth || f.kind == Kind::never_ran)
        return true;
    if (f.kind == Kind::deadlock) return surely_known(trail, f, f.begin, f.begin);  // it lasts to the end
    // Of an exception that packets tell, an overflow beside it takes nothing away; periods across it are none anyway.
    const bool packets = is_interrupt(f) && std::any_of(recording.streams.begin(), recording.streams.end(),
                                                        [&](const auto& s) { return s.core == f.core_index; });
    const bool of_tasks =
        f.lane.kind == &tasks_kind() || f.with(Role::masker) != nullptr || f.with(Role::task) != nullptr;
    if (of_tasks && !surely_known(trail, f, f.begin, f.end)) return false;
    return packets || trail.trusted(f.core_index, f.begin, f.end);
}

}  // namespace

std::vector<Finding> find_all(const Recording& recording, const Trail& trail, const Progress* progress) {
    std::vector<Finding> all;
    const auto stopped = [&] { return progress != nullptr && progress->cancelled(); };
    find_gaps(recording, trail, all);
    find_image_doubt(recording, trail, all);
    for (std::size_t core = 0; core < trail.cores.size() && !stopped(); ++core) {
        find_faults(recording, trail, core, all);
        find_clock_doubt(recording, trail, core, all);
        find_deep_nests(recording, trail, core, all);
        for (std::size_t lane = 0; lane < trail.cores[core].lanes.size() && !stopped(); ++lane) {
            if (!trail.cores[core].timed) continue;  // nothing is known of how long anything took
            find_late_and_missed(recording, trail, core, lane, all);
            find_long_executions(recording, trail, core, lane, all);
            find_storms(recording, trail, core, lane, all);
        }
    }
    for (std::size_t i = 0; i < trail.steps.size() && !stopped(); ++i) find_odd_calls(recording, trail, i, all);
    if (!trail.tasks.streams.empty() && !stopped()) {
        find_odd_jobs(trail, all);
        find_lock_trouble(trail, all);
        find_load_trouble(trail, all);
        find_task_faults(trail, all);
    }
    join_late(all);
    if (trail.tasks.present()) join_consequences(all);
    std::erase_if(all, [&](const Finding& f) { return !can_be_trusted(recording, trail, f); });
    for (Finding& f : all) f.timed = f.core_index >= trail.cores.size() || trail.cores[f.core_index].timed;
    std::stable_sort(all.begin(), all.end(),
                     [](const Finding& a, const Finding& b) { return a.severity > b.severity; });
    return all;
}

}  // namespace mt
