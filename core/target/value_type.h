// Bytes that the target wrote, as the value that a type makes of them. The one place that reads values.
#pragma once

#include <compare>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace mt {

/// What sort of value 64 bits hold.
enum class ValueSort : std::uint8_t {
    whole,         ///< 0 and above
    signed_whole,  ///< two's complement
    real,          ///< IEEE 754, 64 bits; what had 32 is widened, which loses nothing
    small_real,    ///< the same, of what had 32 bits: shown with as many digits as that has
    truth          ///< 0 or 1
};

/// A value with its sort. Values of one sort are ordered; what is no number (NaN) is equal to nothing.
struct Value {
    ValueSort sort = ValueSort::signed_whole;
    std::uint64_t bits = 0;

    static Value of(std::int64_t v) { return {ValueSort::signed_whole, static_cast<std::uint64_t>(v)}; }
    static Value of(double v);
    /// The nearest number; 0 and 1 of truth.
    double number() const;
    bool is_real() const { return sort == ValueSort::real || sort == ValueSort::small_real; }
    /// Shortest text that reads back as the same: "-20", "0.1", "true".
    std::string text() const;
    std::partial_ordering operator<=>(const Value& other) const;
    bool operator==(const Value& other) const { return (*this <=> other) == 0; }
};

/// How the bytes of a value are to be read: mask and shift first, then the width and the sort.
class ValueType {
  public:
    /// "u8" to "u64", "i8" to "i64" with any number of bits, "f32", "f64", "bool"; nothing for other names.
    static std::optional<ValueType> named(std::string_view name);
    ValueType() = default;  ///< u32
    ValueType(ValueSort sort, unsigned bits) : sort_(sort), bits_(bits) {}
    ValueType with(std::uint64_t mask, unsigned shift) const {
        ValueType t = *this;
        t.mask_ = mask;
        t.shift_ = shift;
        return t;
    }

    ValueSort sort() const { return sort_; }
    unsigned bits() const { return bits_; }
    /// Mask and shift alone: what stands in a bit field.
    std::uint64_t field(std::uint64_t raw) const { return shift_ < 64 ? (raw & mask_) >> shift_ : 0; }
    Value read(std::uint64_t raw) const;

  private:
    ValueSort sort_ = ValueSort::whole;
    unsigned bits_ = 32;
    std::uint64_t mask_ = ~std::uint64_t{0};
    unsigned shift_ = 0;
};

}  // namespace mt
