// Rules proposed from a recording that is known to be good: what it does now, with some room.
#pragma once

#include <vector>

#include "judge/rules_file.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// For each task its response and period, for each interrupt its duration and period, for each lock how long it is held,
/// for each queue its depth: the greatest (and for periods the least) seen, by `margin` (0.2: a fifth) looser and
/// rounded to two digits. What happened fewer than 10 times is left out: that says little. Names are unique.
std::vector<Rule> propose_rules(const Recording& recording, const Trail& trail, double margin = 0.2);

}  // namespace mt
