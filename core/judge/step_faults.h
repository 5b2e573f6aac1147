// What instruction trace tells about a fault: the instruction, its line, who called it, and the last steps before.
#pragma once

#include "judge/finding.h"

namespace mt {

/// Adds to the finding of a fault (exception `number` of core `core`, taken at `at`) what the core's instruction trace
/// tells of it. False if no trace covers it. `number` as in the lanes: 256 + cause for RISC-V exceptions.
bool explain_fault(const Recording& recording, const Trail& trail, std::size_t core, unsigned number, Time at,
                   Finding& f);

}  // namespace mt
