// The one place that makes sentences of findings: all that they say stands in their facts and in who is involved.
#pragma once

#include "judge/finding.h"

namespace mt {

/// "STEP_TIMER entered 71.8 µs late".
std::string title_of(const Finding& f);
/// What is unusual, against what is normal, and what made it so.
std::string cause_of(const Finding& f);
/// "r3 was 0x0a4011f8, loaded from pages + 4 1.2 µs before by …", of a fact "pointer" and those of the same register.
std::string pointer_told(const Finding& f, const Fact& pointer);
/// "its own work 4.1 ms, other tasks (link 1.6 ms) 2.0 ms": the facts of add_parts; empty if there are none.
std::string parts_text(const Finding& f);

}  // namespace mt
