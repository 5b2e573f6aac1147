// The streaming pass: from an opened recording to a growing Trail.
#pragma once

#include <functional>
#include <memory>

#include "base/problem.h"
#include "base/progress.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// Receives snapshots while decoding goes on, about every `kPublishSeconds`, on the decoding thread.
using Publish = std::function<void(std::shared_ptr<const Trail>)>;
inline constexpr double kPublishSeconds = 0.1;

/// Decodes all streams. Blocks; call it on a worker. Memory follows the number of handler executions,
/// not the bytes. Cancelled: gives what was decoded so far with `cancelled` set. A stream that is no
/// ITM stream, or holds nothing under its trace ID, is a Problem that says what to change.
Result<std::shared_ptr<const Trail>> read_trail(const Recording& recording, Progress& progress,
                                                const Publish& publish = {});

}  // namespace mt
