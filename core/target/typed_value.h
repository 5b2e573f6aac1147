// Bytes that the target wrote, as the value that the target file's type makes of them.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

namespace mt {

/// How the bytes of a value are to be read: mask and shift first, then the type (u8 i8 u16 i16 u32 i32 f32: two's
/// complement; IEEE 754).
struct ValueForm {
    std::string_view type = "u32";
    std::uint64_t mask = ~std::uint64_t{0};
    unsigned shift = 0;

    /// The value in whole numbers of 10^-decimals(). What is no number (f32) is 0.
    std::int64_t read(std::uint64_t raw) const;
    /// 6 for f32, which counts millionths; else 0.
    unsigned decimals() const { return type == "f32" ? 6 : 0; }
    /// For people and tables; f32 with six decimals.
    std::string text(std::uint64_t raw) const;

  private:
    std::uint64_t part(std::uint64_t raw) const { return (raw & mask) >> shift; }
};

}  // namespace mt
