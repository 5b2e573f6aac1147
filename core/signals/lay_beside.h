// Signals measured elsewhere, laid beside the recording: read, brought to its clock, and made lanes of values.
#pragma once

#include <vector>

#include "base/progress.h"
#include "model/trail.h"
#include "signals/clock_fit.h"
#include "target/target_file.h"

namespace mt {

/// Adds the lanes of each file of [[signals]] to `trail.tasks.values`, brings the clocks of samples that were streamed to
/// the recording's, and adds to `trail.beside` how each clock was brought there. What cannot be read or aligned is a
/// doubt; a file that cannot be aligned is laid with both starts together. REQUIRES: everything else of the trail is
/// there.
void lay_beside(const TargetFile& target, Trail& trail, Progress* progress = nullptr);

/// When something of the recording began (rising) and ended (falling); overlapping uses are one. A Problem if the
/// recording has nothing of that name.
struct Edges {
    std::vector<Time> rising, falling;
};
Result<Edges> edges_of(const ClockTie::Align& what, const Trail& trail);
/// The edges of a signal of two levels: from zero to anything else and back; of real numbers from below their middle to
/// above it and back. Of one that was sampled evenly, an edge lies in the middle between two samples.
Edges edges_of(const ValueLane& lane);

}  // namespace mt
