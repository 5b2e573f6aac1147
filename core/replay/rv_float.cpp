#include "replay/rv_float.h"

#include <bit>
#include <cfenv>
#include <cmath>
#include <limits>
#include <type_traits>

#include "target/riscv_insn.h"

namespace mt {
namespace {

using namespace rv;

enum Mode : unsigned { kNearest = 0, kToZero = 1, kDown = 2, kUp = 3, kNearestAway = 4, kDynamic = 7 };

template <class Real>
using Bits = std::conditional_t<sizeof(Real) == 4, std::uint32_t, std::uint64_t>;
template <class Real>
constexpr Bits<Real> kNoNumber = sizeof(Real) == 4 ? Bits<Real>{0x7FC0'0000} : static_cast<Bits<Real>>(0x7FF8'0000'0000'0000);
template <class Real>
constexpr Bits<Real> kSign = Bits<Real>{1} << (8 * sizeof(Real) - 1);

// 21.2: a narrower value has ones above it.
template <class Real>
std::uint64_t boxed(Real v) {
    auto b = std::bit_cast<Bits<Real>>(v);
    if (std::isnan(v)) b = kNoNumber<Real>;
    return sizeof(Real) == 4 ? 0xFFFF'FFFF'0000'0000 | b : b;
}
template <class Real>
std::uint64_t boxed_bits(Bits<Real> b) {
    return sizeof(Real) == 4 ? 0xFFFF'FFFF'0000'0000 | b : b;
}

// The processor's own rounding, while it lives.
class Rounding {
  public:
    explicit Rounding(unsigned mode) : before_(std::fegetround()) {
        std::fesetround(mode == kToZero ? FE_TOWARDZERO : mode == kDown ? FE_DOWNWARD : mode == kUp ? FE_UPWARD : FE_TONEAREST);
        std::feclearexcept(FE_ALL_EXCEPT);
    }
    ~Rounding() { std::fesetround(before_); }
    Rounding(const Rounding&) = delete;
    Rounding& operator=(const Rounding&) = delete;
    bool exact() const { return std::fetestexcept(FE_INEXACT) == 0; }

  private:
    int before_;
};

// Nothing if it depends on what is not known. `zero_has_sign`: of a sum, the sign of zero depends on the mode.
template <class Real, class How>
std::optional<Real> rounded(std::optional<unsigned> mode, bool zero_has_sign, How how) {
    const bool known = mode && *mode <= kUp;
    Rounding rounding(known ? *mode : kNearest);
    volatile Real result = how();
    const Real r = result;
    if (!known && (!rounding.exact() || (zero_has_sign && r == 0))) return std::nullopt;
    return r;
}

// 20.7: to an integer of `width` bits, saturating; what is no number is the greatest.
template <class Real>
std::optional<std::uint64_t> to_integer(Real v, unsigned width, bool with_sign, std::optional<unsigned> mode) {
    const long double most = with_sign ? std::ldexp(1.0L, static_cast<int>(width) - 1) - 1 : std::ldexp(1.0L, static_cast<int>(width)) - 1;
    const long double least = with_sign ? -std::ldexp(1.0L, static_cast<int>(width) - 1) : 0;
    const std::uint64_t top = with_sign ? (std::uint64_t{1} << (width - 1)) - 1 : ~std::uint64_t{0} >> (64 - width);
    if (std::isnan(v)) return top;
    const auto wide = static_cast<long double>(v);
    long double whole = std::trunc(wide);
    if (whole != wide) {
        if (!mode || *mode > kNearestAway) return std::nullopt;
        switch (*mode) {
            case kNearest:
                whole = std::nearbyint(wide);  // the processor rounds so, where nothing else is said
                break;
            case kDown:
                whole = std::floor(wide);
                break;
            case kUp:
                whole = std::ceil(wide);
                break;
            case kNearestAway:
                whole = std::round(wide);
                break;
            default:
                break;
        }
    }
    if (whole > most) return top;
    if (whole < least) return with_sign ? std::uint64_t{1} << (width - 1) : 0;
    return whole < 0 ? static_cast<std::uint64_t>(static_cast<std::int64_t>(whole)) : static_cast<std::uint64_t>(whole);
}

// 20.9: one bit of ten.
template <class Real>
std::uint64_t class_of(Bits<Real> b) {
    const auto v = std::bit_cast<Real>(b);
    const bool minus = (b & kSign<Real>) != 0;
    constexpr Bits<Real> quiet = kSign<Real> >> (sizeof(Real) == 4 ? 9 : 12);
    switch (std::fpclassify(v)) {
        case FP_INFINITE:
            return minus ? 1 << 0 : 1 << 7;
        case FP_NORMAL:
            return minus ? 1 << 1 : 1 << 6;
        case FP_SUBNORMAL:
            return minus ? 1 << 2 : 1 << 5;
        case FP_ZERO:
            return minus ? 1 << 3 : 1 << 4;
        default:
            return (b & quiet) != 0 ? 1 << 9 : 1 << 8;
    }
}

Known sure(std::uint64_t value, unsigned xlen) { return {xlen == 32 ? value & 0xFFFF'FFFF : value, true}; }
std::uint64_t with_sign_of_32(std::uint64_t v) { return static_cast<std::uint64_t>(static_cast<std::int64_t>(static_cast<std::int32_t>(static_cast<std::uint32_t>(v)))); }

}  // namespace

void RvFloat::put(unsigned rd, const Known& value, std::uint64_t step) {
    f_[rd] = value;
    f_[rd].set_at = step;
    f_[rd].origin = 0;
    if (!value.known) f_[rd].value = 0;
}

void RvFloat::load(unsigned rd, unsigned bytes, const Known& value, std::uint64_t step) {
    Known v{value.value, value.known};
    if (bytes == 4 && v.known) v.value = 0xFFFF'FFFF'0000'0000 | (v.value & 0xFFFF'FFFF);
    put(rd, v, step);
}

Known RvFloat::stored(unsigned from, unsigned bytes) const {
    const Known& v = f_[from];
    return {bytes == 4 ? v.value & 0xFFFF'FFFF : v.value, v.known};
}

void RvFloat::lose(std::uint64_t step) {
    for (unsigned n = 0; n < f_.size(); ++n) put(n, {}, step);
    rounding_.reset();
}

std::optional<Known> RvFloat::control(std::uint32_t number, unsigned way, bool writes, const Known& operand) {
    constexpr std::uint32_t kFlags = 1, kMode = 2, kBoth = 3;
    if (number < kFlags || number > kBoth) return std::nullopt;
    Known old;
    if (number == kMode && rounding_) old = {*rounding_, true};
    if (!writes || number == kFlags) return old;
    const unsigned shift = number == kBoth ? 5 : 0;
    if (!operand.known)
        rounding_.reset();
    else if (const auto given = static_cast<unsigned>(operand.value >> shift & 7); way == 1)
        rounding_ = given;
    else if (rounding_)
        rounding_ = way == 2 ? *rounding_ | given : *rounding_ & ~given;
    return old;
}

// 21.2: a single that is not boxed is no number.
template <class Real>
std::optional<Real> RvFloat::real(unsigned n) const {
    if (!f_[n].known) return std::nullopt;
    if (sizeof(Real) == 4 && f_[n].value >> 32 != 0xFFFF'FFFF) return std::bit_cast<Real>(kNoNumber<Real>);
    return std::bit_cast<Real>(static_cast<Bits<Real>>(f_[n].value));
}

template <class Real>
std::optional<Known> RvFloat::calculate(std::uint32_t i, const Known& operand, unsigned xlen, std::uint64_t step) {
    const unsigned rd = bits(i, 11, 7), kind = bits(i, 31, 27), f3 = bits(i, 14, 12), n1 = bits(i, 19, 15), n2 = bits(i, 24, 20);
    const std::optional<unsigned> mode = f3 == kDynamic ? rounding_ : std::optional(f3);
    const auto a = real<Real>(n1), b = real<Real>(n2);
    const auto result = [&](std::optional<Real> v) -> std::optional<Known> {
        put(rd, v ? Known{boxed(*v), true} : Known{}, step);
        return std::nullopt;
    };
    const auto raw = [&](Bits<Real> v) -> std::optional<Known> {
        put(rd, {boxed_bits<Real>(v), true}, step);
        return std::nullopt;
    };
    if ((i & 0x7F) != 0x53) {  // 20.6: fused; one rounding
        const auto c = real<Real>(kind);
        if (!a || !b || !c) return result({});
        const unsigned op = (i & 0x7F) >> 2 & 3;  // MADD, MSUB, NMSUB, NMADD
        return result(rounded<Real>(mode, true, [&] {
            volatile Real x = op >= 2 ? -*a : *a, y = *b, z = (op & 1) != 0 ? -*c : *c;
            return std::fma(x, y, z);
        }));
    }
    switch (kind) {
        case 0x00:
        case 0x01:
        case 0x02:
        case 0x03:
            if (!a || !b) return result({});
            return result(rounded<Real>(mode, kind < 2, [&]() -> Real {
                volatile Real x = *a, y = *b;
                return kind == 0 ? x + y : kind == 1 ? x - y : kind == 2 ? x * y : x / y;
            }));
        case 0x0B:
            if (!a) return result({});
            return result(rounded<Real>(mode, false, [&]() -> Real {
                volatile Real x = *a;
                return std::sqrt(x);
            }));
        case 0x04: {  // sign injection
            if (!a || !b || f3 > 2) return result({});
            const auto x = std::bit_cast<Bits<Real>>(*a), y = std::bit_cast<Bits<Real>>(*b);
            const Bits<Real> sign = f3 == 0 ? y : f3 == 1 ? static_cast<Bits<Real>>(~y) : static_cast<Bits<Real>>(x ^ y);
            return raw((x & ~kSign<Real>) | (sign & kSign<Real>));
        }
        case 0x05: {  // least and greatest; minus zero is less than zero
            if (!a || !b || f3 > 1) return result({});
            if (std::isnan(*a) || std::isnan(*b)) return result(std::isnan(*a) ? *b : *a);
            const bool less = *a < *b || (*a == *b && std::signbit(*a));
            return result(less == (f3 == 0) ? *a : *b);
        }
        case 0x08: {  // from the other precision
            if (n2 > 1 || (n2 == 0) == (sizeof(Real) == 4)) return result({});
            if constexpr (sizeof(Real) == 4) {
                const auto wide = real<double>(n1);
                if (!wide) return result({});
                return result(rounded<float>(mode, false, [&]() -> float {
                    volatile double x = *wide;
                    return static_cast<float>(x);
                }));
            } else {
                const auto narrow = real<float>(n1);
                return result(narrow ? std::optional(static_cast<double>(*narrow)) : std::nullopt);
            }
        }
        case 0x14: {
            if (!a || !b || f3 > 2) return Known{};
            return sure(f3 == 2 ? *a == *b : f3 == 1 ? *a < *b : *a <= *b, xlen);
        }
        case 0x18: {
            if (!a || n2 > 3) return Known{};
            const unsigned width = n2 < 2 ? 32 : 64;
            const auto whole = to_integer(*a, width, (n2 & 1) == 0, mode);
            if (!whole) return Known{};
            return sure(width == 32 ? with_sign_of_32(*whole) : *whole, xlen);
        }
        case 0x1A: {
            if (!operand.known || n2 > 3) return result({});
            return result(rounded<Real>(mode, false, [&]() -> Real {
                const std::uint64_t v = operand.value;
                volatile std::int32_t word = static_cast<std::int32_t>(static_cast<std::uint32_t>(v));
                volatile std::uint32_t positive = static_cast<std::uint32_t>(v);
                volatile std::int64_t wide = static_cast<std::int64_t>(v);
                volatile std::uint64_t all = v;
                return n2 == 0 ? static_cast<Real>(word) : n2 == 1 ? static_cast<Real>(positive) : n2 == 2 ? static_cast<Real>(wide) : static_cast<Real>(all);
            }));
        }
        case 0x1C: {
            if (!f_[n1].known || f3 > 1) return Known{};
            if (f3 == 1) return sure(class_of<Real>(std::bit_cast<Bits<Real>>(*a)), xlen);
            return sure(sizeof(Real) == 4 ? with_sign_of_32(f_[n1].value) : f_[n1].value, xlen);
        }
        case 0x1E:
            if (!operand.known) return result({});
            return raw(static_cast<Bits<Real>>(operand.value));
        default:
            return result({});
    }
}

std::optional<Known> RvFloat::operate(std::uint32_t i, const Known& operand, unsigned xlen, std::uint64_t step) {
    const unsigned format = bits(i, 26, 25);
    if (format == 0) return calculate<float>(i, operand, xlen, step);
    if (format == 1) return calculate<double>(i, operand, xlen, step);
    const unsigned kind = bits(i, 31, 27);
    if ((i & 0x7F) == 0x53 && (kind == 0x14 || kind == 0x18 || kind == 0x1C)) return Known{};
    put(bits(i, 11, 7), {}, step);
    return std::nullopt;
}

}  // namespace mt
