// Time and clocks. `Time` is a strong type so that nanoseconds, cycles and picoseconds never mix.
// Values are plain data: any thread may use them.
#pragma once

#include <compare>
#include <cstdint>
#include <limits>

namespace mt {

/// A moment or a length in picoseconds from the start of the recording. Signed 64 bits reach
/// about 106 days.
struct Time {
    std::int64_t ps = 0;

    friend constexpr auto operator<=>(Time, Time) = default;
    friend constexpr Time operator+(Time a, Time b) { return {a.ps + b.ps}; }
    friend constexpr Time operator-(Time a, Time b) { return {a.ps - b.ps}; }
    constexpr Time& operator+=(Time b) {
        ps += b.ps;
        return *this;
    }
    constexpr double ns() const { return static_cast<double>(ps) / 1e3; }
    constexpr double us() const { return static_cast<double>(ps) / 1e6; }
    constexpr double seconds() const { return static_cast<double>(ps) / 1e12; }

    static constexpr Time from_ns(double v) { return {static_cast<std::int64_t>(v * 1e3 + (v < 0 ? -0.5 : 0.5))}; }
    static constexpr Time from_us(double v) { return from_ns(v * 1e3); }
    static constexpr Time from_ms(double v) { return from_ns(v * 1e6); }
    static constexpr Time min() { return {std::numeric_limits<std::int64_t>::min()}; }
    static constexpr Time max() { return {std::numeric_limits<std::int64_t>::max()}; }
};

/// A time known to lie in [earliest, latest]; exact when both are equal.
struct BoundedTime {
    Time earliest, latest;
};

/// Converts cycles of one clock into Time and back with exact rational arithmetic.
struct Clock {
    std::uint64_t hz = 1'000'000'000;

    /// The time of `cycles`, rounded to the nearest picosecond, saturating at Time's ends.
    constexpr Time at(std::int64_t cycles) const {
        // The usual case in 64 bits: whole seconds, then whole microseconds, then the rest.
        if (cycles >= 0 && hz < 10'000'000'000'000 && cycles < (std::int64_t{1} << 62)) {
            const auto c = static_cast<std::uint64_t>(cycles);
            const std::uint64_t seconds = c / hz, micro = c % hz * 1'000'000, rest = micro % hz * 1'000'000;
            if (seconds < 9'000'000)
                return {static_cast<std::int64_t>(seconds * 1'000'000'000'000 + micro / hz * 1'000'000 +
                                                  (rest + hz / 2) / hz)};
        }
        const __int128 half = static_cast<__int128>(hz / 2);
        const __int128 scaled = static_cast<__int128>(cycles) * 1'000'000'000'000;
        const __int128 ps = (scaled + (cycles < 0 ? -half : half)) / static_cast<__int128>(hz);
        constexpr auto top = std::numeric_limits<std::int64_t>::max();
        return {ps > top ? top : ps < -top ? -top : static_cast<std::int64_t>(ps)};
    }
    /// The cycles in `t`, rounded to nearest: gives back exactly what `at` was given for hz < 10^12 / 2.
    constexpr std::int64_t cycles(Time t) const {
        const __int128 half = t.ps < 0 ? -500'000'000'000 : 500'000'000'000;
        return static_cast<std::int64_t>((static_cast<__int128>(t.ps) * static_cast<__int128>(hz) + half) /
                                         1'000'000'000'000);
    }
};

}  // namespace mt
