// Lanes of the model against a plain walk: what lies at a moment, what touches a stretch, what is longest, how long
// something was busy. Random spans, short and long, beside each other and apart.
#include <gtest/gtest.h>

#include <random>

#include "model/trail.h"

namespace mt {
namespace {

struct Plain {
    Time begin, end;
};

Time random_time(std::mt19937& random, std::int64_t most) { return Time{static_cast<std::int64_t>(random()) % most}; }

class ExceptionLanes : public testing::TestWithParam<unsigned> {
  protected:
    void SetUp() override {
        std::mt19937 random(GetParam());
        Time at{};
        for (int i = 0; i < 500; ++i) {
            ExceptionInstance x;
            x.begin = at + (random() % 3 == 0 ? Time{} : random_time(random, 2'000'000));
            // Some longer than 32 bits of picoseconds hold.
            x.end = x.begin + (random() % 9 == 0   ? Time{5'000'000'000 + static_cast<std::int64_t>(random() % 7)}
                               : random() % 5 == 0 ? Time{}
                                                   : random_time(random, 900'000));
            x.own = Time{(x.end - x.begin).ps / 2};
            x.begin_slack = Time{static_cast<std::int64_t>(random() % 3) * 40'000};
            x.offset = static_cast<std::uint64_t>(i) * 7;
            x.depth = static_cast<std::uint8_t>(1 + random() % 4);
            lane.append(x);
            plain.push_back({x.begin, x.end});
            at = x.end;
        }
    }
    Time somewhere(std::mt19937& random) const {
        const Plain& p = plain[random() % plain.size()];
        return p.begin + Time{static_cast<std::int64_t>(random() % 5) - 2} +
               (random() % 2 == 0 ? Time{} : Time{(p.end - p.begin).ps / 2});
    }
    ExceptionLane lane{22, "GUIDE_UART"};
    std::vector<Plain> plain;
};

TEST_P(ExceptionLanes, GiveBackWhatWasAppended) {
    ASSERT_EQ(lane.size(), plain.size());
    for (std::size_t i = 0; i < plain.size(); ++i) {
        EXPECT_EQ(lane.begin(i), plain[i].begin);
        EXPECT_EQ(lane.end(i), plain[i].end);
        EXPECT_EQ(lane.length(i), plain[i].end - plain[i].begin);
        EXPECT_EQ(lane.own(i).ps, (plain[i].end - plain[i].begin).ps / 2);
        EXPECT_EQ(lane.offset(i), i * 7);
        EXPECT_EQ(lane.instance(i).number, 22);
        EXPECT_EQ(lane.instance(i).begin_slack.ps % 40'000, 0);
    }
}

TEST_P(ExceptionLanes, FindWhatLiesAtAMomentAndTouchesAStretch) {
    std::mt19937 random(GetParam() + 1);
    for (int turn = 0; turn < 300; ++turn) {
        const Time from = somewhere(random), to = from + random_time(random, 3'000'000);
        std::size_t covering = plain.size(), first_from = plain.size();
        for (std::size_t i = 0; i < plain.size(); ++i) {
            // Of those without length the last that begins there.
            if (plain[i].begin <= from && (from < plain[i].end || plain[i].begin == from)) covering = i;
            if (first_from == plain.size() && plain[i].begin >= from) first_from = i;
        }
        const auto at = lane.at(from);
        ASSERT_EQ(at.has_value(), covering < plain.size()) << from.ps;
        if (at) {
            EXPECT_EQ(*at, covering);
        }
        EXPECT_EQ(lane.first_from(from), first_from);
        const auto [first, last] = lane.touching(from, to);
        for (std::size_t i = 0; i < plain.size(); ++i)
            if (plain[i].end > from && plain[i].begin < to) {
                EXPECT_TRUE(i >= first && i < last) << i << " in [" << first << ", " << last << ")";
            }
        for (std::size_t i = first; i < last; ++i)
            EXPECT_TRUE(plain[i].end >= from && plain[i].begin <= to) << i << " does not touch it";
    }
}

TEST_P(ExceptionLanes, AddUpWhatWasBusyAndKnowTheLongest) {
    std::mt19937 random(GetParam() + 2);
    for (int turn = 0; turn < 200; ++turn) {
        const Time from = somewhere(random), to = from + random_time(random, 30'000'000);
        Time busy{};
        for (const Plain& p : plain) busy += std::max(Time{}, std::min(p.end, to) - std::max(p.begin, from));
        EXPECT_EQ(lane.busy(from, to), busy);
        const std::size_t first = random() % plain.size(), last = first + 1 + random() % (plain.size() - first);
        Time longest{};
        for (std::size_t i = first; i < last; ++i) longest = std::max(longest, plain[i].end - plain[i].begin);
        const std::size_t found = lane.longest(first, last);
        EXPECT_TRUE(found >= first && found < last);
        EXPECT_EQ(lane.length(found), longest);
    }
}

TEST_P(ExceptionLanes, KeepTheirOrderWhateverTheyAreTold) {
    ExceptionInstance back;
    back.begin = back.end = Time{};  // damage may claim what cannot be
    back.own = {};
    lane.append(back);
    EXPECT_EQ(lane.begin(plain.size()), plain.back().end);
    EXPECT_EQ(lane.length(plain.size()), Time{});
}

INSTANTIATE_TEST_SUITE_P(Seeds, ExceptionLanes, testing::Values(1u, 7u, 42u));

class CallLevels : public testing::TestWithParam<unsigned> {
  protected:
    void SetUp() override {
        std::mt19937 random(GetParam());
        Time at{};
        std::uint64_t step = 0;
        for (int i = 0; i < 400; ++i) {
            const Time begin = at + (random() % 2 == 0 ? Time{} : random_time(random, 5'000));
            const Time length = random() % 6 == 0 ? Time{} : random_time(random, 90'000);
            step += 1 + random() % 50;
            level.append(begin, length, step, static_cast<std::uint32_t>(random() % 30), random() % 2 == 0 ? 0u : 1u);
            plain.push_back({begin, begin + length});
            steps.push_back(step);
            at = begin + length;
        }
    }
    CallLevel level;
    std::vector<Plain> plain;
    std::vector<std::uint64_t> steps;
};

TEST_P(CallLevels, FindCallsByTimeAndByStep) {
    std::mt19937 random(GetParam() + 3);
    for (int turn = 0; turn < 300; ++turn) {
        const std::size_t k = random() % plain.size();
        const Time from = plain[k].begin + Time{static_cast<std::int64_t>(random() % 3) - 1},
                   to = from + random_time(random, 200'000);
        const auto [first, last] = level.touching(from, to);
        for (std::size_t i = 0; i < plain.size(); ++i)
            if (plain[i].end > from && plain[i].begin < to) {
                EXPECT_TRUE(i >= first && i < last) << i;
            }
        if (const auto at = level.at(from)) {
            EXPECT_LE(plain[*at].begin, from);
            EXPECT_GE(plain[*at].end, from);
        } else {
            for (const Plain& p : plain) EXPECT_FALSE(p.begin <= from && from < p.end) << from.ps;
        }
        const std::uint64_t step = steps[k] + random() % 3;
        const auto begun = level.begun_by(step);
        ASSERT_TRUE(begun);
        EXPECT_LE(steps[*begun], step);
        if (*begun + 1 < steps.size()) {
            EXPECT_GT(steps[*begun + 1], step);
        }
        const std::size_t end = k + 1 + random() % (plain.size() - k), longest = level.longest(k, end);
        for (std::size_t i = k; i < end; ++i) EXPECT_LE(level[i].length, level[longest].length);
    }
    EXPECT_FALSE(level.begun_by(steps.front() - 1));
}

INSTANTIATE_TEST_SUITE_P(Seeds, CallLevels, testing::Values(3u, 11u));

TEST(CallSpans, HoldStepsFunctionsAndFlagsUpToTheirMost) {
    const std::uint64_t step = (std::uint64_t{1} << 40) - 1;
    // Small numbers first, as most programs have no others; then up to all 32 bits.
    const std::uint32_t functions[] = {3, (1u << 18) - 1, 1u << 18, 7, 0xFFFF'FFFF, 0};
    CallLevel level;
    Time at{5};
    for (const std::uint32_t f : functions) {
        level.append(at, Time{7}, step, f, CallFrame::kCutEnd | CallFrame::kHandler);
        at = at + Time{10};
    }
    const CallLevel copy = level;
    for (std::size_t i = 0; i < std::size(functions); ++i) {
        const CallSpan s = copy[i];
        EXPECT_EQ(s.begin, Time{5 + 10 * static_cast<std::int64_t>(i)});
        EXPECT_EQ(s.end(), s.begin + Time{7});
        EXPECT_EQ(s.step, step);
        EXPECT_EQ(s.function, functions[i]);
        EXPECT_EQ(s.flags, CallFrame::kCutEnd | CallFrame::kHandler);
        EXPECT_FALSE(s.whole());
    }
}

TEST(TaskLanes, SayInWhichStateATaskIsAndForHowLongItHadACore) {
    std::mt19937 random(5);
    TaskLane lane;
    std::vector<std::pair<Time, TaskState>> plain;
    Time at{};
    for (int i = 0; i < 700; ++i) {
        const auto state = static_cast<TaskState>(random() % 8);
        // As the pass does: the sum up to each block of changes, then the change.
        if (!plain.empty() && plain.back().second == TaskState::running) lane.running += at - plain.back().first;
        if (lane.stretches.size() % TaskLane::kSumEach == 0) lane.running_before.push_back(lane.running);
        lane.stretches.push_back({at, 0, state, 0, 0});
        plain.emplace_back(at, state);
        at = at + Time{1} + random_time(random, 400'000);
    }
    for (int turn = 0; turn < 300; ++turn) {
        const Time from = random_time(random, at.ps), to = from + random_time(random, 20'000'000);
        std::size_t now = plain.size();
        Time ran{};
        for (std::size_t i = 0; i < plain.size(); ++i) {
            if (plain[i].first <= from) now = i;
            const Time begin = plain[i].first, end = i + 1 < plain.size() ? plain[i + 1].first : to;
            if (plain[i].second == TaskState::running && begin < to)
                ran += std::max(Time{}, std::min(end, to) - std::max(begin, from));
        }
        EXPECT_EQ(lane.stretch_at(from), now);
        EXPECT_EQ(lane.state_at(from), plain[now].second);
        EXPECT_EQ(lane.running_time(from, to), ran);
        const auto [first, last] = lane.touching(from, to);
        EXPECT_LE(first, now);
        EXPECT_TRUE(last == plain.size() || plain[last].first >= to);
    }
    EXPECT_EQ(lane.stretch_at(Time{-1}), lane.stretches.size());
    EXPECT_EQ(lane.state_at(Time{-1}), TaskState::unknown);
}

// What each sort of value is, random bits, blocks and rests of blocks.
class ValueLanes : public testing::TestWithParam<ValueSort> {};

TEST_P(ValueLanes, KnowTheLeastAndTheGreatestOfEachStretch) {
    std::mt19937_64 random(static_cast<std::uint64_t>(GetParam()) + 9);
    ValueLane lane;
    lane.sort = GetParam();
    const bool real = GetParam() == ValueSort::real || GetParam() == ValueSort::small_real;
    for (int i = 0; i < 1000; ++i) {
        std::uint64_t bits = random() >> (random() % 60);
        if (real)
            bits = i % 97 == 0 ? 0x7FF8'0000'0000'0000 : Value::of(static_cast<double>(random() % 1000) - 500.25).bits;
        if (GetParam() == ValueSort::truth) bits &= 1;
        lane.append(Time{i * 10}, bits);
    }
    for (int turn = 0; turn < 200; ++turn) {
        const std::size_t first = random() % 1000, last = first + 1 + random() % (1000 - first);
        const auto e = lane.extent(first, last);
        bool least = false, greatest = false, any = false;
        for (std::size_t i = first; i < last; ++i) {
            const Value v = lane.value(i);
            if (!(v == v)) continue;  // no number
            any = true;
            EXPECT_FALSE(v < lane.value_of(e.least));
            EXPECT_FALSE(v > lane.value_of(e.greatest));
            least = least || v == lane.value_of(e.least);
            greatest = greatest || v == lane.value_of(e.greatest);
        }
        EXPECT_EQ(least, any);
        EXPECT_EQ(greatest, any);
    }
    EXPECT_EQ(lane.at(Time{-1}), lane.samples.size());
    EXPECT_EQ(lane.at(Time{25}), 2U);
    EXPECT_EQ(lane.at(Time{30}), 3U);
}

INSTANTIATE_TEST_SUITE_P(Sorts, ValueLanes,
                         testing::Values(ValueSort::whole, ValueSort::signed_whole, ValueSort::real,
                                         ValueSort::small_real, ValueSort::truth));

TEST(ValueLanes, RememberWhoToldEachSampleOnceTheyDiffer) {
    ValueLane lane;
    ValueOrigin plain, by;
    by.instruction = 0x0800'01A4;
    by.instruction_known = true;
    by.access = ValueAccess::read;
    for (int i = 0; i < 5; ++i) lane.append(Time{i}, 1, plain);
    lane.append(Time{5}, 2, by);
    lane.append(Time{6}, 3, plain);
    for (const std::size_t i : {0U, 4U, 6U}) EXPECT_EQ(lane.origin(i), plain) << i;
    EXPECT_EQ(lane.origin(5), by);
    EXPECT_EQ(value_access_name(lane.origin(5).access), "read");
    const ValueLane copy = lane;
    lane.append(Time{7}, 4, by);
    EXPECT_EQ(copy.samples.size(), 7U) << "a copy is a snapshot";
    EXPECT_EQ(copy.origin(6), plain);
}

TEST(Densities, CountTheSameHoweverOftenTheyDouble) {
    std::mt19937 random(3);
    Density density;
    std::vector<Time> events, samples;
    for (int i = 0; i < 20'000; ++i) {
        const Time t = random_time(random, i < 10'000 ? 1'000'000 : 2'000'000'000'000);
        events.push_back(t);
        density.add_event(t);
    }
    for (int i = 0; i < 5'000; ++i) {
        samples.push_back(random_time(random, 2'000'000'000'000));
        density.add_sample(samples.back(), i % 3 == 0);
    }
    const Density::Bucket all = density.sum(Time{}, Time::max());
    EXPECT_EQ(all.events, 25'000U) << "a sample is an event, too";
    EXPECT_EQ(all.asleep, 1'667U);
    EXPECT_EQ(all.awake, 3'333U);
    EXPECT_LE(density.buckets().size(), Density::kBuckets);
    for (int turn = 0; turn < 50; ++turn) {
        const std::int64_t from = static_cast<std::int64_t>(random() % density.buckets().size()) * density.width().ps,
                           to = from + static_cast<std::int64_t>(random() % 400) * density.width().ps;
        std::uint32_t counted = 0;
        for (const auto* list : {&events, &samples})
            for (const Time t : *list) counted += t.ps >= from && t.ps < to ? 1u : 0u;
        EXPECT_EQ(density.sum(Time{from}, Time{to}).events, counted);
    }
}

TEST(CallRates, CountTheSameHoweverOftenTheyDouble) {
    std::mt19937 random(8);
    CallRate rate;
    std::vector<Time> all;
    for (int i = 0; i < 3'000; ++i) {
        all.push_back(random_time(random, i < 100 ? 3'000'000'000 : 900'000'000'000));
        rate.add(all.back());
    }
    for (std::size_t k = 0; k < CallRate::kBuckets; ++k) {
        std::uint32_t counted = 0;
        for (const Time t : all) counted += static_cast<std::size_t>(t.ps / rate.width.ps) == k ? 1u : 0u;
        EXPECT_EQ(rate.calls[k], counted) << k;
    }
}

}  // namespace
}  // namespace mt
