// What a rule is held against: each instance of the quantity that it names, one after another.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "judge/rules_file.h"
#include "measure/lane_kind.h"
#include "model/trail.h"

namespace mt {

/// One of them. Times in picoseconds, shares in percent, everything else as it is.
struct RuleInstance {
    Time begin, end;
    double value = 0;
    double low = 0, high = 0;              ///< the value lies between, as far as its bounds are known; both included
    std::optional<SpanRef> span = {};      ///< where it is drawn
};

/// What was found besides.
struct RuleCounts {
    std::uint64_t excluded = 0;  ///< cut by a gap, or by the recording's ends
    std::uint64_t unpaired = 0;  ///< events without an answer, or with a gap before it
    bool incomplete = false;     ///< trace is missing: what was counted may be more
    double per_cycle = 0;        ///< picoseconds of a cycle of the core that the activity is on; 0: not known
};

/// The quantities that single activities of a kind have and that can be limited, the likeliest first.
std::vector<RuleWhat> limitable_of(const LaneKind& kind);

/// The activity that a rule names, of a kind that has this quantity.
struct RuleSubject {
    const LaneKind* kind = nullptr;
    std::uint64_t activity = 0;
    std::size_t core = 0;
    std::vector<std::uint64_t> more = {};  ///< activities that count with it: masked interrupts of other cores
};
/// A Problem, with names that are near, if there is none, if what is called so has no such quantity, or if two cores
/// have one of the name and the rule names no core.
Result<RuleSubject> subject_of(const Trail& trail, const Rule& rule, const std::string& name);

/// Every instance of the rule's quantity, in no particular order of time. Not for order, overlap, load and coverage,
/// which are judged as wholes. Stops early if cancelled. A Problem as for subject_of and moments_of.
Result<RuleCounts> each_rule_instance(const Trail& trail, const Rule& rule,
                                      const std::function<void(const RuleInstance&)>& each,
                                      const Progress* progress = nullptr);

}  // namespace mt
