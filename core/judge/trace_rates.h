// How often things were told in a recording, and what each kind of packet took on the line: what the next wish will
// cost need not be guessed.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "control/units/cost.h"
#include "model/trail.h"

namespace mt {

/// Rates of a core's streams; nothing if they are too short to tell (less than a tenth of a second).
std::optional<TraceRates> rates_of(const Trail& trail, const std::string& core);
/// Bytes a second by kind of packet, most first, of all of the core's streams; the sizes are those of DDI 0403E
/// appendix D4, and what is left is timestamps. Empty if it is too short to tell.
std::vector<CostLine> measured_cost(const Trail& trail, const std::string& core);

}  // namespace mt
