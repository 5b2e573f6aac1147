// A recording as a value change dump: what ran, what waited and what the values were, for programs that show signals.
// IEEE 1364-2005, clause 18.
#pragma once

#include <iosfwd>

#include "base/problem.h"
#include "base/progress.h"
#include "model/trail.h"

namespace mt {

/// Writes every lane but calls: interrupts, holds and the like as wires (1 while it lasts), what tasks do as registers
/// (0 nothing, 1 runs, 2 interrupted, 3 ready but held off, 4 waits for a lock, 5 waits; x unknown), values as reals,
/// marks as events, gaps as a wire of their own. Times in picoseconds. Memory does not grow with the length.
/// A Problem if it was cancelled or cannot be written.
Result<void> write_vcd(const Trail& trail, std::ostream& out, Progress& progress);

}  // namespace mt
