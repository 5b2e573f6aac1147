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
    f.activities = {l.name()};
    f.core = c.name;
    f.core_index = core;
    f.lane = static_cast<int>(lane);
    f.instance = instance;
    return f;
}

namespace {

// A task masks, and samples say in which function.
bool same_function(const Finding& a, const Finding& b) {
    return a.activities.size() > 2 && b.activities.size() > 2 && a.activities[2] == b.activities[2];
}

// Several interrupts that came late because of the same masking are one finding: the latest leads, the
// others are named in it.
void join_late(std::vector<Finding>& all) {
    for (std::size_t i = 0; i < all.size(); ++i) {
        if (all[i].kind != FindingKind::late_response || all[i].lane < 0 || all[i].activities.size() < 2) continue;
        for (std::size_t k = i + 1; k < all.size(); ++k) {
            const bool same =
                all[k].kind == FindingKind::late_response && all[k].lane >= 0 && all[k].core == all[i].core &&
                all[k].activities.size() > 1 &&
                ((all[k].activities[1] == all[i].activities[1] && (all[i].task < 0 || same_function(all[i], all[k]))) ||
                 (all[k].begin <= all[i].end && all[i].begin <= all[k].end));
            if (!same) continue;
            if (all[k].end - all[k].begin > all[i].end - all[i].begin) std::swap(all[i], all[k]);
            all[i].cause += " Also: " + all[k].title +
                            (all[k].alike > 1 ? ", the worst of " + std::to_string(all[k].alike) : "") + ".";
            all[i].activities.push_back(all[k].activities[0]);
            all[i].severity = std::max(all[i].severity, all[k].severity);
            all[i].evidence.push_back({all[k].begin, all[k].title});
            all.erase(all.begin() + static_cast<std::ptrdiff_t>(k--));
        }
    }
}

// Whether all tasks that it names, on whichever core, are surely known in this time.
bool surely_known(const Trail& trail, const Finding& f, Time from, Time to) {
    return std::all_of(trail.tasks.tasks.begin(), trail.tasks.tasks.end(), [&](const TaskLane& lane) {
        return std::find(f.activities.begin(), f.activities.end(), lane.name) == f.activities.end() ||
               (lane.trusted(from, to) && trail.trusted(lane.core, from, to));
    });
}

// Near a loss anything may look unusual: what leans on it is no finding.
bool can_be_trusted(const Recording& recording, const Trail& trail, const Finding& f) {
    using Kind = FindingKind;
    if (f.kind == Kind::gap || f.kind == Kind::clock_doubt || f.kind == Kind::image_doubt) return true;
    if (f.call) return trail.steps[f.call->steps].trusted(f.begin, f.end);
    // These are looked at instance by instance where they are found.
    if ((f.kind == Kind::fault && f.lane >= 0) || f.kind == Kind::slow_growth || f.kind == Kind::never_ran) return true;
    if (f.kind == Kind::deadlock) return surely_known(trail, f, f.begin, f.begin);  // it lasts to the end
    // Of an exception that packets tell, an overflow beside it takes nothing away; periods across it are none anyway.
    const bool packets = f.lane >= 0 && std::any_of(recording.streams.begin(), recording.streams.end(),
                                                    [&](const auto& s) { return s.core == f.core_index; });
    if (f.task >= 0 && !surely_known(trail, f, f.begin, f.end)) return false;
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
