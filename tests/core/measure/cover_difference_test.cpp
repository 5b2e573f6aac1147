// Which code only one of two recordings ran, counted on builds of a few instructions and on real recordings.
#include <gtest/gtest.h>

#include <algorithm>

#include "base/progress.h"
#include "measure/cover_difference.h"
#include "replay/cover_growth.h"
#include "small_build.h"
#include "support.h"

namespace mt {
namespace {

const test::CodeBytes kIfCode = {0x00, 0x28, 0x00, 0xD0, 0x40, 0x18, 0x70, 0x47};  // cmp r0,#0; beq +; adds; bx lr

Coverage coverage(const CoverOf& of) {
    return Coverage::of(of.code, of.table, std::make_shared<const SourceMap>(), of.counts);
}
void run(CoverOf& of, std::uint64_t from, std::uint64_t to, std::uint64_t times = 1) {
    for (std::uint64_t at = from; at < to; at += 2) of.counts.executions[of.code->slot_of(at)] = times;
}

TEST(CoverDifferenceOfBuilds, CountsWhatOnlyOneOfBothRan) {
    CoverOf before = test::small_build({{"plus", test::kAddCode}, {"minus", test::kSubCode}, {"idle", test::kAddCode}}), after = before;
    run(before, 0x100, 0x104);
    run(after, 0x100, 0x102);
    run(after, 0x104, 0x108);
    const CoverDifference d = cover_difference(coverage(after), before);
    EXPECT_TRUE(d.any());
    EXPECT_EQ(d.gained, 2U);
    EXPECT_EQ(d.lost, 1U);
    ASSERT_EQ(d.functions.size(), 2U) << "idle ran in neither";
    EXPECT_EQ(d.functions[0].name, "minus") << "what differs most comes first";
    EXPECT_TRUE(d.functions[0].fresh);
    EXPECT_EQ(d.functions[0].first, after.code->slot_of(0x104));
    EXPECT_EQ(d.functions[1].name, "plus");
    EXPECT_FALSE(d.functions[1].vanished) << "some of it still ran";
    EXPECT_EQ(d.functions[1].lost, 1U);
    EXPECT_FALSE(cover_difference(coverage(after), after).any());
}

TEST(CoverDifferenceOfBuilds, ABranchThatWentAnotherWayIsToldThoughTheSameCodeRan) {
    CoverOf before = test::small_build({{"ask", kIfCode}}), after = before;
    run(before, 0x100, 0x108, 10);
    run(after, 0x100, 0x108, 10);
    const std::uint32_t branch = after.code->slot_of(0x102);
    ASSERT_TRUE(decides((*after.code)[branch].flow, (*after.code)[branch].flags));
    after.counts.taken[branch] = 3;
    const CoverDifference d = cover_difference(coverage(after), before);
    EXPECT_EQ(d.gained + d.lost, 0U);
    ASSERT_EQ(d.functions.size(), 1U);
    ASSERT_EQ(d.functions[0].ways.size(), 1U);
    EXPECT_EQ(d.functions[0].ways[0].slot, branch);
    EXPECT_TRUE(d.functions[0].ways[0].taken);
    EXPECT_TRUE(d.functions[0].ways[0].gained);
    // The other way round it was lost; and where the branch always jumps now, the way straight on is.
    after.counts.taken[branch] = 10;
    const CoverDifference back = cover_difference(coverage(before), after);
    ASSERT_EQ(back.functions[0].ways.size(), 2U);
    EXPECT_FALSE(back.functions[0].ways[0].gained);
    EXPECT_TRUE(back.functions[0].ways[1].gained);
    EXPECT_FALSE(back.functions[0].ways[1].taken);
}

TEST(CoverDifferenceOfBuilds, OfAnotherBuildOnlyWhatIsTheSameIsCompared) {
    CoverOf before = test::small_build({{"plus", test::kAddCode}, {"minus", test::kSubCode}, {"old", test::kAddCode}});
    for (auto& n : before.counts.executions) n = 5;
    CoverOf after = test::small_build({{"minus", test::kAddCode}, {"plus", test::kAddCode}});
    run(after, 0x100, 0x104);
    const CoverDifference d = cover_difference(coverage(after), before);
    EXPECT_EQ(d.changed, std::vector<std::string>{"minus"});
    EXPECT_EQ(d.gone, std::vector<std::string>{"old"});
    ASSERT_EQ(d.functions.size(), 1U);
    EXPECT_EQ(d.functions[0].name, "plus");
    EXPECT_TRUE(d.functions[0].vanished);
    EXPECT_EQ(d.lost, 2U);
}

// The window of the paddle's buffer is a part of its run: it ran nothing that the whole did not.
TEST(CoverDifferenceOfRecordings, APartOfARunRanNothingMore) {
    const auto whole = test::decode(test::data("steps/arm-etm-mount/recording.target.toml"));
    const StepTrail& steps = whole.trail->steps[0];
    const CoverOf all{steps.code, steps.functions, CoverCounts::of(steps)};
    CoverOf half = all;
    std::uint64_t left_out = 0;
    for (std::uint32_t s = 0; s < half.counts.executions.size(); s += 2)
        if (std::exchange(half.counts.executions[s], 0) > 0 && steps.functions->at(s) != 0) ++left_out;
    const auto map = SourceMap::of(*whole.recording->images[0], *steps.code);
    const CoverDifference lost = cover_difference(Coverage::of(steps.code, steps.functions, map, half.counts), all);
    EXPECT_EQ(lost.gained, 0U);
    EXPECT_LE(lost.lost, left_out);
    EXPECT_GT(lost.lost, left_out / 2);
    const CoverDifference gained = cover_difference(Coverage::of(steps.code, steps.functions, map, all.counts), half);
    EXPECT_EQ(gained.gained, lost.lost);
    EXPECT_EQ(gained.lost, 0U);
    for (const auto& f : gained.functions) {
        EXPECT_TRUE(std::is_sorted(f.gained_lines.begin(), f.gained_lines.end()));
        EXPECT_TRUE(f.lost_lines.empty()) << f.name;
    }
}

class GrowthOf : public ::testing::TestWithParam<const char*> {};
TEST_P(GrowthOf, EndsAtWhatTheCountersSay) {
    const auto opened = test::decode(test::data(std::string("steps/") + GetParam() + "/recording.target.toml"));
    const StepTrail& steps = opened.trail->steps[0];
    Progress progress;
    const CoverGrowth g = cover_growth(*opened.recording, steps, progress);
    const auto counts = steps.counters->executions(*steps.code);
    EXPECT_TRUE(g.whole);
    const Coverage all = Coverage::of(steps.code, steps.functions, SourceMap::of(*opened.recording->images[0], *steps.code), CoverCounts::of(steps));
    EXPECT_EQ(g.run, all.sums.instructions_run);
    ASSERT_FALSE(g.points.empty());
    EXPECT_EQ(g.points.back().run, g.run);
    for (std::size_t i = 1; i < g.points.size(); ++i) {
        EXPECT_LT(g.points[i - 1].run, g.points[i].run);
        EXPECT_LE(g.points[i - 1].time, g.points[i].time);
    }
    // Each function that ran has a first time, which is that of its first call where that was seen whole.
    std::vector<std::uint32_t> ran;
    for (std::uint32_t s = 0; s < counts.size(); ++s)
        if (counts[s] > 0 && steps.functions->at(s) != 0) ran.push_back(steps.functions->at(s));
    std::sort(ran.begin(), ran.end());
    ran.erase(std::unique(ran.begin(), ran.end()), ran.end());
    EXPECT_EQ(g.firsts.size(), ran.size());
    // Few points say the same.
    const CoverGrowth few = cover_growth(*opened.recording, steps, progress, 10);
    EXPECT_LE(few.points.size(), 11U);
    EXPECT_EQ(few.points.back().run, g.run);
    EXPECT_EQ(few.firsts.size(), g.firsts.size());
    progress.cancel();
    EXPECT_FALSE(cover_growth(*opened.recording, steps, progress).whole);
}
INSTANTIATE_TEST_SUITE_P(Mount, GrowthOf, ::testing::Values("arm-etm-mount", "rv-etrace-mount", "arm-mtb-paddle"),
                         [](const auto& p) {
                             std::string name = p.param;
                             std::replace(name.begin(), name.end(), '-', '_');
                             return name;
                         });

}  // namespace
}  // namespace mt
