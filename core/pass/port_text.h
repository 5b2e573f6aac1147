// Text that the firmware writes to stimulus ports, collected line by line.
#pragma once

#include <array>
#include <cstdint>

#include "base/time.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// One ITM stream. Ports that the target file calls text are; so is port 0 if it says nothing of that, as long as it is
/// written byte by byte. One thread at a time; the trail must outlive it.
class PortText {
  public:
    PortText(const Recording& recording, Trail& trail, std::size_t core);
    /// `size`: in bytes, the first of which is the lowest.
    void write(unsigned port, std::uint64_t value, unsigned size, Time t) {
        if (log_of_[port & 0xFF] >= 0) take(static_cast<std::size_t>(log_of_[port & 0xFF]), value, size, t);
    }
    /// Packets are missing.
    void lose();

  private:
    void take(std::size_t log, std::uint64_t value, unsigned size, Time t);
    Trail& trail_;
    std::size_t first_ = 0, end_ = 0;  ///< its logs in the trail
    std::array<std::int16_t, 256> log_of_;
};

}  // namespace mt
