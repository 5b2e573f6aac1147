// The recorder of recorder/, in the firmware of the board's main core: its hooks are called with what the scheduler does.
#pragma once

#include <cstdint>
#include <vector>

#include "mount_options.h"

namespace board {

/// There is one recorder in a process, as there is one in a firmware.
class RecorderPort {
  public:
    /// Out of reset: the recorder is set up anew.
    void reset();
    /// Calls the hook that an event stands for.
    OsSink sink();
    /// Moves the packets that the recorder handed over to the end of `out`.
    void drain(std::vector<std::uint8_t>& out);
};

}  // namespace board
