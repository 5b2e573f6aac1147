// The pass over an event trace: packets to events on one thread, events to tasks, locks and interrupts on another.
#pragma once

#include <functional>

#include "base/progress.h"
#include "model/trail.h"
#include "pass/growing_tasks.h"
#include "recording/recording.h"

namespace mt {

/// Reads all of `recording.events` into the trail, through `tasks`. `between` is called now and then with the bytes
/// done so far; the caller finishes `tasks`. `threads`: 1 does all in turn on the calling thread. Blocks; sets
/// `trail.cancelled` if it was stopped.
void read_events(const Recording& recording, Trail& trail, GrowingTasks& tasks, Progress& progress,
                 const std::function<void(std::uint64_t)>& between, unsigned threads = 2);

}  // namespace mt
