// What a debugger tells of a core that stands: its state, and where it stood. docs/formats/target-file.md, [[core]].
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <utility>
#include <vector>

#include "base/problem.h"

namespace mt {

/// How a core stands: what was read of it. Plain data.
struct CoreState {
    std::map<std::string, std::uint64_t> registers;  ///< by the names that states of the past have
    std::vector<std::pair<std::uint64_t, std::vector<std::uint8_t>>> memory;  ///< by their addresses; ranges lie apart
};

/// Where a core stood while it was recorded, before it went on.
struct StoodPlaces {
    static constexpr std::size_t kMost = std::size_t{1} << 16;  ///< addresses
    struct At {
        std::uint64_t times = 0, changed = 0;  ///< changed: so often a debugger had changed something
        bool operator==(const At&) const = default;
    };
    std::map<std::uint64_t, At> at;
    std::uint64_t times = 0;  ///< all in all
    bool complete = true;     ///< false: there were more, or it is not known where

    /// Once more. Bit 0 of the address, which tells Thumb, does not count.
    void add(std::uint64_t pc, bool changed);
    bool operator==(const StoodPlaces&) const = default;
};

/// As a file: CSV with the columns pc, times, changed.
std::string stood_text(const StoodPlaces& stood);
/// A Problem if it is no such file; it names the line.
Result<StoodPlaces> read_stood(const std::string& path);

}  // namespace mt
