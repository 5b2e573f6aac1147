// A state of the past as it can be put into a target.
#pragma once

#include <string>

#include "control/hand_state.h"
#include "replay/past_state.h"

namespace mt {

/// What is known of it.
HandState hand_state_of(const PastState& state);

/// "31 registers and 5.12 kB of memory are known; x3, x4 and 93 kB stay as they are now": for a person who is asked.
std::string put_text(const HandState& state);

}  // namespace mt
