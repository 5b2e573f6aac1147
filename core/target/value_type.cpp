#include "target/value_type.h"

#include <array>
#include <bit>
#include <charconv>

namespace mt {

Value Value::of(double v) { return {ValueSort::real, std::bit_cast<std::uint64_t>(v)}; }

double Value::number() const {
    switch (sort) {
        case ValueSort::signed_whole:
            return static_cast<double>(static_cast<std::int64_t>(bits));
        case ValueSort::real:
        case ValueSort::small_real:
            return std::bit_cast<double>(bits);
        default:
            return static_cast<double>(bits);
    }
}

std::string Value::text() const {
    std::array<char, 40> out{};
    const auto shortest = [&out](auto v) {
        const auto end = std::to_chars(out.data(), out.data() + out.size(), v).ptr;
        return std::string(out.data(), static_cast<std::size_t>(end - out.data()));
    };
    switch (sort) {
        case ValueSort::whole:
            return shortest(bits);
        case ValueSort::signed_whole:
            return shortest(static_cast<std::int64_t>(bits));
        case ValueSort::real:
            return shortest(number());
        case ValueSort::small_real:
            return shortest(static_cast<float>(number()));
        case ValueSort::truth:
            return bits != 0 ? "true" : "false";
    }
    return {};
}

std::partial_ordering Value::operator<=>(const Value& other) const {
    if (sort != other.sort || is_real()) return number() <=> other.number();
    if (sort == ValueSort::signed_whole)
        return static_cast<std::int64_t>(bits) <=> static_cast<std::int64_t>(other.bits);
    return bits <=> other.bits;
}

std::optional<ValueType> ValueType::named(std::string_view name) {
    if (name == "f32") return ValueType(ValueSort::small_real, 32);
    if (name == "f64") return ValueType(ValueSort::real, 64);
    if (name == "bool") return ValueType(ValueSort::truth, 1);
    if (name.size() < 2 || (name[0] != 'u' && name[0] != 'i')) return std::nullopt;
    unsigned bits = 0;
    const auto [end, error] = std::from_chars(name.data() + 1, name.data() + name.size(), bits);
    if (error != std::errc{} || end != name.data() + name.size() || bits < 1 || bits > 64) return std::nullopt;
    return ValueType(name[0] == 'u' ? ValueSort::whole : ValueSort::signed_whole, bits);
}

Value ValueType::read(std::uint64_t raw) const {
    const std::uint64_t v = field(raw);
    const std::uint64_t low = bits_ < 64 ? v & ((std::uint64_t{1} << bits_) - 1) : v;
    switch (sort_) {
        case ValueSort::signed_whole: {
            const std::uint64_t sign = std::uint64_t{1} << (bits_ - 1);
            return {sort_, (low ^ sign) - sign};
        }
        case ValueSort::small_real:
            return {sort_, std::bit_cast<std::uint64_t>(
                               static_cast<double>(std::bit_cast<float>(static_cast<std::uint32_t>(v))))};
        case ValueSort::real:
            return {sort_, v};
        case ValueSort::truth:
            return {sort_, v != 0 ? 1u : 0u};
        default:
            return {sort_, low};
    }
}

}  // namespace mt
