// Tries a recipe's connections without recording anything: is the right target there, and does it speak?
#pragma once

#include <string>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "capture/recipe.h"

namespace mt {

struct ConnectionReport {
    std::string core;  ///< its name; of a device beside the cores the device's
    bool good = true;
    /// "connected to 127.0.0.1:3333", "halted at main, main.c:5", "image matches, 1 372 bytes", "2.1 kB/s of
    /// trace, synchronised, 0 bad bytes"; the last may be what is wrong.
    std::vector<std::string> findings;
    std::string advice;  ///< what to do; empty if all is well
};

/// Connects to everything that the recipe names, looks at each for about `listen_s` seconds, and leaves the
/// cores running. Blocks; call it on a worker. A Problem only if the recipe's target file cannot be read.
Result<std::vector<ConnectionReport>> test_connections(const Recipe& recipe, double listen_s, Progress& progress);

}  // namespace mt
