// A recipe's targets looked at: which trace units they have, and what its wish would write. Nothing is changed.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "capture/recipe.h"
#include "control/units/plan.h"
#include "target/image.h"
#include "target/target_file.h"

namespace mt {

/// One core that has a debug server. Plain data.
struct UnitView {
    CoreUnits units;
    std::optional<Problem> unreadable;  ///< no server, or no units: `units` is empty then
    std::optional<TracePlan> plan;      ///< if the recipe has a wish for it that can be had
    std::optional<Problem> refused;     ///< why it cannot
    NotedMemory::Words words;           ///< what was read: other wishes can be planned with it
    double halted_s = 0;                ///< how long the core stood still to be looked at; 0: it ran on
};

/// `images` in the target's order of cores; may hold null. Cores that cannot be reached are in the result with the
/// reason. A Problem if the recipe connects to no debug server.
Result<std::vector<UnitView>> view_units(const Recipe& recipe, const TargetFile& target,
                                         const std::vector<std::shared_ptr<const Image>>& images,
                                         Progress* progress = nullptr);

}  // namespace mt
