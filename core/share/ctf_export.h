// Any recording as a Common Trace Format 2.0 trace: interrupts, tasks, marks, values, and function calls on request.
#pragma once

#include <string>

#include "base/problem.h"
#include "base/progress.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// Writes the trace into a new folder; reading it back gives the same interrupts, tasks and locks at the same times.
/// Interrupts and tasks of a core that has an event trace are its own events; those of other cores come from the model.
/// `calls`: begin and end of each function call, too. Blocks; call it on a worker.
Result<void> export_ctf(const Recording& recording, const Trail& trail, const std::string& folder, bool calls,
                        Progress& progress);

}  // namespace mt
