// What a wish costs on the line, before anything is recorded: an estimate that says what it assumes.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "control/units/plan.h"

namespace mt {

/// How often things happen on the target. What is not known is assumed, and said.
struct TraceRates {
    double exceptions_per_s = 5'000;      ///< entries
    double accesses_per_s = 1'000;        ///< of each variable
    double bytes_per_instruction = 0.06;  ///< of instruction trace, times included
    double busy = 0.5;                    ///< share of the time in which instructions are executed
    bool measured = false;                ///< taken from a recording rather than assumed
};

struct CostLine {
    std::string what;  ///< "samples of the program counter"
    double bytes_per_s = 0;
    std::string assumption;  ///< "5 000 exceptions a second"; empty if nothing is assumed
};

struct CostEstimate {
    std::vector<CostLine> lines;  ///< most costly first
    double bytes_per_s = 0;
    double carries = 0;               ///< bytes a second that the line takes; 0: not known, or a buffer
    double reaches_back_s = 0;        ///< how long a circular buffer's trace is; 0: no buffer
    std::vector<std::string> advice;  ///< what to thin out, with what is gained; best first
    bool overflows() const { return carries > 0 && bytes_per_s > carries; }
};

CostEstimate estimate_cost(const TracePlan& plan, std::uint64_t clock_hz, const TraceRates& rates = {});

}  // namespace mt
