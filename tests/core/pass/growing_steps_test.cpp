// Following a program and making its call stack on one thread or two, in blocks and pieces of any size: the same comes
// out.
#include <gtest/gtest.h>

#include <random>
#include <sstream>

#include "pass/growing_steps.h"
#include "pass/growing_trail.h"
#include "pass/reading.h"
#include "share/step_tables.h"
#include "support.h"

namespace mt {
namespace {

struct Divided {
    const char* capture;
    unsigned threads;
    std::size_t block_items, most_bytes, most_stretch;
    bool guesses;  ///< decoding can begin in the middle
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

std::string followed_bytes(const Recording& recording, std::span<const std::uint8_t> raw, GrowingSteps::Work work,
                           std::size_t most_bytes, std::uint64_t seed,
                           std::pair<std::uint64_t, std::uint64_t>* guesses = nullptr) {
    GrowingTrail growing(recording);
    Trail& trail = growing.trail();
    prepare_steps(recording, trail);
    GrowingSteps steps(recording, 0, trail, 0, std::move(work));
    std::mt19937_64 random(seed);
    for (std::size_t at = 0; at < raw.size();) {
        const std::size_t n = std::min<std::size_t>(raw.size() - at, 1 + random() % most_bytes);
        steps.feed(raw.subspan(at, n));
        if (random() % 16 == 0) steps.settle();
        at += n;
    }
    steps.finish();
    if (guesses != nullptr) *guesses = steps.guesses();
    return told(trail);
}

std::string followed(const Recording& recording, GrowingSteps::Work work, std::size_t most_bytes, std::uint64_t seed,
                     std::pair<std::uint64_t, std::uint64_t>* guesses = nullptr) {
    return followed_bytes(recording, recording.step_streams[0].bytes(), std::move(work), most_bytes, seed, guesses);
}

StepTime stamp(std::uint64_t ticks, std::uint8_t sent = 64) { return {0, ticks, 0, StepTime::Kind::timestamp, sent}; }

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

TEST(StepTimer, ATimestampThatThoseBehindItContradictIsTakenBack) {
    StepTimer timer(StepClock::timestamps, Clock{10'000'000}, Clock{10'000'000});
    for (std::uint64_t ticks = 1'000; ticks <= 10'000; ticks += 1'000) (void)timer.tell(stamp(ticks), ticks);
    ASSERT_TRUE(timer.tell(stamp(10'500 + (1 << 22)), 10'500)) << "one bit is wrong: 0.4 s ahead, as after a sleep";
    std::optional<StepMoment> after;
    for (std::uint64_t ticks = 11'000; ticks < 30'000; ticks += 1'000) after = timer.tell(stamp(ticks), ticks);
    ASSERT_TRUE(after);
    EXPECT_EQ(after->time, Time::from_us(2'900)) << "times are those of the clock again";
}

// One bit wrong, little enough to be believed: what led to that moment and what followed has no sure time.
TEST(StepTiming, AStretchWhoseTimestampsLieBeforeItsBeginIsUnsure) {
    StepTiming timing(StepTimer(StepClock::timestamps, Clock{10'000'000}, Clock{10'000'000}));
    std::uint64_t ticks = 1'000;
    for (; ticks < 20'000; ticks += 1'000) {
        const auto stretch = timing.tell(stamp(ticks), ticks);
        ASSERT_TRUE(stretch);
        EXPECT_FALSE(stretch->unsure);
    }
    const auto leap = timing.tell(stamp(ticks + 4'096), ticks);
    ASSERT_TRUE(leap) << "as after a short sleep";
    for (int i = 0; i < 4; ++i)
        EXPECT_FALSE(timing.tell(stamp(ticks += 1'000), ticks)) << "it lies before the one believed";
    const auto after = timing.tell(stamp(ticks += 1'000), ticks);
    ASSERT_TRUE(after);
    EXPECT_TRUE(after->unsure);
    EXPECT_EQ(after->from.time, leap->to.time);
    const auto next = timing.tell(stamp(ticks += 1'000), ticks);
    ASSERT_TRUE(next);
    EXPECT_FALSE(next->unsure) << "and then all is well";
}

TEST(StepTimer, WhatWasLostDoesNotMakeLeapsBelievable) {
    StepTimer timer(StepClock::timestamps, Clock{10'000'000}, Clock{10'000'000});
    std::uint64_t ticks = 1'000;
    for (; ticks < 20'000; ticks += 1'000) (void)timer.tell(stamp(ticks), ticks);
    timer.lost(StepGapKind::damaged);
    ticks += 600'000;  // 60 ms are missing
    EXPECT_FALSE(timer.tell(stamp(ticks), 20'000)) << "not before another bears it out";
    EXPECT_TRUE(timer.tell(stamp(ticks += 1'000), 21'000));
    EXPECT_TRUE(timer.tell(stamp(ticks += 1'000), 22'000));
    EXPECT_FALSE(timer.tell(stamp(ticks + 400'000), 22'500)) << "40 ms at once, with nothing missing: one bit is wrong";
    EXPECT_TRUE(timer.tell(stamp(ticks += 1'000), 23'000));
}

TEST(StepTimer, BitsThatWereNotSentAgainBearNoLeapOut) {
    StepTimer timer(StepClock::timestamps, Clock{10'000'000}, Clock{10'000'000});
    std::uint64_t ticks = 1'000;
    for (; ticks < 20'000; ticks += 1'000) (void)timer.tell(stamp(ticks), ticks);
    timer.lost(StepGapKind::damaged);
    constexpr std::uint64_t kWrong = 1 << 24;
    EXPECT_FALSE(timer.tell(stamp(ticks + kWrong, 28), 20'000)) << "a wrong bit in an upper byte, two seconds ahead";
    for (int i = 0; i < 40; ++i)
        EXPECT_FALSE(timer.tell(stamp((ticks += 1'000) + kWrong, 14), 20'000)) << "it stays, as nobody sends it";
    const auto whole = timer.tell(stamp(ticks += 1'000, 64), 61'000);
    ASSERT_TRUE(whole) << "sent in full: right again";
    EXPECT_EQ(whole->time, Time::from_us(6'100)) << "with the cycles before the first timestamp";

    EXPECT_FALSE(timer.tell(stamp(ticks += 300'000'000, 64), 62'000)) << "a sleep of half a minute, perhaps";
    EXPECT_FALSE(timer.tell(stamp(ticks += 1'000, 14), 63'000));
    const auto slept = timer.tell(stamp(ticks += 1'000, 64), 64'000);
    ASSERT_TRUE(slept) << "sent in full once more";
    EXPECT_EQ(slept->time, Time::from_us(30'006'300));
}

TEST(StepTimer, ACounterWithAWrongBitIsNotTakenForOneThatWasSetBack) {
    StepTimer timer(StepClock::timestamps, Clock{10'000'000}, Clock{10'000'000});
    std::uint64_t ticks = (1 << 24) + 1'000;
    for (int i = 0; i < 20; ++i) (void)timer.tell(stamp(ticks += 1'000), ticks);
    timer.lost(StepGapKind::damaged);
    for (int i = 0; i < 40; ++i) EXPECT_FALSE(timer.tell(stamp((ticks += 1'000) - (1 << 24), i == 0 ? 28 : 14), ticks));
    const auto whole = timer.tell(stamp(ticks += 1'000), ticks);
    ASSERT_TRUE(whole);
    EXPECT_EQ(whole->time - Time::from_us(6'000), timer.nominal(0)) << "sixty steps of a tenth of a millisecond";
}

TEST(StepSpan, TheTimeOfAGapIsNotThatOfWhatRanAroundIt) {
    const StepTimer timer(StepClock::timestamps, Clock{10'000'000}, Clock{10'000'000});
    const StepMoment from{0, Time{}}, to{1'000, Time::from_ms(10)};
    const std::vector<std::uint64_t> gap_at{400};
    const StepSpan span(timer.core(), from, to, gap_at);
    EXPECT_EQ(span.at(399), Time::from_us(39.9)) << "a cycle each up to there";
    EXPECT_EQ(span.at(1'000) - span.at(400), Time::from_us(60)) << "and behind it";
}

// As by division of whole numbers, for each step of spans that do not divide.
TEST(StepSpan, SharesTheTimeExactly) {
    std::mt19937_64 random(5);
    const StepTimer timer(StepClock::timestamps, Clock{1'000'000'000}, Clock{1'000'000'000});
    for (int i = 0; i < 2'000; ++i) {
        const std::uint64_t steps = 1 + random() % (std::uint64_t{1} << (1 + random() % 36));
        const auto busy = static_cast<std::int64_t>(random() % (std::uint64_t{1} << (20 + random() % 36)));
        const StepMoment from{1'000, Time{77}}, to{1'000 + steps, Time{77 + busy}};
        const std::vector<std::uint64_t> none;
        const StepSpan span(timer.core(), from, to, none);
        for (int k = 0; k < 20; ++k) {
            const std::uint64_t n = k == 0 ? steps - 1 : random() % steps;
            const auto each = static_cast<std::uint64_t>(busy) / steps, left = static_cast<std::uint64_t>(busy) % steps;
            const auto share = static_cast<std::uint64_t>(static_cast<unsigned __int128>(left) * n / steps);
            ASSERT_EQ(span.at(1'000 + n).ps, static_cast<std::int64_t>(77 + each * n + share))
                << n << " of " << steps << " in " << busy << " ps";
        }
        EXPECT_EQ(span.at(1'000 + steps), to.time);
    }
}

class StepsDividedAnyhow : public ::testing::TestWithParam<Divided> {};

// Stretches of any length, at most so long.
GrowingSteps::Work divided(const Divided& how, std::uint64_t seed) {
    GrowingSteps::Work work;
    work.threads = how.threads;
    work.block_items = how.block_items;
    work.stretch = [random = std::mt19937_64(seed), most = how.most_stretch]() mutable { return 1 + random() % most; };
    return work;
}

GrowingSteps::Work undivided() {
    GrowingSteps::Work work;
    work.threads = 1;
    work.block_items = 1 << 16;
    return work;
}

TEST_P(StepsDividedAnyhow, GiveTheSameTrail) {
    const auto recording =
        open_recording(test::data(std::string("steps/") + GetParam().capture + "/recording.target.toml"));
    ASSERT_TRUE(recording) << recording.error().text();
    const std::string whole = followed(**recording, undivided(), std::size_t{1} << 30, 1);
    EXPECT_GT(whole.size(), 10'000U);
    for (std::uint64_t seed = 1; seed <= 2; ++seed) {
        std::pair<std::uint64_t, std::uint64_t> guesses;
        EXPECT_TRUE(followed(**recording, divided(GetParam(), seed), GetParam().most_bytes, seed, &guesses) == whole)
            << "seed " << seed;
        if (GetParam().guesses) EXPECT_GT(guesses.first, 3U) << "it was cut";
        EXPECT_EQ(guesses.second, 0U) << "in a whole stream every guess is right";
    }
}

// What is damaged may be cut at a wrong place: that is noticed.
TEST_P(StepsDividedAnyhow, GiveTheSameTrailOfADamagedStream) {
    const auto opened =
        open_recording(test::data(std::string("steps/") + GetParam().capture + "/recording.target.toml"));
    ASSERT_TRUE(opened) << opened.error().text();
    for (std::uint64_t seed = 1; seed <= 3; ++seed) {
        std::mt19937_64 random(seed);
        const auto raw = (*opened)->step_streams[0].bytes();
        std::vector<std::uint8_t> bytes(raw.begin(), raw.end());
        for (int i = 0; i < 60; ++i) bytes[random() % bytes.size()] = static_cast<std::uint8_t>(random());
        const std::size_t hole = random() % (bytes.size() - 5'000);
        bytes.erase(bytes.begin() + static_cast<std::ptrdiff_t>(hole),
                    bytes.begin() + static_cast<std::ptrdiff_t>(hole + random() % 3'000));
        const std::string whole = followed_bytes(**opened, bytes, undivided(), std::size_t{1} << 30, 1);
        EXPECT_TRUE(followed_bytes(**opened, bytes, divided(GetParam(), seed), GetParam().most_bytes, seed) == whole)
            << "seed " << seed;
    }
}

const Divided kDivided[] = {
    {"rv-etrace-mount-return", 2, 1, 50'000, 9'000, true}, {"rv-etrace-mount-return", 1, 1, 300, 9'000, false},
    {"rv-etrace-mount", 3, 7, 25'000, 20'000, true},       {"rv-ntrace-mount-htm", 2, 100, 20'000, 3'000, false},
    {"arm-etm-mount", 2, 2048, 30'000, 5'000, true},       {"arm-etm-mount-cc", 2, 3, 40'000, 30'000, true},
    {"arm-etm-mount-rs", 3, 64, 20'000, 4'000, true},
};
INSTANTIATE_TEST_SUITE_P(In, StepsDividedAnyhow, ::testing::ValuesIn(kDivided), [](const auto& d) {
    std::string name = std::string(d.param.capture) + "_" + std::to_string(d.param.threads) + "_" +
                       std::to_string(d.param.block_items);
    std::replace(name.begin(), name.end(), '-', '_');
    return name;
});

}  // namespace
}  // namespace mt
