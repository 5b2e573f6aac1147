// Code that one of two recordings ran and the other did not, and branches that went another way.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "measure/coverage.h"

namespace mt {

/// What of a function differs. Slots and lines are those of the newer build.
struct CoverDifference {
    struct Way {
        std::uint32_t slot = 0;  ///< of the branch
        bool taken = false;      ///< the way that only one of them went: taken, or not
        bool gained = false;     ///< the newer went it; else the older
    };
    struct Of {
        std::uint32_t function = 0;  ///< of the newer's table
        std::string name, file;
        std::uint32_t line = 0;
        std::uint64_t gained = 0, lost = 0;              ///< instructions that only the newer, only the older ran
        std::vector<std::uint32_t> gained_lines, lost_lines;  ///< in its own file, ascending
        std::vector<Way> ways;                           ///< of branches that both reached
        std::uint32_t first = 0;                         ///< slot of the first instruction that differs
        bool fresh = false, vanished = false;            ///< one of them ran nothing of it
    };
    std::vector<Of> functions;                ///< those in which something differs, the most instructions first
    std::uint64_t gained = 0, lost = 0;
    std::vector<std::string> changed, gone;   ///< of another build, and so not comparable
    bool any() const { return gained + lost > 0 || !functions.empty(); }
};

/// REQUIRES: `older` is of the same core. Blocks: it looks at every instruction.
CoverDifference cover_difference(const Coverage& newer, const CoverOf& older);

}  // namespace mt
