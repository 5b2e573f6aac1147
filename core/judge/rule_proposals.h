// Rules proposed from a recording that is known to be good: what it does now, with some room.
#pragma once

#include <vector>

#include "base/problem.h"
#include "judge/rule_instances.h"
#include "judge/rules_file.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// For each task its response and period, for each interrupt its duration and period, for each lock how long it is held,
/// for each queue its depth: the greatest (and for periods the least) seen, by `margin` (0.2: a fifth) looser and
/// rounded to two digits. What happened fewer than 10 times is left out: that says little. Names are unique.
std::vector<Rule> propose_rules(const Recording& recording, const Trail& trail, double margin = 0.2);

/// A limit for one activity, and what it is proposed from.
struct LimitProposal {
    Rule rule;
    std::uint64_t count = 0;  ///< instances that were seen; with none the rule has no limit
    std::optional<double> least, greatest;
};
/// What `of` did in this recording, so much looser. Of values a range is proposed, of periods too, else what is allowed at
/// most. `core`: only where the name is on more than one. A Problem as for subject_of. Blocks: for a worker.
Result<LimitProposal> propose_limit(const Recording& recording, const Trail& trail, const std::string& of,
                                    const std::string& core, RuleWhat what, double margin = 0.2,
                                    const Progress* progress = nullptr);

}  // namespace mt
