// What a file of bytes might be: a way to read it, how well it fits, and why.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "target/target_file.h"

namespace mt {

/// A core clock that would make a regular tick a round time.
struct ClockGuess {
    std::uint64_t hz = 0;
    std::string why;  ///< "SysTick would come every 1 ms"
};

struct Guess {
    StreamSpec stream;                   ///< protocol, framing, trace ID and parameters; no file, no core
    std::string known_as;                ///< a protocol that is recognised and cannot be read; else empty
    std::string isa;                     ///< of the image; empty without one
    double fit = 0;                      ///< 0: not at all, 1: everything
    std::string why;                     ///< "ITM in formatter frames, ID 1: 18 synchronisations, no bad bytes, …"
    std::vector<ClockGuess> clocks;      ///< the most likely first
    std::vector<std::string> questions;  ///< what cannot be known from the bytes, a sentence each

    bool readable() const { return known_as.empty(); }
    /// "ITM in formatter frames, ID 1".
    std::string name() const;
};

}  // namespace mt
