// What instruction trace tells about a fault: the instruction, its line, who called it, and the last steps before.
#pragma once

#include "judge/finding.h"

namespace mt {

/// Adds to the finding of a fault (an exception of core `core`, taken at `at`) what the core's instruction trace tells
/// of it. False if no trace covers it.
bool explain_fault(const Recording& recording, const Trail& trail, std::size_t core, ExceptionId exception, Time at,
                   Finding& f);

}  // namespace mt
