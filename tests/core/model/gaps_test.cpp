// Where the recording does not know: found by core and time, however the gaps lie.
#include "model/gaps.h"

#include <gtest/gtest.h>

#include <random>

namespace mt {
namespace {

Gap gap(std::uint16_t core, int from_ms, int to_ms, std::uint32_t stream = 0) {
    Gap g;
    g.core = core;
    g.stream = stream;
    g.begin = Time::from_ms(from_ms);
    g.end = Time::from_ms(to_ms);
    return g;
}

TEST(GapList, BelongsToACore) {
    GapList gaps;
    gaps.push_back(gap(1, 10, 20));
    EXPECT_TRUE(gaps.touch(1, Time::from_ms(15), Time::from_ms(16)));
    EXPECT_FALSE(gaps.touch(0, Time::from_ms(15), Time::from_ms(16)));
    EXPECT_FALSE(gaps.touch(2, Time::from_ms(15), Time::from_ms(16)));
    EXPECT_TRUE(gaps.touch(Time::from_ms(20), Time::from_ms(30))) << "its last moment is one of it";
    EXPECT_FALSE(gaps.touch(Time::from_ms(21), Time::from_ms(30)));
}

TEST(GapList, CoversWhatOneGapHasInIt) {
    GapList gaps;
    gaps.push_back(gap(0, 10, 20));
    gaps.push_back(gap(0, 20, 30));
    EXPECT_TRUE(gaps.covers(0, Time::from_ms(12), Time::from_ms(20)));
    EXPECT_FALSE(gaps.covers(0, Time::from_ms(12), Time::from_ms(25))) << "no single one does";
    EXPECT_FALSE(gaps.covers(0, Time::from_ms(5), Time::from_ms(15)));
    EXPECT_FALSE(gaps.covers(1, Time::from_ms(12), Time::from_ms(15)));
}

// Against looking at each of them.
TEST(GapList, AnswersAsAWalkThroughAllWould) {
    std::mt19937 random(11);
    const auto any = [&random](int below) { return static_cast<int>(random() % static_cast<unsigned>(below)); };
    for (int round = 0; round < 50; ++round) {
        GapList gaps;
        std::vector<Gap> all;
        int at[2][3] = {};
        for (int i = any(60); i > 0; --i) {
            const int core = any(2), stream = any(3);
            int& begin = at[core][stream];
            begin += any(20);
            all.push_back(
                gap(static_cast<std::uint16_t>(core), begin, begin + any(30), static_cast<std::uint32_t>(stream)));
            gaps.push_back(all.back());
        }
        for (int i = 0; i < 200; ++i) {
            const std::size_t core = static_cast<std::size_t>(any(2));
            const Time from = Time::from_ms(any(400)), to = from + Time::from_ms(any(40));
            bool touched = false, touched_any = false, covered = false;
            for (const Gap& g : all) {
                const bool here = g.begin <= to && from <= g.end;
                touched_any = touched_any || here;
                touched = touched || (here && g.core == core);
                covered = covered || (g.core == core && g.begin <= from && to <= g.end);
            }
            EXPECT_EQ(gaps.touch(core, from, to), touched);
            EXPECT_EQ(gaps.touch(from, to), touched_any);
            EXPECT_EQ(gaps.covers(core, from, to), covered);
        }
    }
}

TEST(GapList, CountsOverlapsOnce) {
    GapList gaps;
    gaps.push_back(gap(0, 10, 20));
    gaps.push_back(gap(0, 15, 30));
    gaps.push_back(gap(1, 25, 40));
    EXPECT_EQ(gaps.covered(0), Time::from_ms(20));
    EXPECT_EQ(gaps.covered(1), Time::from_ms(15));
    EXPECT_EQ(gaps.covered(), Time::from_ms(30));
}

// A picture of 10^5 of them costs its pixels.
TEST(GapList, TellsThoseOfAPictureOnceAPixel) {
    GapList gaps;
    for (int i = 0; i < 100'000; ++i) gaps.push_back(gap(0, 10 * i, 10 * i + 1));
    std::size_t told = 0;
    gaps.each(0, Time{}, Time::from_ms(1'000'000), Time::from_ms(1'000), [&told](const Gap&) { ++told; });
    EXPECT_LE(told, 1'100U);
    EXPECT_GE(told, 900U);
    told = 0;
    gaps.each(0, Time::from_ms(500'000), Time::from_ms(500'100), Time{}, [&told](const Gap&) { ++told; });
    EXPECT_EQ(told, 11U);
}

}  // namespace
}  // namespace mt
