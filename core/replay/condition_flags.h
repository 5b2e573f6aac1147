// The condition flags of an Arm core of which some are known: Armv8-A ARM (DDI 0487), C1.2.4; Armv7 (DDI 0406C), A8.3.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <utility>

namespace mt {

/// Whether a condition holds with flags N, Z, C, V in bits 3 to 0.
constexpr bool condition_holds(unsigned condition, unsigned nzcv) {
    const bool n = (nzcv & 8) != 0, z = (nzcv & 4) != 0, c = (nzcv & 2) != 0, v = (nzcv & 1) != 0;
    bool holds = true;
    switch (condition >> 1 & 7) {
        case 0:
            holds = z;
            break;
        case 1:
            holds = c;
            break;
        case 2:
            holds = n;
            break;
        case 3:
            holds = v;
            break;
        case 4:
            holds = c && !z;
            break;
        case 5:
            holds = n == v;
            break;
        case 6:
            holds = n == v && !z;
            break;
        default:
            return true;
    }
    return holds != ((condition & 1) != 0);
}

/// N, Z, C, V in bits 3 to 0: of those that are not known, the bit in `value` is 0.
struct ConditionFlags {
    std::uint8_t value = 0, known = 0;
    bool untouched = false;  ///< for who wants to know whether they are written: that makes it false

    static constexpr std::uint8_t kN = 8, kZ = 4, kC = 2, kV = 1;
    static constexpr ConditionFlags of(unsigned nzcv) { return {static_cast<std::uint8_t>(nzcv & 15), 15}; }
    bool whole() const { return known == 15; }

    /// One of kN to kV.
    std::optional<bool> get(unsigned flag) const { return (known & flag) != 0 ? std::optional((value & flag) != 0) : std::nullopt; }
    void put(unsigned flag, std::optional<bool> is) {
        untouched = false;
        known = static_cast<std::uint8_t>(is ? known | flag : known & ~flag);
        value = static_cast<std::uint8_t>(is.value_or(false) ? value | flag : value & ~flag);
    }
    /// Whether a condition holds, if that can be said.
    std::optional<bool> passes(unsigned condition) const {
        bool can = false, can_not = false;
        each([&](unsigned nzcv) { (condition_holds(condition, nzcv) ? can : can_not) = true; });
        return can == can_not ? std::nullopt : std::optional(can);
    }
    /// A condition held, or did not: what that says of the flags.
    void learn(unsigned condition, bool held) {
        untouched = false;
        unsigned ones = 15, zeros = 15;
        bool any = false;
        each([&](unsigned nzcv) {
            if (condition_holds(condition, nzcv) != held) return;
            ones &= nzcv;
            zeros &= ~nzcv;
            any = true;
        });
        if (!any) {  // that cannot be: what was known was wrong
            *this = {};
            return;
        }
        value = static_cast<std::uint8_t>(ones);
        known = static_cast<std::uint8_t>((ones | zeros) & 15);
    }
    /// What is the same in both.
    static ConditionFlags merged(ConditionFlags a, ConditionFlags b) {
        const unsigned both = a.known & b.known & ~(a.value ^ b.value) & 15u;
        return {static_cast<std::uint8_t>(a.value & both), static_cast<std::uint8_t>(both)};
    }

  private:
    template <class F>
    void each(F f) const {
        for (unsigned nzcv = 0; nzcv < 16; ++nzcv)
            if (((nzcv ^ value) & known) == 0) f(nzcv);
    }
};

/// "N0 Z1 C1 V?": a flag that is not known is a question mark.
inline std::string flags_text(const ConditionFlags& flags) {
    std::string text;
    for (const auto& [name, flag] : {std::pair{'N', ConditionFlags::kN}, std::pair{'Z', ConditionFlags::kZ}, std::pair{'C', ConditionFlags::kC}, std::pair{'V', ConditionFlags::kV}}) {
        const auto is = flags.get(flag);
        text += (text.empty() ? "" : " ") + std::string(1, name) + (!is ? "?" : *is ? "1" : "0");
    }
    return text;
}

}  // namespace mt
