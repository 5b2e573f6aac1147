#include "compare/code_both.h"

#include <algorithm>

namespace mt {

std::vector<CodeBoth> code_of_both(const Trail& before, const Recording& recording_after, const Trail& after) {
    std::vector<CodeBoth> all;
    for (std::size_t i = 0; i < after.steps.size(); ++i) {
        const StepTrail& is = after.steps[i];
        const auto was = std::find_if(before.steps.begin(), before.steps.end(),
                                      [&](const StepTrail& s) { return s.core == is.core && s.counters; });
        if (was == before.steps.end() || !is.counters) continue;
        const Coverage now =
            Coverage::of(is.code, is.functions, recording_after.source_map(is.core_index, *is.code),
                         CoverCounts::of(is));
        all.push_back({i, is.core, is.code, cover_difference(now, {was->code, was->functions, CoverCounts::of(*was)})});
    }
    return all;
}

}  // namespace mt
