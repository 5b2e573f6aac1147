// Does the image that a person gave run on the target? Compares what it loads with the target's memory.
#pragma once

#include <cstdint>

#include "base/problem.h"
#include "base/progress.h"
#include "control/debug_server.h"
#include "target/image.h"

namespace mt {

struct ImageCheck {
    std::uint64_t compared = 0;   ///< bytes
    std::uint64_t different = 0;  ///< bytes
    std::uint64_t first = 0;      ///< address of the first that differs
    bool matches() const { return compared > 0 && different == 0; }
};

/// Compares code and constants (never what the program may write) byte by byte. REQUIRES: halted.
Result<ImageCheck> check_image(DebugServer& server, const Image& image, Progress* progress = nullptr);

}  // namespace mt
