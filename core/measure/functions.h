// Measures of functions from instruction trace: one row per function that ran, and the call tree.
#pragma once

#include <cstdint>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "trail/trail.h"

namespace mt {

/// Inclusive times count callees, but not handlers that came in between; own times neither. Whole calls only, the
/// others are counted in left_out.
struct FunctionRow {
    std::size_t steps_index = 0;  ///< which instruction stream
    std::uint32_t function = 0;   ///< of its table
    std::string name, file;
    int line = 0;
    std::uint64_t address = 0;
    std::uint64_t count = 0, left_out = 0;
    std::uint64_t recursive = 0, unwound = 0;
    std::uint64_t instructions = 0;  ///< of its own
    Time total, own;
    std::optional<Time> least, mean, greatest, deviation;
    double share = 0;  ///< own time by the time of all functions that are not left out
    FunctionTally::Place worst;
};

/// Rows in order of own time, greatest first. `leave_out`: functions (by name) whose time does not count, for example
/// the one that waits for work; their rows stay, with a share of 0.
std::vector<FunctionRow> function_rows(const Trail& trail, const std::set<std::string>& leave_out = {});

}  // namespace mt
