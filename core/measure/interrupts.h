// Measures of interrupts: one row per exception of one core.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/progress.h"
#include "model/trail.h"

namespace mt {

/// Durations are inclusive of what cut in unless they say own; whole instances only, the others are
/// counted in left_out. Percentiles are nearest rank, the deviation is the population's. Periods run
/// from entry to entry and never across a gap.
struct InterruptRow {
    std::size_t core = 0, lane = 0;
    std::string core_name, name;
    unsigned number = 0;
    std::uint64_t count = 0, left_out = 0;
    Time total, own;
    std::optional<Time> least, mean, greatest, deviation, p95, p99;
    std::optional<Time> own_least, own_mean, own_greatest;
    std::optional<Time> period_least, period_mean, period_greatest;
    bool timed = true;          ///< the trace tells of time: else an instruction was taken for a cycle
    double share = 0;           ///< own time by the time of the recording outside gaps
    unsigned deepest = 0;       ///< greatest nest depth it was seen at
    std::uint64_t bounded = 0;  ///< instances whose begin or end is known only within bounds
    Time widest_bound;          ///< the widest of those bounds
    /// What least, mean and greatest may be at the least and at the most within all bounds.
    struct Range {
        Time low, high;
    };
    Range least_range, mean_range, greatest_range;
};

/// One row per lane that ran, in order of priority, for all cores. Cost: n log n in the instances.
std::vector<InterruptRow> interrupt_rows(const Trail& trail, const Progress* progress = nullptr);
/// The measures of one lane.
InterruptRow interrupt_row(const Trail& trail, std::size_t core, std::size_t lane);

/// The period that ends with the entry of instance i, if nothing was lost since the one before.
std::optional<Time> period_of(const Trail& trail, const ExceptionLane& lane, std::size_t i);

/// A histogram of lengths in bins of equal ratio or equal width, whichever shows the shape.
struct Distribution {
    std::vector<Time> edges;            ///< bins + 1 ascending edges
    std::vector<std::uint64_t> counts;  ///< one per bin
    bool logarithmic = false;
};
/// Lengths of any kind in at most `bins` bins. Empty if there are none.
Distribution distribution_of(const std::vector<Time>& lengths, std::size_t bins = 40);
/// Inclusive durations of whole instances in at most `bins` bins. Empty if there are none.
Distribution duration_distribution(const ExceptionLane& lane, std::size_t bins = 40);

}  // namespace mt
