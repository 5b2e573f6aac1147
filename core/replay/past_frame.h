// A past state as the places of variables are worked out from it.
#pragma once

#include <functional>
#include <string>

#include "replay/past_state.h"
#include "target/code.h"
#include "target/frame_state.h"

namespace mt {

/// Registers by their DWARF numbers, for the convention of the core's instruction set. `kind`: its isa.
/// Copies what it needs of the state.
FrameState frame_of(const PastState& state, Isa kind);

/// The same, with what registers held when the function that runs at `state` was entered: that is worked out when it is
/// asked for. What is given must outlive it.
FrameState frame_of(const PastState& state, Isa kind, PastStates& states, const Recording& recording, const StepTrail& steps,
                    Progress& progress);

}  // namespace mt
