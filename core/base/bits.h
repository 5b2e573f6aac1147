// Fields of words, as instructions and packets have them.
#pragma once

#include <cstdint>

namespace mt {

/// Bits `high` to `low` of a word. REQUIRES: low <= high < 32.
constexpr std::uint32_t bits(std::uint32_t v, unsigned high, unsigned low) {
    return v >> low & static_cast<std::uint32_t>((std::uint64_t{2} << (high - low)) - 1);
}
/// REQUIRES: n < 32.
constexpr bool bit(std::uint32_t v, unsigned n) { return (v >> n & 1) != 0; }

}  // namespace mt
