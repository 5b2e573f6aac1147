// The call stack at one executed instruction, down to source lines, with what the compiler put into others.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "model/step_trail.h"
#include "recording/recording.h"

namespace mt {

/// One level of the stack.
struct TraceFrame {
    std::string name;
    std::string file;  ///< where it stands: empty if the image does not tell, or the call was not seen
    int line = 0;
    bool inlined = false;                 ///< no call: the compiler put it into the one below
    bool handler = false;                 ///< entered by an exception
    bool seen = true;                     ///< false: its entry was not seen
    std::uint32_t slot = Code::kNowhere;  ///< the instruction it stands on
    std::uint64_t step = 0;               ///< when that was executed
    Time entered;                         ///< of a function that is not inlined
    std::size_t level = 0;                ///< its level in the trail
};

/// The stack at `step`, the innermost first. Decodes a little for each level: call it on a worker.
std::vector<TraceFrame> backtrace(const Recording& recording, const StepTrail& trail, std::uint64_t step);

/// The names of a stack in one line, the innermost first.
std::string backtrace_text(const std::vector<TraceFrame>& frames, std::size_t most);

}  // namespace mt
