// Ranges of a target's memory: looked through, kept in files, held against the image.
#pragma once

#include <cstdint>
#include <functional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "base/problem.h"
#include "control/debug_server.h"
#include "target/image.h"

namespace mt {

using GivenUp = std::function<bool()>;

/// Addresses in [address, address + length) at which `what` begins, at most `most` of them, ascending. A Problem also where
/// it was given up.
Result<std::vector<std::uint64_t>> search_memory(DebugServer& server, std::uint64_t address, std::uint64_t length,
                                                 std::span<const std::uint8_t> what, std::size_t most, const GivenUp& given_up);

/// Writes a range into a file that is not there yet; a part of it never stays.
Result<void> save_memory(DebugServer& server, std::uint64_t address, std::uint64_t length, const std::string& path,
                         const GivenUp& given_up);

/// A range of memory that is not as the image has it. Plain data.
struct MemoryDifference {
    std::uint64_t address = 0, length = 0;
};
/// Where [address, address + length) differs from what the image puts there, as far as it puts anything there; `compared`
/// counts those bytes. At most `most` ranges.
Result<std::vector<MemoryDifference>> compare_memory(DebugServer& server, const Image& image, std::uint64_t address,
                                                     std::uint64_t length, std::size_t most, std::uint64_t& compared,
                                                     const GivenUp& given_up);

}  // namespace mt
