// Figures from executions written by hand, so that every number can be checked in the head.
#include "measure/interrupts.h"

#include <gtest/gtest.h>

#include <random>

#include "support.h"

namespace mt {
namespace {

struct Execution {
    double at_us, length_us;
    double own_us = -1;
    std::uint8_t flags = 0;
    double begin_slack_us = 0, end_slack_us = 0;
};

Trail trail_of(const std::vector<Execution>& runs, double end_us) {
    Trail trail;
    CoreTrail core;
    core.name = "main";
    core.clock.hz = 100'000'000;
    core.lanes.emplace_back(std::uint16_t{17}, "STEP_TIMER");
    for (const Execution& r : runs) {
        ExceptionInstance x;
        x.begin = Time::from_us(r.at_us);
        x.end = Time::from_us(r.at_us + r.length_us);
        x.own = Time::from_us(r.own_us < 0 ? r.length_us : r.own_us);
        x.flags = r.flags;
        x.begin_slack = Time::from_us(r.begin_slack_us);
        x.end_slack = Time::from_us(r.end_slack_us);
        x.number = 17;
        x.depth = 1;
        core.lanes[0].append(x);
    }
    core.by_priority = {0};
    trail.cores.push_back(core);
    trail.end = Time::from_us(end_us);
    return trail;
}

InterruptRow row_of(const Trail& trail) { return interrupt_row(trail, 0, 0); }

TEST(Measures, LeastMeanGreatestAndTheirSpread) {
    const auto row = row_of(trail_of({{0, 2}, {100, 4}, {200, 6}, {300, 8}}, 1000));
    EXPECT_EQ(row.count, 4U);
    EXPECT_EQ(*row.least, Time::from_us(2));
    EXPECT_EQ(*row.mean, Time::from_us(5));
    EXPECT_EQ(*row.greatest, Time::from_us(8));
    EXPECT_EQ(row.total, Time::from_us(20));
    EXPECT_NEAR(row.deviation->us(), 2.2360679, 1e-5) << "of the population, not of a sample";
    EXPECT_NEAR(row.share, 0.02, 1e-9);
}

TEST(Measures, PercentilesAreNearestRank) {
    std::vector<Execution> runs;
    for (int i = 1; i <= 100; ++i) runs.push_back({100.0 * i, static_cast<double>(i)});
    const auto row = row_of(trail_of(runs, 11'000));
    EXPECT_EQ(*row.p95, Time::from_us(95));
    EXPECT_EQ(*row.p99, Time::from_us(99));
    const auto one = row_of(trail_of({{0, 7}}, 100));
    EXPECT_EQ(*one.p95, Time::from_us(7));
}

TEST(Measures, PeriodsRunFromEntryToEntryAndNeverAcrossAGap) {
    const auto row =
        row_of(trail_of({{0, 1}, {100, 1}, {210, 1}, {900, 1, 1, ExceptionInstance::kAfterGap}, {1000, 1}}, 1100));
    EXPECT_EQ(*row.period_least, Time::from_us(100));
    EXPECT_EQ(*row.period_greatest, Time::from_us(110)) << "not the 690 µs that a gap hides";
    EXPECT_NEAR(row.period_mean->us(), 310.0 / 3, 1e-5);
}

TEST(Measures, WhatIsCutIsLeftOutAndCounted) {
    const auto row = row_of(trail_of(
        {{0, 50, 50, ExceptionInstance::kCutBegin}, {100, 2}, {200, 2}, {300, 700, 700, ExceptionInstance::kCutEnd}},
        1000));
    EXPECT_EQ(row.count, 2U);
    EXPECT_EQ(row.left_out, 2U);
    EXPECT_EQ(*row.greatest, Time::from_us(2));
    EXPECT_EQ(*row.period_greatest, Time::from_us(100))
        << "an entry that was seen ends a period though its exit was not";
}

TEST(Measures, OwnTimeIsWithoutWhatCutIn) {
    const auto row = row_of(trail_of({{0, 10, 4}, {100, 6, 6}}, 1000));
    EXPECT_EQ(row.own, Time::from_us(10));
    EXPECT_EQ(row.total, Time::from_us(16));
    EXPECT_EQ(*row.own_least, Time::from_us(4));
    EXPECT_EQ(*row.own_greatest, Time::from_us(6));
    EXPECT_NEAR(row.share, 0.01, 1e-9);
}

TEST(Measures, TheShareIsOfTheTimeThatIsKnown) {
    Trail trail = trail_of({{0, 10}}, 1000);
    trail.streams.resize(1);
    Gap gap;
    gap.begin = Time::from_us(400);
    gap.end = Time::from_us(900);
    trail.gaps.push_back(gap);
    EXPECT_NEAR(row_of(trail).share, 10.0 / 500, 1e-9);
}

TEST(Measures, BoundsWidenBothWays) {
    const auto row = row_of(trail_of({{0, 10, 10, 0, 3, 4}, {100, 10}}, 1000));
    EXPECT_EQ(row.bounded, 1U);
    EXPECT_EQ(row.widest_bound, Time::from_us(4));
    EXPECT_EQ(row.least_range.low, Time::from_us(6)) << "it may have left 4 µs earlier";
    EXPECT_EQ(row.greatest_range.high, Time::from_us(13)) << "it may have entered 3 µs earlier";
    EXPECT_EQ(row.mean_range.low, Time::from_us(8));
    EXPECT_EQ(row.mean_range.high, Time{11'500'000});
}

TEST(Measures, NothingWholeGivesEmptyFiguresNotZeros) {
    const auto row = row_of(trail_of({{0, 50, 50, ExceptionInstance::kCutEnd}}, 1000));
    EXPECT_FALSE(row.least || row.mean || row.greatest || row.p95 || row.period_mean);
    EXPECT_TRUE(duration_distribution(trail_of({}, 10).cores[0].lanes[0]).counts.empty());
}

TEST(Distribution, HoldsEveryWholeExecutionOnce) {
    std::vector<Execution> runs;
    for (int i = 0; i < 500; ++i) runs.push_back({100.0 * i, 1 + (i % 50) * 0.1});
    runs.push_back({60'000, 90});
    runs.push_back({70'000, 90, 90, ExceptionInstance::kCutEnd});
    const auto trail = trail_of(runs, 80'000);
    const auto d = duration_distribution(trail.cores[0].lanes[0], 36);
    EXPECT_TRUE(d.logarithmic) << "a tail far from the bulk";
    EXPECT_EQ(d.edges.size(), d.counts.size() + 1);
    std::uint64_t sum = 0;
    for (const auto n : d.counts) sum += n;
    EXPECT_EQ(sum, 501U);
    EXPECT_GT(d.counts.back(), 0U) << "the longest is in the last bin";
    for (std::size_t i = 0; i + 1 < d.edges.size(); ++i) EXPECT_LT(d.edges[i], d.edges[i + 1]);
    const auto even = duration_distribution(trail_of({{0, 5}, {10, 6}, {20, 7}}, 30).cores[0].lanes[0], 10);
    EXPECT_FALSE(even.logarithmic);
}

TEST(Distribution, OfExecutionsOfOneLengthIsOneBin) {
    const auto d = duration_distribution(trail_of({{0, 5}, {10, 5}, {20, 5}}, 30).cores[0].lanes[0], 10);
    EXPECT_EQ(std::count_if(d.counts.begin(), d.counts.end(), [](auto n) { return n > 0; }), 1);
    EXPECT_EQ(*std::max_element(d.counts.begin(), d.counts.end()), 3U);
}

TEST(Trail, GapTimeCountsOverlapsOnce) {
    Trail trail;
    for (const auto& [from, to] : {std::pair{10, 20}, {15, 30}, {40, 50}}) {
        Gap g;
        g.begin = Time::from_us(from);
        g.end = Time::from_us(to);
        trail.gaps.push_back(g);
    }
    EXPECT_EQ(trail.gaps.covered(), Time::from_us(30));
    EXPECT_TRUE(trail.gaps.touch(Time::from_us(29), Time::from_us(31)));
    EXPECT_FALSE(trail.gaps.touch(Time::from_us(31), Time::from_us(39)));
    EXPECT_TRUE(trail.gaps.touch(Time::from_us(45), Time::from_us(45)));
}

TEST(Gaps, BelongToTheCoreWhoseTraceWasLost) {
    GapList gaps;
    for (const std::uint16_t core : {0, 1}) {
        Gap g;
        g.core = core;
        g.stream = core;
        g.begin = Time::from_us(10 + 30 * core);
        g.end = Time::from_us(20 + 30 * core);
        gaps.push_back(g);
    }
    EXPECT_TRUE(gaps.touch(0, Time::from_us(15), Time::from_us(15)));
    EXPECT_FALSE(gaps.touch(1, Time::from_us(15), Time::from_us(15))) << "the other core's trace was whole then";
    EXPECT_EQ(gaps.covered(0), Time::from_us(10));
    EXPECT_EQ(gaps.covered(), Time::from_us(20));
}

TEST(Gaps, OfTwoStreamsThatOverlapInAnyOrderAreFoundAsByLookingAtEach) {
    std::mt19937 random(5);
    GapList gaps;
    std::vector<Gap> all;
    for (int i = 0; i < 300; ++i) {
        Gap g;
        g.stream = random() % 2;
        g.core = static_cast<std::uint16_t>(random() % 3);
        g.begin = Time::from_us(i * 10 + static_cast<int>(random() % 4));
        g.end = g.begin + Time::from_us(static_cast<int>(random() % 40));
        gaps.push_back(g);
        all.push_back(g);
    }
    for (int turn = 0; turn < 2000; ++turn) {
        const Time from = Time::from_us(static_cast<int>(random() % 3200)),
                   to = from + Time::from_us(static_cast<int>(random() % 30));
        const std::size_t core = random() % 3;
        const bool touched = std::any_of(
            all.begin(), all.end(), [&](const Gap& g) { return g.core == core && g.begin <= to && g.end >= from; });
        ASSERT_EQ(gaps.touch(core, from, to), touched) << from.us() << " to " << to.us();
    }
}

TEST(Gaps, AHundredThousandCostAPictureNoMoreThanItsPixels) {
    GapList gaps;
    for (int i = 0; i < 100'000; ++i) {
        Gap g;
        g.begin = Time::from_us(i * 10);
        g.end = Time::from_us(i * 10 + 1);
        gaps.push_back(g);
    }
    int told = 0;
    gaps.each(0, Time{}, Time::from_us(1'000'000), Time::from_us(1000), [&](const Gap&) { ++told; });
    EXPECT_LE(told, 1001);
    EXPECT_GE(told, 900);
}

TEST(Priority, WhoCutsInStandsAboveAndTheRestGoesByKind) {
    CoreTrail core;
    for (const std::uint16_t n : {15, 20, 16, 3, 14}) core.lanes.emplace_back(n, "");
    core.cuts[{20, 16}] = 3;  // interrupt 4 was seen to cut into interrupt 0
    std::vector<int> order;
    for (const auto i : order_by_priority(core)) order.push_back(core.lanes[i].code());
    EXPECT_EQ(order, (std::vector<int>{3, 20, 16, 14, 15}));
    core.cuts[{16, 20}] = 9;  // and more often the other way: priorities changed while it ran
    order.clear();
    for (const auto i : order_by_priority(core)) order.push_back(core.lanes[i].code());
    EXPECT_EQ(order, (std::vector<int>{3, 16, 20, 14, 15}));
}

}  // namespace
}  // namespace mt
