#include <algorithm>
#include <array>

#include "judge/detectors.h"

namespace mt {

std::string_view finding_kind_name(FindingKind kind) {
    constexpr std::array<std::string_view, 11> names = {"fault", "late_response", "missed_activation", "duration_outlier", "masked_too_long", "interrupt_storm",
                                                        "deep_nest", "period_drift", "clock_doubt", "gap", "image_doubt"};
    return names[static_cast<std::size_t>(kind)];
}

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
            find_late_and_missed(recording, trail, core, lane, all);
            find_long_executions(recording, trail, core, lane, all);
            find_storms(recording, trail, core, lane, all);
        }
    }
    std::stable_sort(all.begin(), all.end(), [](const Finding& a, const Finding& b) { return a.severity > b.severity; });
    return all;
}

}  // namespace mt
