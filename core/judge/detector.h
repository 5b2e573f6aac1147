// Detectors look for one sort of trouble each, or a few that belong together. Those in judge/detectors/ are listed by
// the names of their files when the build is configured: a file `lateness.cpp` defines `lateness_detector()`. None
// knows of the others.
#pragma once

#include <vector>

#include "judge/finding.h"
#include "measure/refs.h"

namespace mt {

/// What detectors look at. Where `Trail::trusted` says no, what they see may be wrong: they lean on nothing there.
struct Judged {
    const Recording& recording;
    const Trail& trail;
    const Progress* progress = nullptr;
    const Thresholds& thresholds;
    bool stopped() const { return progress != nullptr && progress->cancelled(); }
    /// Calls `each(core, lane)` for the lanes of interrupts whose times are known, until a person stops it.
    template <class Each>
    void each_lane(Each each) const {
        for (std::size_t core = 0; core < trail.cores.size(); ++core)
            for (std::size_t lane = 0; lane < trail.cores[core].lanes.size() && trail.cores[core].timed; ++lane) {
                if (stopped()) return;
                each(core, lane);
            }
    }
};

struct Detector {
    std::string_view name;
    int order = 0;  ///< findings as grave as each other stand in the order in which they were found
    void (*find)(const Judged& judged, std::vector<Finding>& out) = nullptr;
};
/// All of them, in their order. A test or an extension may add its own.
std::vector<const Detector*>& detectors();

/// Several late interrupts of one cause, and what another finding brought about, are told there: late jobs under a
/// starvation, the steps that led to a fault.
void join_findings(const Trail& trail, std::vector<Finding>& all);

/// Lanes that findings involve; none if there is no such task, lock or queue.
LaneId task_lane(const Trail& trail, std::uint64_t task);
LaneId lock_lane(const Trail& trail, std::uint32_t id);
LaneId queue_lane(const Trail& trail, std::uint32_t id);
bool is_about_interrupt(const Finding& f);

/// A finding about one job, with the fields that all of them share filled in.
Finding about_job(FindingKind kind, const Trail& trail, std::size_t task, std::size_t job);
/// A finding about one instance, with the fields that all of them share filled in.
Finding about_instance(FindingKind kind, const Trail& trail, std::size_t core, std::size_t lane, std::size_t instance);
/// Facts: where the time of a job went, the most first.
void add_parts(Finding& f, const Trail& trail, std::size_t task, Time from, Time to);

}  // namespace mt
