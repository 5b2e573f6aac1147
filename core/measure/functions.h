// Measures of functions from instruction trace: one row per function that ran, and the call tree.
#pragma once

#include <cstdint>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "model/trail.h"

namespace mt {

/// Durations are from entry to exit: with callees, and with handlers that preempted the call; `preempted` says how much
/// these took. Own time is without both. `total`, `own` and `preempted` are of all calls, whole or cut (what is on the
/// stack twice counts once); the others of whole calls only, those that are cut are counted in left_out.
struct FunctionRow {
    std::size_t steps_index = 0;  ///< which instruction stream; without meaning where `sampled`
    std::size_t core = 0;
    bool traced = false;         ///< its calls are known
    bool inlined = false;        ///< nothing else is known of it but what was inlined: see with_inlined
    std::uint64_t places = 0;    ///< the compiler put it into so many places
    bool sampled = false;        ///< own time and share are estimated from program-counter samples
    std::uint64_t samples = 0;   ///< … so many of them
    double share_error = 0;      ///< … 95 % of such estimates are at most so far off
    Time own_traced{};           ///< … and what the trace tells of its stretch
    std::uint32_t function = 0;  ///< of its table
    std::string name, file;
    int line = 0;
    std::uint64_t address = 0;
    std::uint64_t count = 0, left_out = 0;
    std::uint64_t recursive = 0, unwound = 0;
    std::uint64_t instructions = 0;  ///< of its own
    Time total, own, preempted;
    bool timed = true;  ///< the trace tells of time: else an instruction was taken for a cycle
    std::optional<Time> least, mean, greatest, deviation;
    double share = 0;  ///< own time by the time of all functions of its core that are not left out
    FunctionTally::Place worst;
};

/// One row for each function of a core. Own times and shares of a core have one source: its instruction trace; or,
/// where that covers less than half of the recording or there is none, its program-counter samples: then shares are of
/// the time that was sampled, asleep or not. Rows in order of own time, greatest first. `leave_out`: functions (by
/// name) whose time does not count, for example the one that waits for work; their rows stay, with a share of 0.
/// `functions`: of each core's image, for what was sampled; without them only traced cores are told.
std::vector<FunctionRow> function_rows(const Trail& trail, const std::set<std::string>& leave_out = {},
                                       const std::vector<std::shared_ptr<const FunctionTable>>& functions = {});

/// How the calls of one function spread: percentiles (nearest rank) of the durations of whole calls, and the times from
/// entry to entry, never across a gap.
struct CallSpread {
    std::optional<Time> p95, p99;
    std::optional<Time> period_least, period_mean, period_greatest;
};
/// One for each function of the table. Blocks: it looks at all calls, in bounded memory.
std::vector<CallSpread> call_spreads(const StepTrail& steps);

/// Where the duration of one call went besides its own work and its callees'.
struct CallParts {
    Time own, preempted;
};
/// Of the call `index` of `level`. Cost: what ran below it.
CallParts parts_of_call(const StepTrail& steps, std::size_t level, std::size_t index);

/// Functions that the compiler put into others: how many instructions of theirs were executed, all places together.
/// What was inlined is neither called nor timed; these instructions are part of the figures of the functions that hold
/// them. Nothing before the recording is decoded to its end.
std::vector<FunctionRow> inlined_rows(const Trail& trail);
/// The same joined with `rows`: what was called as well keeps its row and says in how many places it was inlined.
std::vector<FunctionRow> with_inlined(std::vector<FunctionRow> rows, const Trail& trail);

}  // namespace mt
