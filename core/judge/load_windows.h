// The load of a core or a task in a window of fixed width, at every position in time.
#pragma once

#include <cstddef>
#include <functional>
#include <optional>
#include <utility>
#include <vector>

#include "base/progress.h"
#include "model/trail.h"

namespace mt {

/// What a core did over time, as far as it is recorded.
struct Load {
    using Span = std::pair<Time, Time>;  ///< [first, second)
    std::vector<Span> recorded;          ///< ascending; between them nothing is known
    std::vector<Span> busy;              ///< ascending, inside of `recorded`
};
/// Of a core: everything but its idle task, from its first task switch on; interrupts and the kernel count as load.
/// REQUIRES: trail.tasks.tells_load(core).
Load load_of_core(const Trail& trail, std::size_t core);
/// Of a task: where it ran, without interrupts.
Load load_of_task(const Trail& trail, std::size_t task);

/// Windows whose load lies beyond a limit: the positions of their begins that follow each other are one stretch.
struct LoadStretch {
    Time first, last;  ///< begins of the windows
    Time worst;        ///< begin of the window that is worst, the earliest of them
    double share = 0;  ///< its load, 0 to 1
};
struct LoadWindows {
    std::size_t spans = 0;  ///< recorded ones that hold a window
    std::size_t too_short = 0;
    std::optional<std::pair<Time, double>> least, greatest;  ///< the first window of least and of greatest load
};
/// Looks at every window of `width` inside recorded spans. `each` gets the stretches above `most` or below `least`
/// (shares, 0 to 1), in order of time. Cost: linear in the pieces.
LoadWindows load_windows(const Load& load, Time width, std::optional<double> least, std::optional<double> most,
                         const std::function<void(const LoadStretch&)>& each, const Progress* progress = nullptr);

}  // namespace mt
