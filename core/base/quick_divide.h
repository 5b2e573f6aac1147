// Divisions by a number that stays, or by one that is not large, without the processor's long division. Exact.
#pragma once

#include <cstdint>

#include "base/time.h"

namespace mt {

/// Divides by the same number again and again. Plain data.
class Divider {
  public:
    /// REQUIRES: by >= 2.
    explicit constexpr Divider(std::uint64_t by) : by_(by), part_(~std::uint64_t{0} / by) {}
    /// a / by, and what is left.
    constexpr std::uint64_t divide(std::uint64_t a, std::uint64_t& left) const {
        // part_ is too small by less than 2: so is the quotient, by 2 at the most.
        auto q = static_cast<std::uint64_t>(static_cast<unsigned __int128>(a) * part_ >> 64);
        left = a - q * by_;
        while (left >= by_) {
            left -= by_;
            ++q;
        }
        return q;
    }
    constexpr std::uint64_t by() const { return by_; }

  private:
    std::uint64_t by_, part_;
};

/// a / by, and what is left. REQUIRES: a < 2^62, by > 0, and a / by < 2^50.
inline std::uint64_t divide_soon(std::uint64_t a, std::uint64_t by, std::uint64_t& left) {
    // Doubles have 53 bits: the quotient is wrong by 1 at the most.
    auto q = static_cast<std::int64_t>(static_cast<double>(static_cast<std::int64_t>(a)) /
                                       static_cast<double>(static_cast<std::int64_t>(by)));
    auto rest = static_cast<std::int64_t>(a) - q * static_cast<std::int64_t>(by);
    if (rest < 0) {
        rest += static_cast<std::int64_t>(by);
        --q;
    } else if (rest >= static_cast<std::int64_t>(by)) {
        rest -= static_cast<std::int64_t>(by);
        ++q;
    }
    left = static_cast<std::uint64_t>(rest);
    return static_cast<std::uint64_t>(q);
}

/// Clock::at for many numbers of cycles.
class QuickClock {
  public:
    explicit constexpr QuickClock(Clock clock) : clock_(clock), by_(clock.hz < 2 ? 2 : clock.hz) {}
    constexpr Time at(std::int64_t cycles) const {
        const std::uint64_t hz = by_.by();
        if (cycles < 0 || clock_.hz != hz || hz >= 10'000'000'000'000 || cycles >= (std::int64_t{1} << 62))
            return clock_.at(cycles);
        std::uint64_t rest = 0, left = 0;
        const std::uint64_t seconds = by_.divide(static_cast<std::uint64_t>(cycles), rest);
        if (seconds >= 9'000'000) return clock_.at(cycles);
        const std::uint64_t micro = by_.divide(rest * 1'000'000, rest);
        const std::uint64_t pico = by_.divide(rest * 1'000'000 + hz / 2, left);
        return {static_cast<std::int64_t>(seconds * 1'000'000'000'000 + micro * 1'000'000 + pico)};
    }
    const Clock& clock() const { return clock_; }

  private:
    Clock clock_;
    Divider by_;
};

}  // namespace mt
