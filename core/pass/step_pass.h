// The streaming pass over instruction trace.
#pragma once

#include <functional>

#include "base/problem.h"
#include "base/progress.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// Decodes step stream `index` of the recording into `trail.steps[index]`, and exceptions into the lanes of its core
/// if no other stream tells them. `publish` is called between pieces. Blocks; call it on a worker.
Result<void> read_steps(const Recording& recording, std::size_t index, Trail& trail, Progress& progress,
                        const std::function<void(std::uint64_t done)>& between);

}  // namespace mt
