// Functions of a recording in which one core is traced for a short while and sampled all the time.
#include "measure/functions.h"

#include "measure/lane_kind.h"

#include <gtest/gtest.h>

#include <map>
#include <set>

#include "support.h"

namespace mt {
namespace {

class FunctionsOfTheNight : public testing::Test {
  protected:
    const test::Opened opened_ = test::decode(MT_DEMO "/larkspur.target.toml");
    const std::vector<FunctionRow> rows_ = function_rows(*opened_.trail, {}, opened_.recording->functions);
};

TEST_F(FunctionsOfTheNight, OneRowForAFunctionOfACore) {
    std::set<std::pair<std::size_t, std::uint64_t>> there;
    for (const FunctionRow& row : rows_) EXPECT_TRUE(there.insert({row.core, row.address}).second) << row.name;
    const auto both =
        std::find_if(rows_.begin(), rows_.end(), [](const FunctionRow& r) { return r.name == "track_loop"; });
    ASSERT_NE(both, rows_.end());
    EXPECT_TRUE(both->traced);  // its calls in the stretch that was traced …
    EXPECT_TRUE(both->greatest);
    EXPECT_TRUE(both->sampled);  // … and its time in all of the recording
    EXPECT_GT(both->samples, 1000u);
    EXPECT_GT(both->own, both->own_traced);
}

TEST_F(FunctionsOfTheNight, SharesOfACoreArePartsOfOneWhole) {
    std::map<std::size_t, double> sum;
    std::map<std::size_t, std::set<bool>> sampled;
    for (const FunctionRow& row : rows_) {
        sum[row.core] += row.share;
        sampled[row.core].insert(row.sampled);
    }
    ASSERT_EQ(sum.size(), 2u);
    for (const auto& [core, share] : sum) EXPECT_LE(share, 1.0001) << core;
    for (const auto& [core, kinds] : sampled) EXPECT_EQ(kinds.size(), 1u) << core;
    EXPECT_NEAR(sum[1], 1, 1e-6);  // the co-processor is traced throughout
}

TEST_F(FunctionsOfTheNight, WhatIsExcludedHandsItsShareToTheOthersOfItsCoreOnly) {
    const auto without = function_rows(*opened_.trail, {"refine_centroid"}, opened_.recording->functions);
    const auto share = [](const std::vector<FunctionRow>& rows, std::string_view name) {
        return std::find_if(rows.begin(), rows.end(), [name](const FunctionRow& r) { return r.name == name; })->share;
    };
    EXPECT_EQ(share(without, "refine_centroid"), 0);
    EXPECT_GT(share(without, "track_loop"), share(rows_, "track_loop"));
    EXPECT_EQ(share(without, "sine"), share(rows_, "sine"));
}

TEST_F(FunctionsOfTheNight, WhatIsInlinedAndCalledKeepsOneRow) {
    const auto all = with_inlined(rows_, *opened_.trail);
    std::set<std::pair<std::size_t, std::string>> called;
    for (const FunctionRow& row : all)
        if (!row.inlined) called.insert({row.core, row.name});
    for (const FunctionRow& row : all)
        if (row.inlined) {
            EXPECT_EQ(called.count({row.core, row.name}), 0u) << row.name;
        }
}

TEST(CallsOfAProfile, SayHowPrivilegedTheyWere) {
    const auto o = test::decode(test::data("steps/arm-etm-a-mount/recording.target.toml"));
    const LaneKind* kind = LaneKinds::find("functions");
    ASSERT_NE(kind, nullptr);
    const auto lane = kind->lane(*o.trail, kind->lanes(*o.trail).at(0));
    std::map<std::string, std::set<unsigned>> shades;
    for (std::size_t level = 0; level < lane->levels(); ++level)
        for (std::size_t i = 0; i < lane->size(level); ++i) shades[lane->label(level, i)].insert(lane->span(level, i).shade);
    EXPECT_EQ(shades["sync_entry"], std::set<unsigned>{2}) << "the system's code runs at EL1";
    std::set<unsigned> all;
    for (const auto& [name, of] : shades) all.insert(of.begin(), of.end());
    EXPECT_TRUE(all.contains(1)) << "tasks run at EL0";
    // Where no trace tells it, nothing is told.
    const auto plain = test::decode(test::data("steps/arm-etm-mount/recording.target.toml"));
    const auto of_m = kind->lane(*plain.trail, kind->lanes(*plain.trail).at(0));
    EXPECT_EQ(of_m->span(0, 0).shade, 0);
}

TEST(CallsOfRiscV, ArePalerInUserModeAndPlainInMachineModeWhereThereIsNoSupervisor) {
    const auto o = test::decode(test::data("steps/rv-etrace-mount/recording.target.toml"));
    const LaneKind* kind = LaneKinds::find("functions");
    ASSERT_NE(kind, nullptr);
    const auto lane = kind->lane(*o.trail, kind->lanes(*o.trail).at(0));
    std::set<unsigned> shades;
    std::set<std::string> told;
    for (std::size_t level = 0; level < lane->levels(); ++level)
        for (std::size_t i = 0; i < lane->size(level); ++i) {
            shades.insert(lane->span(level, i).shade);
            if (i % 50 == 0)
                for (const std::string& line : lane->told(lane->span(level, i).begin, std::pair(level, i)).lines)
                    if (line.rfind("privilege", 0) == 0) told.insert(line);
        }
    EXPECT_EQ(shades, (std::set<unsigned>{0, 1, 2})) << "before the first change it is machine mode";
    EXPECT_EQ(told, (std::set<std::string>{"privilege: machine", "privilege: user"}));
}

}  // namespace
}  // namespace mt
