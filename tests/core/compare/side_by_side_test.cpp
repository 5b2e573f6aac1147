// Two sequences laid side by side: what both have stands in one row, and as little as possible is left over.
#include <gtest/gtest.h>

#include <random>
#include <string>
#include <vector>

#include "compare/side_by_side.h"
#include "measure/kinds/kinds.h"
#include "support.h"
#include "task_program.h"

namespace mt {
namespace {

// A letter an event, one each microsecond.
std::vector<SideEvent> letters(const std::string& text) {
    std::vector<SideEvent> all;
    for (std::size_t i = 0; i < text.size(); ++i)
        all.push_back({Time::from_us(static_cast<double>(i)), std::string(1, text[i]), 0});
    return all;
}
// "ab|-c" : what stands in the rows of each, "-" where one has nothing.
std::string laid(const std::string& before, const std::string& after) {
    std::string left, right;
    for (const SideRow& r : side_by_side(letters(before), letters(after))) {
        left += r.before ? r.before->text : "-";
        right += r.after ? r.after->text : "-";
    }
    return left + "|" + right;
}

TEST(SideBySide, WhatIsAlikeStandsInOneRow) {
    EXPECT_EQ(laid("", ""), "|");
    EXPECT_EQ(laid("abc", "abc"), "abc|abc");
    EXPECT_EQ(laid("abc", ""), "abc|---");
    EXPECT_EQ(laid("", "abc"), "---|abc");
    EXPECT_EQ(laid("abc", "axc").size(), 9U) << "b and x are rows of their own";
    EXPECT_EQ(laid("abcd", "acd"), "abcd|a-cd");
    EXPECT_EQ(laid("acd", "abcd"), "a-cd|abcd");
    EXPECT_EQ(laid("abcabc", "abc").find("---|"), std::string::npos);
}

TEST(SideBySide, CallsOfAnotherDepthAreOthers) {
    auto before = letters("ab"), after = letters("ab");
    after[1].depth = 1;
    EXPECT_EQ(side_by_side(before, after).size(), 3U);
}

// Against the lengths that the textbook's table gives.
TEST(SideBySide, NoFewerRowsAreLeftOverThanNeedBe) {
    std::mt19937 random(20);
    for (int turn = 0; turn < 300; ++turn) {
        std::string a, b;
        for (unsigned i = random() % 40; i > 0; --i) a += static_cast<char>('a' + random() % 3);
        for (unsigned i = random() % 40; i > 0; --i) b += static_cast<char>('a' + random() % 3);
        std::vector<std::vector<std::size_t>> common(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
        for (std::size_t i = 1; i <= a.size(); ++i)
            for (std::size_t k = 1; k <= b.size(); ++k)
                common[i][k] = a[i - 1] == b[k - 1] ? common[i - 1][k - 1] + 1 : std::max(common[i - 1][k], common[i][k - 1]);
        const auto rows = side_by_side(letters(a), letters(b));
        std::string left, right;
        std::size_t both = 0;
        for (const SideRow& r : rows) {
            if (r.before) left += r.before->text;
            if (r.after) right += r.after->text;
            if (!r.both()) continue;
            ASSERT_EQ(r.before->text, r.after->text);
            ++both;
        }
        ASSERT_EQ(left, a) << "nothing is lost, and the order is kept";
        ASSERT_EQ(right, b);
        ASSERT_EQ(both, common[a.size()][b.size()]) << a << " " << b;
    }
}

TEST(SideBySide, WhatHasNothingInCommonEndsToo) {
    std::string a, b;
    for (int i = 0; i < 1900; ++i) {
        a += static_cast<char>('a' + i % 7);
        b += static_cast<char>('n' + i % 7);
    }
    a.insert(0, "same");
    b.insert(0, "same");
    const auto rows = side_by_side(letters(a), letters(b));
    EXPECT_EQ(rows.size(), 4U + 1900 + 1900);
    for (std::size_t i = 0; i < 4; ++i) EXPECT_TRUE(rows[i].both());
}

class BothRecordings : public ::testing::Test {
  protected:
    // A tick, a task that it makes ready, a lock that the task takes: `rounds` times, each 1 ms.
    static test::Opened rounds(unsigned n, bool extra_lock) {
        test::Folder folder;
        test::EventScript s(folder / "t");
        s.task(0, "idle", 0);
        s.task(1, "guide", 5);
        s.name(ObjectKind::mutex, 5, "bus");
        s.name(ObjectKind::interrupt, 9, "tick");
        s.block(1, BlockReason::activation);
        s.put(OsKind::task_switch_in, 0);
        for (unsigned i = 0; i < n; ++i) {
            s.now = 1000 * (i + 1);
            s.put(OsKind::isr_enter, 9);
            s.put(OsKind::task_ready, 1);
            s.now += 10;
            s.put(OsKind::isr_exit, 9);
            s.put(OsKind::task_switch_in, 1);
            for (unsigned k = 0; k < (extra_lock && i == 1 ? 2U : 1U); ++k) {
                s.now += 20;
                s.put(OsKind::mutex_take, 5);
                s.now += 30;
                s.put(OsKind::mutex_give, 5);
            }
            s.now += 10;
            s.block(1, BlockReason::activation);
            s.put(OsKind::task_switch_in, 0);
        }
        s.now += 500;
        s.put(OsKind::marker, 8, 0);
        s.finish();
        return test::decode(folder / "t");
    }
};

TEST_F(BothRecordings, OneLockMoreIsTwoRowsThatOnlyOneHas) {
    const auto was = rounds(4, false), is = rounds(4, true);
    const auto a = side_events(*was.trail, Time{}, was.trail->end), b = side_events(*is.trail, Time{}, is.trail->end);
    EXPECT_EQ(b.size(), a.size() + 2);
    std::string only;
    for (const SideRow& r : side_by_side(a, b))
        if (!r.both()) only += (r.after ? "+" + r.after->text : "-" + r.before->text) + ";";
    EXPECT_EQ(only, "+bus is taken;+bus is given;");
    // Times count from where each was taken.
    const auto second = side_events(*is.trail, Time::from_ms(2), Time::from_ms(3));
    ASSERT_GE(second.size(), 2U);
    EXPECT_EQ(second[0].text, "tick enters");
    EXPECT_EQ(second[0].time, Time{});
    EXPECT_EQ(second[1].text, "tick leaves");
    EXPECT_EQ(second[1].time, Time::from_us(10));
    EXPECT_EQ(side_events(*is.trail, Time{}, is.trail->end, 5).size(), 5U);
}

TEST_F(BothRecordings, FiguresOfBothStandByTheNameOfTheirActivity) {
    const auto was = rounds(4, false), is = rounds(6, true);
    const LaneKind& locks = *LaneKinds::find("locks");
    const auto held = figures_both(locks, "count", locks.rows({*was.trail}), locks.rows({*is.trail}));
    ASSERT_EQ(held.size(), 1U);
    EXPECT_EQ(held[0].activity, "bus");
    EXPECT_EQ(cell_plain(held[0].before), "4");
    EXPECT_EQ(cell_plain(held[0].after), "7");
    const LaneKind& tasks = *LaneKinds::find("tasks");
    const auto gone = figures_both(tasks, "count", tasks.rows({*was.trail}), {});
    ASSERT_GE(gone.size(), 1U);
    EXPECT_FALSE(gone[0].after.known()) << "only the recording before has it";
}

TEST(SideCalls, AreInTheOrderOfTheirEntryAndIndented) {
    const auto opened = test::decode(test::data("steps/rv-etrace-mount/recording.target.toml"));
    const Trail& trail = *opened.trail;
    const StepTrail& steps = trail.steps[0];
    ASSERT_GT(steps.levels.size(), 1U);
    // One call of the second level with all that it calls.
    const CallLevel& level = steps.levels[1];
    std::size_t longest = 0;
    for (std::size_t i = 0; i < level.size(); ++i)
        if (level[i].whole() && level[i].length > level[longest].length) longest = i;
    const CallSpan& call = level[longest];
    const auto calls = side_calls(trail, steps.core_index, call.begin, call.begin + call.length, 500);
    ASSERT_FALSE(calls.empty());
    EXPECT_LE(calls.size(), 500U);
    for (std::size_t i = 1; i < calls.size(); ++i) EXPECT_LE(calls[i - 1].time, calls[i].time);
    for (const SideRow& r : side_by_side(calls, calls)) EXPECT_TRUE(r.both()) << "a call differs in nothing from itself";
    EXPECT_TRUE(side_calls(trail, 77, call.begin, call.begin + call.length).empty()) << "a core that is not there";
}

}  // namespace
}  // namespace mt
