#include "target/typed_value.h"

#include <algorithm>
#include <bit>
#include <cmath>

namespace mt {

std::int64_t ValueForm::read(std::uint64_t raw) const {
    const std::uint64_t v = part(raw);
    if (type == "i8") return static_cast<std::int8_t>(v);
    if (type == "i16") return static_cast<std::int16_t>(v);
    if (type == "i32") return static_cast<std::int32_t>(v);
    if (type == "u8") return static_cast<std::uint8_t>(v);
    if (type == "u16") return static_cast<std::uint16_t>(v);
    if (type != "f32") return static_cast<std::int64_t>(v);
    const float f = std::bit_cast<float>(static_cast<std::uint32_t>(v));
    constexpr double kMost = 9e18;
    return std::isfinite(f)
               ? static_cast<std::int64_t>(std::llround(std::clamp(static_cast<double>(f) * 1e6, -kMost, kMost)))
               : 0;
}

std::string ValueForm::text(std::uint64_t raw) const {
    if (type == "f32") return std::to_string(std::bit_cast<float>(static_cast<std::uint32_t>(part(raw))));
    return std::to_string(read(raw));
}

}  // namespace mt
