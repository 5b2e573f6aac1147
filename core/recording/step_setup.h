// How a stream of instruction trace is decoded and timed, as its target file says.
#pragma once

#include "flow/step_pipe.h"
#include "flow/step_timer.h"
#include "recording/recording.h"

namespace mt {

/// The decoder of step stream `index`.
StepPipe make_step_pipe(const Recording& recording, std::size_t index);
/// Its clock. `after_s`: so long after the recording's start its first byte came.
StepTimer make_step_timer(const Recording& recording, std::size_t index, double after_s);

}  // namespace mt
