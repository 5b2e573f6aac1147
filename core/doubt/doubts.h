// What a finished pass makes doubtful about a recording.
#pragma once

#include <cstddef>

#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// Adds to `trail.doubts` what is doubtful about stream `index`: missing synchronisation or timestamps, bad
/// bytes, clocks that contradict each other, ports and comparators never seen, an unfinished recording.
void doubt_stream(const Recording& recording, Trail& trail, std::size_t index);
/// The same for step stream `index`: an image that does not fit, parameters that do not, a missing clock.
void doubt_steps(const Recording& recording, Trail& trail, std::size_t index);
/// The same for the event trace: damage, times that run backwards, clocks, events that contradict each other.
void doubt_events(const Recording& recording, Trail& trail);
/// Adds what is doubtful about the cores.
void doubt_cores(Trail& trail);

}  // namespace mt
