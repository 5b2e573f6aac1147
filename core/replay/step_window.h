// Executed instructions: a part of the stream decoded again.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// One executed run and when it began; the time of the others lies between it and the next one's.
struct StepPiece {
    StepRun run;
    std::uint64_t step = 0;      ///< of its first instruction
    Time begin, end;             ///< of the first instruction, and behind the last
    std::uint16_t depth = 0;     ///< of the stack, at its first instruction
    std::uint16_t handlers = 0;  ///< how many of these are handlers
    bool told = false;           ///< the trace itself tells `begin`; else it lies between two moments that it tells

    /// When the `nth` of its instructions ran. REQUIRES: nth < run.count.
    Time time_of(std::uint32_t nth) const {
        return {begin.ps + static_cast<std::int64_t>(static_cast<__int128>((end - begin).ps) * nth / run.count)};
    }
};

/// A stretch of executed instructions, decoded again.
struct StepWindow {
    std::uint64_t first = 0, end = 0;  ///< steps
    std::vector<StepPiece> pieces;     ///< ascending
    std::vector<StepTrapAt> traps;     ///< exceptions within
    std::vector<StepGapAt> gaps;
    /// The piece that holds `step`; REQUIRES: first <= step < end.
    const StepPiece& at(std::uint64_t step) const;
};

/// Decodes the steps [from, from + count) again, from the checkpoint before them. The cost is that of decoding at most
/// a checkpoint's distance and what was asked for.
StepWindow step_window(const Recording& recording, const StepTrail& trail, std::uint64_t from, std::uint64_t count);

/// Calls `each` for all steps in order, piece by piece, decoding on the way; false from `each` ends it.
void each_step_piece(const Recording& recording, const StepTrail& trail, std::uint64_t from,
                     const std::function<bool(const StepPiece&)>& each);

/// The step that runs at `t`: decodes a little. 0 if there is none.
std::uint64_t step_at(const Recording& recording, const StepTrail& trail, Time t);

/// When the byte at `offset` of the stream had come: the time of the instructions that it tells last.
Time time_at_offset(const Recording& recording, const StepTrail& trail, std::uint64_t offset);

/// All packets of step stream `index`, in stream order.
void each_step_packet(const Recording& recording, std::size_t index,
                      const std::function<void(const StepPacketText&)>& each);

}  // namespace mt
