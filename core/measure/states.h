// Measures of what values stood for: states that a variable or a port named one after the other, runnables that ran.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "measure/tasks.h"
#include "model/trail.h"

namespace mt {

/// One named value of one lane. A stay lasts from the sample that brought the value to the one that brought another;
/// one that is cut by a gap, or by the recording's end, is left out.
struct StateRow {
    std::size_t lane = 0;    ///< index into TaskTrail::values
    std::uint64_t bits = 0;  ///< as sampled
    std::string lane_name, name, core_name;
    std::uint64_t left_out = 0;
    Figures stay;    ///< lengths
    Figures period;  ///< from begin to begin, never across a gap
    Time worst_begin, worst_end;
    double share = 0;  ///< of all stays of the lane
};

/// Rows for the lanes that have names, by lane and value; 0 without a name stands for none of them.
std::vector<StateRow> state_rows(const Trail& trail);

}  // namespace mt
