// A plain image of a target's memory with our recorder's ring in it: what the ring holds, and what is wrong with it.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "base/problem.h"

namespace mt {

/// What was seen, and what to do about it.
struct RingRemark {
    enum class Grade : std::uint8_t { good, watch, bad } grade = Grade::good;
    std::string text, advice;
};

struct RingReport {
    std::uint64_t header_at = 0, data_at = 0, size = 0;  ///< addresses in the target, bytes
    std::uint64_t packets = 0, events = 0;
    std::uint64_t lost = 0;            ///< bytes that were dropped because it was full
    std::vector<std::uint8_t> stream;  ///< what the ring holds, the oldest byte first, from a packet's begin on
    std::vector<RingRemark> remarks;
    bool good() const;  ///< nothing is bad
};

/// Looks for a ring's header in `memory`, the bytes from address `base` on; `hz`: ticks per second of the recorder's
/// time source, 0 if not known. A Problem if no ring is there; damage and mistakes are remarks.
Result<RingReport> check_ring(std::span<const std::uint8_t> memory, std::uint64_t base, std::uint64_t hz);

}  // namespace mt
