// Following a program and making its call stack on one thread or two, in blocks and pieces of any size: the same comes
// out.
#include <gtest/gtest.h>

#include <random>
#include <sstream>

#include "share/step_tables.h"
#include "support.h"
#include "trail/growing_steps.h"
#include "trail/growing_trail.h"
#include "trail/reading.h"

namespace mt {
namespace {

struct Divided {
    const char* capture;
    bool two_threads;
    std::size_t block_items, most_bytes;
};

// Everything that a trail of steps says, as text.
std::string told(const Trail& trail) {
    std::ostringstream out;
    const StepTrail& t = trail.steps[0];
    out << t.steps << ' ' << t.syncs << ' ' << t.unmatched << ' ' << t.exact << ' ' << t.end.ps << '\n';
    for (const CallLevel& level : t.levels)
        for (std::size_t i = 0; i < level.size(); ++i)
            out << level[i].step << ' ' << level[i].begin.ps << ' ' << level[i].length.ps << ' ' << level[i].function
                << ' ' << level[i].flags << '\n';
    for (const FunctionTally& f : t.tallies)
        out << f.calls << ' ' << f.steps << ' ' << f.own.ps << ' ' << f.inclusive.ps << ' ' << f.greatest.ps << '\n';
    for (const CallNode& n : t.tree) out << n.parent << ' ' << n.function << ' ' << n.calls << ' ' << n.own.ps << '\n';
    for (std::size_t i = 0; i < t.traps.size(); ++i) out << t.traps[i].step << ' ' << t.traps[i].time.ps << '\n';
    for (std::size_t i = 0; i < t.gaps.size(); ++i) out << t.gaps[i].step << ' ' << t.gaps[i].gap.reason << '\n';
    for (const std::uint64_t n : t.counters->executions(*t.code)) out << n << ' ';
    for (const auto& lane : trail.cores[0].lanes) out << '\n' << lane.name() << ' ' << lane.size();
    return out.str();
}

std::string followed(const Recording& recording, GrowingSteps::Work work, std::size_t most_bytes, std::uint64_t seed) {
    GrowingTrail growing(recording);
    Trail& trail = growing.trail();
    prepare_steps(recording, trail);
    GrowingSteps steps(recording, 0, trail, work);
    std::mt19937_64 random(seed);
    const auto raw = recording.step_streams[0].bytes();
    for (std::size_t at = 0; at < raw.size();) {
        const std::size_t n = std::min<std::size_t>(raw.size() - at, 1 + random() % most_bytes);
        steps.feed(raw.subspan(at, n));
        if (random() % 4 == 0) steps.settle();
        at += n;
    }
    steps.finish();
    return told(trail);
}

StepTime stamp(std::uint64_t ticks) { return {0, ticks, StepTime::Kind::timestamp}; }

TEST(StepTimer, ATimestampFarAheadIsBelievedOnlyIfTheNextBearsItOut) {
    StepTimer timer(StepClock::timestamps, Clock{10'000'000}, Clock{10'000'000});
    ASSERT_TRUE(timer.tell(stamp(1'000), 0));
    ASSERT_TRUE(timer.tell(stamp(2'000), 900));
    timer.lost(StepGapKind::damaged);
    EXPECT_FALSE(timer.tell(stamp(500'000'000'000), 1'000)) << "a damaged packet claims fourteen hours";
    const auto next = timer.tell(stamp(3'000), 1'800);
    ASSERT_TRUE(next) << "time goes on as if it had not been";
    EXPECT_EQ(next->time, Time::from_us(200));
    EXPECT_FALSE(timer.tell(stamp(2'900), 1'900)) << "back in time";
    EXPECT_TRUE(timer.tell(stamp(3'500), 2'000));
    EXPECT_FALSE(timer.tell(stamp(9'000'000), 2'100)) << "a long sleep: not yet";
    const auto slept = timer.tell(stamp(9'000'500), 2'500);
    ASSERT_TRUE(slept) << "two agree";
    EXPECT_EQ(slept->time, Time::from_us(899'950));
}

TEST(StepTimer, ASleepOfSecondsInAWholeStreamIsExactAtOnce) {
    StepTimer timer(StepClock::timestamps, Clock{10'000'000}, Clock{10'000'000});
    ASSERT_TRUE(timer.tell(stamp(0), 0));
    const auto slept = timer.tell(stamp(50'000'000), 10);
    ASSERT_TRUE(slept);
    EXPECT_EQ(slept->time, Time::from_ms(5'000));
}

TEST(StepTimer, ACounterThatWasSetBackGoesOnFromThere) {
    StepTimer timer(StepClock::timestamps, Clock{10'000'000}, Clock{10'000'000});
    ASSERT_TRUE(timer.tell(stamp(1'000'000), 0));
    ASSERT_TRUE(timer.tell(stamp(2'000'000), 10));
    std::optional<StepMoment> after;
    for (std::uint64_t i = 0; i < 20; ++i) after = timer.tell(stamp(100 + i * 100), 20 + i);
    ASSERT_TRUE(after);
    EXPECT_GT(after->time, Time::from_ms(100));
    EXPECT_LT(after->time, Time::from_ms(101));
}

TEST(StepSpan, TheTimeOfAGapIsNotThatOfWhatRanAroundIt) {
    const StepTimer timer(StepClock::timestamps, Clock{10'000'000}, Clock{10'000'000});
    const StepMoment from{0, Time{}}, to{1'000, Time::from_ms(10)};
    const std::vector<std::uint64_t> gap_at{400};
    const StepSpan span(timer, from, to, gap_at);
    EXPECT_EQ(span.at(399), Time::from_us(39.9)) << "a cycle each up to there";
    EXPECT_EQ(span.at(1'000) - span.at(400), Time::from_us(60)) << "and behind it";
}

class StepsDividedAnyhow : public ::testing::TestWithParam<Divided> {};

TEST_P(StepsDividedAnyhow, GiveTheSameTrail) {
    const auto recording =
        open_recording(test::data(std::string("steps/") + GetParam().capture + "/recording.target.toml"));
    ASSERT_TRUE(recording) << recording.error().text();
    const std::string whole = followed(**recording, {false, 1 << 16}, std::size_t{1} << 30, 1);
    EXPECT_GT(whole.size(), 10'000U);
    EXPECT_TRUE(followed(**recording, {GetParam().two_threads, GetParam().block_items}, GetParam().most_bytes, 7) ==
                whole);
}

const Divided kDivided[] = {
    {"rv-etrace-mount-return", true, 1, 50'000}, {"rv-etrace-mount-return", false, 1, 300},
    {"rv-etrace-mount", true, 7, 5'000},         {"rv-ntrace-mount-htm", true, 100, 20'000},
    {"arm-etm-mount", true, 2048, 1'000},        {"arm-etm-mount-cc", true, 3, 10'000},
    {"arm-etm-mount-rs", false, 64, 20'000},
};
INSTANTIATE_TEST_SUITE_P(In, StepsDividedAnyhow, ::testing::ValuesIn(kDivided), [](const auto& d) {
    std::string name =
        std::string(d.param.capture) + (d.param.two_threads ? "_two_" : "_one_") + std::to_string(d.param.block_items);
    std::replace(name.begin(), name.end(), '-', '_');
    return name;
});

}  // namespace
}  // namespace mt
