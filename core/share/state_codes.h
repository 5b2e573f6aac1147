// What a task does, as the number that signals of it have in files for other programs.
#pragma once

#include "model/lane.h"

namespace mt {

/// 1 runs, 2 interrupted, 3 ready but held off, 4 waits for a lock, 5 waits; -1: not known.
constexpr int state_code(const LaneState& s) {
    switch (s.look) {
        case LaneState::runs:
            return 1;
        case LaneState::cut_into:
            return 2;
        case LaneState::held_off:
            return 3;
        case LaneState::waits_for_lock:
            return 4;
        case LaneState::waits:
            return 5;
        case LaneState::unknown:
            break;
    }
    return -1;
}

}  // namespace mt
