// What is drawn of rules: their limits, at which lane and on which of its lengths or values, and how what they are about
// is distributed.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "judge/rule_check.h"
#include "measure/series.h"

namespace mt {

/// One limit of a rule on what a lane shows.
struct LimitLine {
    LaneId lane;
    std::uint64_t activity = 0;
    std::size_t length = 0;   ///< which of Lane::lengths(); of lanes of numbers 0
    double value = 0;         ///< picoseconds, or a value
    bool at_most = true;      ///< allowed is what lies below; else what lies above
    bool of_all = false;      ///< of a mean or a percentile: single instances may lie beyond
    bool kept = true;         ///< the rule's verdict is not `broken`
    std::size_t outcome = 0;  ///< the rule that it is of
    std::string text;         ///< "at most 2 ms", "P99 at most 3 ms"
};

/// The limits of all rules whose quantity is a length of a lane's spans or the value of a lane of numbers; the others
/// have no place there. Limits in cycles are left out where the core's clock is not known.
std::vector<LimitLine> limit_lines(const Trail& trail, const std::vector<RuleOutcome>& outcomes);

/// The limits of one rule on its own quantity, whatever that is: for its distribution.
std::vector<LimitLine> limits_of_rule(const Trail& trail, const RuleOutcome& outcome);

/// Every instance of the rule's quantity. Empty for what is judged as a whole: order, overlap, load and coverage. Blocks:
/// for a worker.
Series series_of_rule(const Trail& trail, const Rule& rule, const Progress* progress = nullptr);

}  // namespace mt
