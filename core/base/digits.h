// Decimal digits in text, eight at a time.
#pragma once

#include <array>
#include <bit>
#include <cstddef>
#include <cstdint>
#include <cstring>

namespace mt {

/// Reads decimal digits from `at` on, at most 16 of them, leaves `at` behind them and appends them to `value`
/// (12 and "345" make 12345). Gives how many there were. REQUIRES: value < 1000, or no more digits than a 64-bit number
/// takes.
inline unsigned take_digits(const char*& at, const char* end, std::uint64_t& value) {
    static_assert(std::endian::native == std::endian::little);
    constexpr std::array<std::uint64_t, 9> kTen = {1, 10, 100, 1'000, 10'000, 100'000, 1'000'000, 10'000'000, 100'000'000};
    constexpr std::uint64_t kEach = 0x0101'0101'0101'0101;
    unsigned taken = 0;
    for (; taken <= 8 && end - at >= 8; taken += 8) {
        std::uint64_t digits;
        std::memcpy(&digits, at, sizeof digits);
        digits ^= kEach * '0';  // a digit becomes what it is worth
        const std::uint64_t others = (((digits & kEach * 0x7F) + kEach * (0x80 - 10)) | digits) & kEach * 0x80;
        const unsigned count = others == 0 ? 8 : static_cast<unsigned>(std::countr_zero(others)) / 8;
        if (count == 0) return taken;
        digits <<= 8 * (8 - count);  // zeros in front
        digits = digits * 10 + (digits >> 8);  // pairs, in every other byte
        digits = (digits & 0x00FF'00FF'00FF'00FF) * 100 + (digits >> 16 & 0x00FF'00FF'00FF'00FF);
        digits = (digits & 0x0000'FFFF'0000'FFFF) * 10'000 + (digits >> 32 & 0x0000'FFFF'0000'FFFF);
        value = value * kTen[count] + (digits & 0xFFFF'FFFF);
        at += count;
        if (count < 8) return taken + count;
    }
    for (; taken < 16 && at < end; ++taken, ++at) {
        const auto digit = static_cast<unsigned>(*at - '0');
        if (digit > 9) break;
        value = value * 10 + digit;
    }
    return taken;
}

}  // namespace mt
