// Signed fields of instructions.
#pragma once

#include <cstdint>

namespace mt {

/// `value` has `bits` (1 to 32) significant bits, of which the highest is the sign.
constexpr std::int64_t sign_extend(std::uint32_t value, unsigned bits) {
    const std::uint32_t top = 1u << (bits - 1);
    return static_cast<std::int64_t>(value ^ top) - static_cast<std::int64_t>(top);
}

}  // namespace mt
