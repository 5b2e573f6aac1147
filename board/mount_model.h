// The Larkspur mount controller as a model for recordings on file: interrupts, tasks, masking and faults, cycle by cycle
// enough to make the trace that its Cortex-M core would send. Deterministic for given options.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <utility>
#include <vector>

#include "mount_options.h"

namespace board {

struct Bench;
class ThumbWalk;

/// Gives the code range of a function by name, for the program-counter samples; {0, 0} if there is none.
using FunctionRange = std::function<std::pair<std::uint32_t, std::uint32_t>(const std::string&)>;

/// Who hears of the night besides the trace.
struct MountHooks {
    OsSink os;
    Bench* bench = nullptr;  ///< what is clipped to the board; not owned
    /// Walks the firmware as the model goes, from `walk_from` to `walk_until` (in cycles); not owned, may be null.
    ThumbWalk* walk = nullptr;
    std::uint64_t walk_from = 0, walk_until = 0;
};

/// Runs the model to its end and returns the bytes of its serial-wire output. A walk that finds no way: std::runtime_error.
std::vector<std::uint8_t> record_mount(const MountOptions& options, const FunctionRange& range, const MountHooks& hooks = {});

}  // namespace board
