// Rules held against recordings whose truth was made independently of this program, and against small ones made here.
#include <gtest/gtest.h>

#include <cmath>
#include <string>

#include "judge/load_windows.h"
#include "judge/rule_check.h"
#include "support.h"

namespace mt {
namespace {

// docs/formats/rules-file.md; truth: rule, verdict, checked, violations, worst value, its begin and end in ns.
class RulesOnTraces : public ::testing::TestWithParam<const char*> {};

TEST_P(RulesOnTraces, EveryVerdictCountAndWorstPlaceIsTheTruth) {
    const std::string name = GetParam();
    const auto opened = test::decode(test::data("tasks/mount-" + name + "/trace"));
    const auto file = read_rules(test::data("tasks/rules/" + name + ".rules.toml"));
    ASSERT_TRUE(file) << file.error().text();
    const auto outcomes = judge_rules(*opened.recording, *opened.trail, *file);
    ASSERT_TRUE(outcomes) << outcomes.error().text();
    const auto truth = test::lines(test::read_text(test::data("tasks/rules/" + name + ".truth.csv")));
    ASSERT_EQ(truth.size(), outcomes->size() + 1);
    for (std::size_t i = 0; i < outcomes->size(); ++i) {
        const RuleOutcome& o = (*outcomes)[i];
        std::vector<std::string> cell;
        std::istringstream row(truth[i + 1] + ",");
        for (std::string c; std::getline(row, c, ',');) cell.push_back(c);
        ASSERT_EQ(o.rule.name, cell[0]);
        EXPECT_EQ(verdict_name(o.verdict), cell[1]) << o.rule.name;
        EXPECT_EQ(std::to_string(o.checked), cell[2]) << o.rule.name;
        EXPECT_EQ(std::to_string(o.violations), cell[3]) << o.rule.name;
        if (cell[4].empty() || o.rule.what == RuleWhat::order) continue;
        ASSERT_TRUE(o.worst) << o.rule.name;
        const bool time = unit_of(o.rule.what) == RuleUnit::time;
        EXPECT_NEAR(time ? o.worst->value / 1e3 : o.worst->value, std::stod(cell[4]),
                    time ? 0.0011 : 1e-4) << o.rule.name;
        EXPECT_NEAR(o.worst->begin.ns(), std::stod(cell[5]), 0.01) << o.rule.name;
        EXPECT_NEAR(o.worst->end.ns(), std::stod(cell[6]), 0.01) << o.rule.name;
    }
}
INSTANTIATE_TEST_SUITE_P(Mount, RulesOnTraces, ::testing::Values("a", "b", "c", "clean"));

class RulesOnMount : public ::testing::Test {
  protected:
    static void SetUpTestSuite() { opened = new test::Opened(test::decode(test::data("tasks/mount-clean/trace"))); }
    static void TearDownTestSuite() {
        delete opened;
        opened = nullptr;
    }
    Result<RuleOutcome> judge(const std::string& keys) {
        const auto file = parse_rules("format = \"mindful-trail-rules/1\"\n[[rule]]\nname = \"r\"\n" + keys, "x.rules.toml");
        if (!file) return tl::make_unexpected(file.error());
        return judge_rule(*opened->recording, *opened->trail, *file, file->rules[0]);
    }
    static test::Opened* opened;
};
test::Opened* RulesOnMount::opened = nullptr;

TEST_F(RulesOnMount, AnActivityThatIsNotThereIsAnErrorWithNearNamesUnlessItIsOptional) {
    const auto wrong = judge("of = \"axis_rra\"\nwhat = \"response\"\nmax = \"1 ms\"\n");
    ASSERT_FALSE(wrong);
    EXPECT_EQ(wrong.error().where, "x.rules.toml:2");
    EXPECT_NE(wrong.error().advice.find("axis_ra"), std::string::npos) << wrong.error().text();
    const auto optional = judge("of = \"axis_rra\"\nwhat = \"response\"\nmax = \"1 ms\"\noptional = true\n");
    ASSERT_TRUE(optional);
    EXPECT_EQ(optional->verdict, Verdict::undecided);
    const auto other = judge("of = \"axis_ra\"\nwhat = \"hold\"\nmax = \"1 ms\"\n");
    ASSERT_FALSE(other);
    EXPECT_NE(other.error().what.find("'axis_ra' is a task, which has no hold"), std::string::npos) << other.error().text();
}

TEST_F(RulesOnMount, LimitsForAllTogetherAreHeldAgainstTheirFigures) {
    const auto o = judge("of = \"axis_ra\"\nwhat = \"running\"\nmean_max = \"1 s\"\np95_max = \"1 us\"\n");
    ASSERT_TRUE(o) << o.error().text();
    EXPECT_EQ(o->verdict, Verdict::broken);
    EXPECT_EQ(o->violations, 0U);
    ASSERT_EQ(o->statistics.size(), 2U);
    EXPECT_TRUE(o->statistics[0].kept);
    EXPECT_FALSE(o->statistics[1].kept);
    EXPECT_GE(o->statistics[1].value, o->statistics[0].value);
}

TEST_F(RulesOnMount, JitterIsTheDifferenceFromTheNominalPeriodEitherWay) {
    const auto o = judge("of = \"axis_ra\"\nwhat = \"jitter\"\nnominal = \"6 ms\"\nmax = \"1 s\"\n");
    ASSERT_TRUE(o) << o.error().text();
    EXPECT_NEAR(*o->least, 1e9, 1e8);  // it comes each 5 ms
    const auto of_median = judge("of = \"axis_ra\"\nwhat = \"jitter\"\nmax = \"1 s\"\n");
    EXPECT_EQ(*of_median->least, 0);
}

TEST_F(RulesOnMount, CountsAreOfTheWholeRecording) {
    const auto o = judge("of = \"encoder\"\nwhat = \"count\"\nmax = 14999\n");
    ASSERT_TRUE(o) << o.error().text();
    EXPECT_EQ(o->verdict, Verdict::broken);
    EXPECT_EQ(o->worst->value, 15000);
}

TEST_F(RulesOnMount, AtMostSoManyPlacesAreKeptAndTheyAreTheWorst) {
    const auto o = judge("of = \"encoder\"\nwhat = \"duration\"\nmax = \"1 ns\"\n");
    ASSERT_TRUE(o) << o.error().text();
    EXPECT_EQ(o->violations, 15000U);
    ASSERT_EQ(o->places.size(), RuleOutcome::kMostPlaces);
    EXPECT_EQ(o->places[0].value, *o->greatest);
    for (std::size_t i = 1; i < o->places.size(); ++i) EXPECT_LE(o->places[i].value, o->places[i - 1].value);
}

TEST(Rules, CoverageIsASharePerFunctionFileOrEverything) {
    const auto opened = test::decode(test::data("steps/arm-mtb-paddle/recording.target.toml"));
    const auto o = [&](const std::string& keys) {
        const auto file = parse_rules("format = \"mindful-trail-rules/1\"\n[[rule]]\nname = \"r\"\nwhat = \"coverage\"\n" + keys, "x");
        EXPECT_TRUE(file) << file.error().text();
        return judge_rule(*opened.recording, *opened.trail, *file, file->rules[0]);
    };
    const auto all = o("of = \"*\"\nmin = \"60 %\"\n");
    ASSERT_TRUE(all) << all.error().text();
    EXPECT_EQ(all->verdict, Verdict::kept);
    EXPECT_NEAR(all->worst->value, 100 * 435.0 / 692, 1e-9);
    EXPECT_EQ(o("of = \"*\"\nshare = \"branches\"\nmin = \"60 %\"\n")->verdict, Verdict::broken);
    EXPECT_NEAR(o("of = \"key_action\"\nmin = \"50 %\"\n")->worst->value, 100 * 92.0 / 95, 1e-9);
    EXPECT_GT(o("of = \"keys.c\"\nshare = \"lines\"\nmin = \"1 %\"\n")->worst->value, 50);
    const auto wrong = o("of = \"key_actoin\"\nmin = \"50 %\"\n");
    ASSERT_FALSE(wrong);
    EXPECT_NE(wrong.error().advice.find("key_action"), std::string::npos);
}

// Executions of 10 µs each, whose begins are known to within so much.
RuleOutcome judge_bounded(const std::string& limit, std::int64_t slack_ns) {
    Trail trail;
    CoreTrail core;
    core.name = "main";
    core.lanes.emplace_back(std::uint16_t{17}, "STEP_TIMER");
    for (int i = 1; i <= 5; ++i) {
        ExceptionInstance x;
        x.begin = Time::from_ms(i);
        x.end = x.begin + Time::from_us(10);
        x.own = Time::from_us(10);
        if (i == 3) x.begin_slack = Time{slack_ns * 1000};
        core.lanes[0].append(x);
    }
    core.end = trail.end = Time::from_ms(10);
    trail.cores.push_back(std::move(core));
    const auto file = parse_rules("format = \"mindful-trail-rules/1\"\n[[rule]]\nname = \"r\"\nof = \"STEP_TIMER\"\n"
                                  "what = \"duration\"\n" + limit, "x");
    EXPECT_TRUE(file) << file.error().text();
    return *judge_rule(Recording{}, trail, *file, file->rules[0]);
}

TEST(Rules, WhatItsBoundsLeaveOpenIsUndecided) {
    EXPECT_EQ(judge_bounded("max = \"12 us\"", 1000).verdict, Verdict::kept);
    const RuleOutcome open = judge_bounded("max = \"12 us\"", 3000);
    EXPECT_EQ(open.verdict, Verdict::undecided);
    EXPECT_EQ(open.undecided, 1U);
    EXPECT_EQ(open.violations, 0U);
    EXPECT_EQ(open.checked, 5U);
    // Beyond the limit whatever it really was.
    EXPECT_EQ(judge_bounded("max = \"9 us\"", 3000).violations, 5U);
    // A limit is allowed.
    EXPECT_EQ(judge_bounded("max = \"10 us\"", 0).verdict, Verdict::kept);
    EXPECT_EQ(judge_bounded("min = \"10 us\"", 0).verdict, Verdict::kept);
    // Known between 10 and 13 µs: at least 11 may be kept or not.
    EXPECT_EQ(judge_bounded("min = \"11 us\"", 3000).violations, 4U);
    EXPECT_EQ(judge_bounded("min = \"11 us\"", 3000).undecided, 1U);
}

TEST(Rules, MaskedInterruptsAreThoseOfAllCoresUnlessOneIsNamed) {
    Trail trail;
    for (const char* name : {"main", "cop"}) {
        CoreTrail core;
        core.name = name;
        trail.cores.push_back(std::move(core));
        CoreTasks tasks;
        tasks.present = true;
        tasks.critical.push_back({Time::from_ms(1), Time::from_ms(trail.cores.size() == 1 ? 2 : 4), 0, 0});
        trail.tasks.cores.push_back(std::move(tasks));
    }
    trail.end = Time::from_ms(10);
    const auto o = [&](const std::string& core) {
        const auto file = parse_rules("format = \"mindful-trail-rules/1\"\n[[rule]]\nname = \"r\"\nof = \"masked interrupts\"\n" + core +
                                      "what = \"duration\"\nmax = \"2 ms\"\n", "x");
        return *judge_rule(Recording{}, trail, *file, file->rules[0]);
    };
    EXPECT_EQ(o("").checked, 2U);
    EXPECT_EQ(o("").violations, 1U);
    EXPECT_EQ(o("core = \"main\"\n").verdict, Verdict::kept);
    EXPECT_EQ(o("core = \"cop\"\n").verdict, Verdict::broken);
}

TEST(Rules, WithoutAnInstanceNothingIsKeptOrBroken) {
    const auto file = parse_rules("format = \"mindful-trail-rules/1\"\n[[rule]]\nname = \"r\"\nof = \"irq\"\n"
                                  "what = \"duration\"\nmax = \"1 ms\"\n", "x");
    Trail trail;
    CoreTrail core;
    core.name = "main";
    core.lanes.emplace_back(std::uint16_t{20}, "irq");
    trail.cores.push_back(std::move(core));
    const auto o = judge_rule(Recording{}, trail, *file, file->rules[0]);
    ASSERT_TRUE(o);
    EXPECT_EQ(o->verdict, Verdict::undecided);
    EXPECT_EQ(o->reason, "it never happened in the recording");
}

TEST(LoadWindows, EveryPositionCountsAndStretchesAreTold) {
    Load load;
    load.recorded = {{Time::from_ms(0), Time::from_ms(100)}, {Time::from_ms(200), Time::from_ms(205)}};
    load.busy = {{Time::from_ms(10), Time::from_ms(18)}, {Time::from_ms(50), Time::from_ms(59)}, {Time::from_ms(201), Time::from_ms(202)}};
    std::vector<LoadStretch> stretches;
    const auto all = load_windows(load, Time::from_ms(10), std::nullopt, 0.75,
                                  [&](const LoadStretch& s) { stretches.push_back(s); });
    EXPECT_EQ(all.spans, 1U);
    EXPECT_EQ(all.too_short, 1U);
    ASSERT_EQ(stretches.size(), 2U);
    EXPECT_NEAR(stretches[0].share, 0.8, 1e-9);
    EXPECT_EQ(stretches[0].worst, Time::from_ms(8));  // the first window that holds all of it
    EXPECT_NEAR(stretches[0].first.ns(), 7.5e6, 1);   // from where 7.5 of its 10 ms are busy
    EXPECT_NEAR(stretches[0].last.ns(), 10.5e6, 1);
    EXPECT_NEAR(all.greatest->second, 0.9, 1e-9);
    EXPECT_NEAR(all.least->second, 0, 1e-9);
}

}  // namespace
}  // namespace mt
