// Executed instructions and functions as CSV, JSON and plain addresses.
#pragma once

#include <cstdint>
#include <iosfwd>
#include <optional>
#include <string>
#include <vector>

#include <nlohmann/json_fwd.hpp>

#include "base/progress.h"
#include "measure/functions.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// `steps --pcs`: the address of every executed instruction between two times (either may be left out), eight bytes
/// each, least significant first.
void write_step_addresses(const Recording& recording, const StepTrail& trail, std::optional<Time> from,
                          std::optional<Time> to, std::ostream& out, const Progress* progress = nullptr);
/// `steps --csv`: one row per executed instruction between two times (either may be left out). The time is empty where
/// the trace tells none.
void write_steps_csv(const Recording& recording, const StepTrail& trail, std::optional<Time> from,
                     std::optional<Time> to, std::ostream& out, const Progress* progress = nullptr);
/// Where instructions are missing that were asked for: not where tracing was off, or had not begun to make sense.
std::vector<const StepGapAt*> missing_instructions(const Trail& trail);
nlohmann::ordered_json steps_summary_json(const StepTrail& trail);
std::string steps_summary_text(const StepTrail& trail);
/// "E-Trace" and the like: the name for people of a clock kind.
std::string step_clock_text(StepClock clock);

}  // namespace mt
