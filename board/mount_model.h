// The Larkspur mount controller as a model: interrupts, tasks, masking and faults, cycle by cycle enough
// to make the trace that its Cortex-M core would send. Deterministic for given options.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

namespace board {

struct MountOptions {
    double seconds = 20;
    std::uint64_t seed = 1;
    std::uint64_t clock_hz = 120'000'000;
    std::uint64_t baud = 24'000'000;
    bool healthy = false;  ///< nothing goes wrong: no long masking, no slow frame, no loss, no fault
};

/// Gives the code range of a function by name, for the program-counter samples; {0, 0} if there is none.
using FunctionRange = std::function<std::pair<std::uint32_t, std::uint32_t>(const std::string&)>;

/// Runs the model and returns the bytes of its serial-wire output.
std::vector<std::uint8_t> record_mount(const MountOptions& options, const FunctionRange& range);

}  // namespace board
