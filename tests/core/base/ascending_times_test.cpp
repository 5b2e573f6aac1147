// Moments in half the memory: every one comes back as it was, however far apart.
#include "base/ascending_times.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <random>
#include <vector>

namespace mt {
namespace {

// Gaps of all sizes, so that narrow and wide blocks follow each other in any order.
std::vector<Time> moments(unsigned seed, std::size_t n) {
    std::mt19937_64 random(seed);
    std::vector<Time> all;
    std::int64_t at = -5'000'000'000'000;
    for (std::size_t i = 0; i < n; ++i) {
        const unsigned kind = static_cast<unsigned>(random() % 2000);
        at += kind == 0 ? static_cast<std::int64_t>(random() % (std::uint64_t{1} << 40))
                        : static_cast<std::int64_t>(random() % (kind < 200 ? 1 : 30'000'000));
        all.push_back({at});
    }
    return all;
}

TEST(AscendingTimes, GivesBackWhatItTookAtAnyDistance) {
    for (unsigned seed = 1; seed <= 3; ++seed) {
        const std::vector<Time> expected = moments(seed, 60'000);
        AscendingTimes times;
        for (const Time t : expected) times.push_back(t);
        ASSERT_EQ(times.size(), expected.size());
        for (std::size_t i = 0; i < expected.size(); ++i) ASSERT_EQ(times[i], expected[i]) << i;
        EXPECT_EQ(times.back(), expected.back());
        std::array<Time, AscendingTimes::kBlock> block;
        for (std::size_t from = 0; from < expected.size(); from += block.size()) {
            times.block(from, block);
            for (std::size_t k = 0; k < block.size() && from + k < expected.size(); ++k)
                ASSERT_EQ(block[k], expected[from + k]) << from << " + " << k;
        }
    }
}

TEST(AscendingTimes, FindsAMomentLikeASearchOfAllOfThem) {
    const std::vector<Time> expected = moments(7, 10'037);
    AscendingTimes times;
    for (const Time t : expected) times.push_back(t);
    std::mt19937_64 random(9);
    for (int i = 0; i < 20'000; ++i) {
        const Time t{expected[random() % expected.size()].ps + static_cast<std::int64_t>(random() % 3) - 1};
        EXPECT_EQ(times.lower_bound(t),
                  static_cast<std::size_t>(std::lower_bound(expected.begin(), expected.end(), t) - expected.begin()));
        EXPECT_EQ(times.upper_bound(t),
                  static_cast<std::size_t>(std::upper_bound(expected.begin(), expected.end(), t) - expected.begin()));
    }
    EXPECT_EQ(times.lower_bound(Time::max()), expected.size());
    EXPECT_EQ(AscendingTimes().lower_bound({0}), 0U);
}

TEST(AscendingTimes, ACopyKeepsItsLengthWhileTheOriginalGrows) {
    const std::vector<Time> expected = moments(4, 5'000);
    AscendingTimes times;
    std::vector<AscendingTimes> copies;
    for (std::size_t i = 0; i < expected.size(); ++i) {
        if (i % 333 == 0) copies.push_back(times);
        times.push_back(expected[i]);
    }
    for (std::size_t c = 0; c < copies.size(); ++c) {
        ASSERT_EQ(copies[c].size(), c * 333);
        for (std::size_t i = 0; i < copies[c].size(); ++i) ASSERT_EQ(copies[c][i], expected[i]);
    }
}

}  // namespace
}  // namespace mt
