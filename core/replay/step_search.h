// When an instruction was executed next, or last: decodes on, or back by checkpoints.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "base/progress.h"
#include "replay/step_window.h"

namespace mt {

/// The first step behind `from` that executes one of the instructions in `slots`. Nothing if there is none up to the
/// end, or if it was cancelled. Blocks for as long as decoding up to there takes; call it on a worker.
std::optional<std::uint64_t> next_execution(const Recording& recording, const StepTrail& trail,
                                            std::vector<std::uint32_t> slots, std::uint64_t from,
                                            const Progress& progress);
/// The last step before `from` that does.
std::optional<std::uint64_t> previous_execution(const Recording& recording, const StepTrail& trail,
                                                std::vector<std::uint32_t> slots, std::uint64_t from,
                                                const Progress& progress);

/// The first step behind `from` with which a source line runs that had not run before in this recording. Nothing if there
/// is none, or if it was cancelled. Blocks for as long as decoding from the begin up to there takes.
std::optional<std::uint64_t> next_new_line(const Recording& recording, const StepTrail& trail, std::uint64_t from,
                                           const Progress& progress);

/// The next whole call of the same function at the same depth that went another way through the program than the given
/// call: its index in the level. Handlers that came in between do not count. Blocks; call it on a worker.
std::optional<std::size_t> next_different_call(const Recording& recording, const StepTrail& trail, std::size_t level,
                                               std::size_t index, const Progress& progress);

}  // namespace mt
