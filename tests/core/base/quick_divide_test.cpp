// Divisions without the long division of the processor: what comes out is what it gives.
#include "base/quick_divide.h"

#include <gtest/gtest.h>

#include <random>

namespace mt {
namespace {

// Of all sizes, near powers of two as often as elsewhere.
std::uint64_t some(std::mt19937_64& random, unsigned most_bits) {
    const unsigned bits = static_cast<unsigned>(random() % most_bits) + 1;
    const std::uint64_t v = random() >> (64 - bits);
    return random() % 3 == 0 ? std::max<std::uint64_t>(1, (std::uint64_t{1} << (bits - 1)) - random() % 2) : v;
}

TEST(Divider, GivesQuotientAndRest) {
    std::mt19937_64 random(1);
    for (int i = 0; i < 200'000; ++i) {
        const std::uint64_t by = std::max<std::uint64_t>(2, some(random, 62)), a = some(random, 64);
        std::uint64_t left = 0;
        ASSERT_EQ(Divider(by).divide(a, left), a / by) << a << " / " << by;
        ASSERT_EQ(left, a % by) << a << " / " << by;
    }
}

TEST(DivideSoon, GivesQuotientAndRestUpToItsLimits) {
    std::mt19937_64 random(2);
    int checked = 0;
    for (int i = 0; i < 400'000; ++i) {
        const std::uint64_t by = std::max<std::uint64_t>(1, some(random, 61)), a = some(random, 62);
        if (a / by >= std::uint64_t{1} << 50) continue;
        ++checked;
        std::uint64_t left = 0;
        ASSERT_EQ(divide_soon(a, by, left), a / by) << a << " / " << by;
        ASSERT_EQ(left, a % by) << a << " / " << by;
    }
    EXPECT_GT(checked, 200'000);
}

TEST(QuickClock, TellsTheSameTimesAsTheClock) {
    std::mt19937_64 random(3);
    for (const std::uint64_t hz : {1ull, 2ull, 32'768ull, 10'000'000ull, 31'250'000ull, 120'000'000ull, 333'333'333ull,
                                   1'000'000'007ull, 9'999'999'999'999ull, 20'000'000'000'000ull})
        for (int i = 0; i < 20'000; ++i) {
            auto cycles = static_cast<std::int64_t>(some(random, 63));
            if (i % 7 == 0) cycles = -cycles;
            ASSERT_EQ(QuickClock(Clock{hz}).at(cycles).ps, Clock{hz}.at(cycles).ps) << cycles << " at " << hz << " Hz";
        }
}

}  // namespace
}  // namespace mt
