// Where in a recording coverage still grew: when code ran that had not run before.
#pragma once

#include <cstdint>
#include <vector>

#include "base/progress.h"
#include "model/step_trail.h"
#include "recording/recording.h"

namespace mt {

struct CoverGrowth {
    /// Instructions of functions that had run at least once, from this moment on.
    struct Point {
        Time time;
        std::uint64_t run = 0;
    };
    /// A function's first execution.
    struct First {
        std::uint32_t function = 0;
        std::uint64_t step = 0;
        Time time;
    };
    std::vector<Point> points;  ///< ascending; of very many those that lie far enough apart, and the last
    std::vector<First> firsts;  ///< by time
    std::uint64_t run = 0;      ///< at the end
    bool whole = false;         ///< false: it was cancelled
};

/// Decodes the whole stream again. Blocks for about as long as that takes; call it on a worker.
CoverGrowth cover_growth(const Recording& recording, const StepTrail& steps, Progress& progress,
                         std::size_t most_points = 4000);

}  // namespace mt
