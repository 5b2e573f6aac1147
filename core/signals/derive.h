// Signals made of others, laid beside them as lanes of values.
#pragma once

#include "base/progress.h"
#include "model/trail.h"
#include "signals/expression.h"
#include "target/target_file.h"

namespace mt {

/// The values of a formula: a sample where one of its signals has one and the result changes. `of`: a lane for each of its
/// signals. Where one of them is not known, neither is the result. A cancelled look ends early.
ValueLane derived_lane(const SignalExpression& expression, const std::vector<const ValueLane*>& of,
                       const Progress* progress = nullptr);

/// Adds what [[derived]] asks for to `trail.tasks.values`, in order: one may use those before it. What cannot be made is
/// a doubt that says why, with the column.
void derive_signals(const TargetFile& target, Trail& trail, const Progress* progress = nullptr);

}  // namespace mt
