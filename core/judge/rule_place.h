// Why a rule is broken at a place: where the time of what is too long went, and who had the core meanwhile.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "judge/rule_check.h"
#include "judge/why_longer.h"

namespace mt {

/// Somebody who had the core within the place.
struct HadCore {
    std::string name;
    Time time;           ///< own time: without what preempted it
    bool handler = false;  ///< an interrupt or exception; else a task
};

struct PlaceExplained {
    std::optional<WhyLonger> why;  ///< of a place that is a span which can be held against a typical one
    std::string core;              ///< whose time was shared out
    std::vector<HadCore> had;      ///< the most first; nothing where neither tasks nor interrupts are told
};

/// Blocks: for a worker. Cancelled, it gives what it has.
PlaceExplained explain_place(const Recording& recording, const Trail& trail, const Rule& rule, const RulePlace& place,
                             const Progress* progress = nullptr);

}  // namespace mt
