// One activity's spans, one after another and by how often they come: their lengths, or the values that they hold. What
// plots show.
#pragma once

#include <cstdint>
#include <functional>
#include <vector>

#include "base/progress.h"
#include "measure/lane_kind.h"

namespace mt {

/// Whole spans only: those that are cut have no length that is known. Of lanes of values every one that is a number.
struct Series {
    struct Dot {
        SpanRef span;
        Time begin;
        double size = 0;  ///< the length in picoseconds, or the value
    };
    LaneId lane;
    std::uint64_t activity = 0;
    std::size_t which = 0;  ///< of the lane's lengths
    bool of_values = false;
    std::vector<Dot> dots;  ///< in order of time; of many, the extremes and the first of each of equal shares
    double least = 0, greatest = 0;
    std::uint64_t count = 0;

    /// A histogram in bins of equal ratio or equal width, whichever shows the shape; empty if there are none.
    std::vector<double> edges;          ///< bins + 1 ascending edges
    std::vector<std::uint64_t> counts;  ///< one per bin
    bool logarithmic = false;
    std::vector<Dot> longest;  ///< the greatest of each bin; meaningless where that is empty
};

/// Dots and histogram of whatever `walk` tells to its argument, each as often as it is called: twice. `of_values` is
/// taken from what is there already.
using EachDot = std::function<void(const Series::Dot&)>;
void fill_series(Series& series, const std::function<void(const EachDot&)>& walk, std::size_t most = 20'000,
                 std::size_t bins = 36);

/// `most`: so many dots, about. A cancelled look gives what it has. Cost: twice over the spans of the lane.
Series series_of(const Trail& trail, LaneId lane, std::uint64_t activity, std::size_t which, std::size_t most = 20'000,
                 std::size_t bins = 36, const Progress* progress = nullptr);

}  // namespace mt
