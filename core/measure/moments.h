// Events by name: when something began, ended, was taken, sent or crossed a level. Stopwatches go from one to another.
#pragma once

#include <vector>

#include "base/problem.h"
#include "model/trail.h"
#include "target/target_file.h"

namespace mt {

/// All moments of an event, ascending. A Problem if the recording has nothing of that name, with names that are near, or
/// if what it is has no such moment.
Result<std::vector<Time>> moments_of(const Trail& trail, const EventSpec& event);

/// From each `from` to the first `to` behind it; those without one, and across a gap, are cut.
ResourceLane stopwatch_of(const Trail& trail, const std::string& name, const std::vector<Time>& from,
                          const std::vector<Time>& to);

/// Adds what [[stopwatch]] asks for to `trail.tasks.stopwatches`; what cannot be is a doubt. REQUIRES: everything else
/// of the trail is there.
void lay_stopwatches(const TargetFile& target, Trail& trail);

}  // namespace mt
