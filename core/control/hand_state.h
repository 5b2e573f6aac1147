// What is known of a core's state, to be written into it.
#pragma once

#include <cstdint>
#include <string>
#include <utility>
#include <vector>

namespace mt {

/// Plain data. What is not in it stays as it is in the target.
struct HandState {
    std::uint64_t step = 0;  ///< the recorded instruction before which it was so
    std::uint64_t pc = 0;
    std::vector<std::pair<std::string, std::uint64_t>> registers;  ///< without the program counter
    std::vector<std::string> unknown;                              ///< registers
    struct Range {
        std::uint64_t address = 0;
        std::vector<std::uint8_t> bytes;
    };
    std::vector<Range> memory;         ///< ascending, apart from each other
    std::uint64_t unknown_bytes = 0;  ///< of memory that can be written
};

}  // namespace mt
