// What is in a RISC-V instruction (unprivileged ISA 2.2 to 2.6 and 16): its immediates, and compressed ones as the
// instruction that they stand for. For those who execute a program.
#pragma once

#include <cstdint>

#include "base/bits.h"

namespace mt::rv {

/// `v`'s lowest `width` bits with their sign. REQUIRES: 0 < width < 32.
constexpr std::uint32_t with_sign(std::uint32_t v, unsigned width) {
    const std::uint32_t top = 1u << (width - 1), all = 2u * top - 1;
    return (v & all) >= top ? (v | ~all) : (v & all);
}

// Immediates of the uncompressed formats (section 2.3).
constexpr std::uint32_t imm_i(std::uint32_t i) { return with_sign(i >> 20, 12); }
constexpr std::uint32_t imm_s(std::uint32_t i) { return with_sign(bits(i, 31, 25) << 5 | bits(i, 11, 7), 12); }
constexpr std::uint32_t imm_b(std::uint32_t i) {
    return with_sign(bits(i, 31, 31) << 12 | bits(i, 7, 7) << 11 | bits(i, 30, 25) << 5 | bits(i, 11, 8) << 1, 13);
}
constexpr std::uint32_t imm_j(std::uint32_t i) {
    return with_sign(bits(i, 31, 31) << 20 | bits(i, 19, 12) << 12 | bits(i, 20, 20) << 11 | bits(i, 30, 21) << 1, 21);
}

/// The RV32 instruction that a compressed one of the integer set stands for (section 16.8); 0 if there is none.
std::uint32_t expanded(std::uint16_t half);
/// The RV64 instruction that a compressed one of the integer set stands for, or a load or store of floating point; 0 if there
/// is none.
std::uint32_t expanded64(std::uint16_t half);

}  // namespace mt::rv
