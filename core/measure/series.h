// The lengths of one activity's spans, one after another and by how often they come: what plots show.
#pragma once

#include <cstdint>
#include <vector>

#include "base/progress.h"
#include "measure/interrupts.h"
#include "measure/lane_kind.h"

namespace mt {

/// Whole spans only: those that are cut have no length that is known.
struct Series {
    struct Dot {
        SpanRef span;
        Time begin, length;
    };
    LaneId lane;
    std::uint64_t activity = 0;
    std::size_t which = 0;  ///< of the lane's lengths
    std::vector<Dot> dots;  ///< in order of time; of many, the longest and the first of each of equal shares
    Time greatest;
    std::uint64_t count = 0;
    Distribution distribution;
    std::vector<SpanRef> longest;  ///< of each bin; meaningless where that is empty
};

/// `most`: so many dots, about. A cancelled look gives what it has. Cost: twice over the spans of the lane.
Series series_of(const Trail& trail, LaneId lane, std::uint64_t activity, std::size_t which, std::size_t most = 20'000,
                 std::size_t bins = 36, const Progress* progress = nullptr);

}  // namespace mt
