// A recording as measurement data, ASAM MDF 4.1, for programs that show and compute with signals.
#pragma once

#include <iosfwd>

#include "base/problem.h"
#include "base/progress.h"
#include "model/trail.h"

namespace mt {

/// Writes a sorted MDF 4.10 file: each lane but calls a group with its own time (seconds, 64-bit reals). Interrupts,
/// holds and the like are 0 and 1; what tasks do is a number with its name (value to text); states by name likewise;
/// values are reals with their unit, invalid where they are not known; marks are their values. REQUIRES: `out` can be
/// positioned. Memory follows the longest lane. A Problem if it was cancelled or cannot be written.
Result<void> write_mdf(const Trail& trail, const std::string& title, std::ostream& out, Progress& progress);

}  // namespace mt
