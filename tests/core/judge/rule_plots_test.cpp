// What the window draws and tells of rules: limits in lanes and plots, distributions, why a place is beyond, and limits
// made from what a recording does.
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>

#include "judge/rule_place.h"
#include "judge/rule_plots.h"
#include "judge/rule_proposals.h"
#include "measure/kinds/kinds.h"
#include "support.h"
#include "task_program.h"

namespace mt {
namespace {

constexpr const char* kHead = "format = \"mindful-trail-rules/1\"\n";

class RulePlots : public ::testing::Test {
  protected:
    static void SetUpTestSuite() { opened = new test::Opened(test::decode(test::data("tasks/mount-a/trace"))); }
    static void TearDownTestSuite() {
        delete opened;
        opened = nullptr;
    }
    static std::vector<RuleOutcome> judged(const std::string& rules) {
        const auto file = parse_rules(kHead + rules, "x.rules.toml");
        EXPECT_TRUE(file) << file.error().text();
        const auto outcomes = judge_rules(*opened->recording, *opened->trail, *file);
        EXPECT_TRUE(outcomes) << outcomes.error().text();
        return *outcomes;
    }
    static const Trail& trail() { return *opened->trail; }
    static test::Opened* opened;
};
test::Opened* RulePlots::opened = nullptr;

const std::string kWeather = "[[rule]]\nname = \"w\"\nof = \"weather\"\nwhat = \"response\"\n";

TEST_F(RulePlots, ALimitStandsAtTheLaneAndTheLengthThatItIsAbout) {
    const auto outcomes = judged(kWeather + "max = \"21.6 ms\"\np99_max = \"40 ms\"\n");
    const auto lines = limit_lines(trail(), outcomes);
    ASSERT_EQ(lines.size(), 2U);
    EXPECT_EQ(lines[0].lane.kind, &tasks_kind());
    EXPECT_EQ(trail().tasks.tasks[lines[0].lane.index].name, "weather");
    EXPECT_EQ(lines[0].length, 0U);
    EXPECT_EQ(lines[0].value, 21.6e9);
    EXPECT_TRUE(lines[0].at_most);
    EXPECT_FALSE(lines[0].kept);
    EXPECT_EQ(lines[0].text, "at most 21.6 ms");
    EXPECT_TRUE(lines[1].of_all);
    EXPECT_EQ(lines[1].text, "P99 at most 40 ms");
    const auto running = limit_lines(trail(), judged("[[rule]]\nname = \"r\"\nof = \"weather\"\nwhat = \"running\"\nmin = \"1 us\"\n"));
    ASSERT_EQ(running.size(), 1U);
    EXPECT_EQ(running[0].length, 1U);
    EXPECT_FALSE(running[0].at_most);
}

TEST_F(RulePlots, WhatIsNoLengthOfALaneHasNoLineInIt) {
    EXPECT_TRUE(limit_lines(trail(), judged("[[rule]]\nname = \"p\"\nof = \"weather\"\nwhat = \"period\"\nmax = \"1 s\"\n"
                                            "[[rule]]\nname = \"c\"\nof = \"weather\"\nwhat = \"count\"\nmin = 1\n"
                                            "[[rule]]\nname = \"n\"\nof = \"nobody\"\nwhat = \"response\"\nmax = \"1 s\"\noptional = true\n"))
                    .empty());
    // The events' clock is not the core's: nobody knows how long a cycle is.
    EXPECT_TRUE(limit_lines(trail(), judged(kWeather + "max = \"480 cycles\"\n")).empty());
}

TEST_F(RulePlots, TheDistributionHasEveryInstanceThatWasChecked) {
    const auto outcomes = judged(kWeather + "max = \"21.6 ms\"\n[[rule]]\nname = \"p\"\nof = \"weather\"\nwhat = \"period\"\nmax = \"10 s\"\n"
                                            "[[rule]]\nname = \"l\"\nof = \"weather\"\nwhat = \"load\"\nwithin = \"100 ms\"\nmax = \"90 %\"\n");
    for (std::size_t i = 0; i < 2; ++i) {
        const Series s = series_of_rule(trail(), outcomes[i].rule);
        EXPECT_EQ(s.count, outcomes[i].checked);
        EXPECT_EQ(s.least, *outcomes[i].least);
        EXPECT_EQ(s.greatest, *outcomes[i].greatest);
        std::uint64_t all = 0;
        for (const auto n : s.counts) all += n;
        EXPECT_EQ(all, s.count);
        EXPECT_FALSE(s.of_values);
        for (std::size_t b = 0; b < s.counts.size(); ++b)
            EXPECT_TRUE(s.counts[b] == 0 || s.longest[b].span.lane) << "a click leads there";
    }
    EXPECT_EQ(series_of_rule(trail(), outcomes[2].rule).count, 0U) << "load is judged as a whole";
}

TEST_F(RulePlots, ALateJobIsExplainedByWhereItsTimeWentAndWhoHadTheCore) {
    const auto outcomes = judged(kWeather + "max = \"21.6 ms\"\n");
    ASSERT_EQ(outcomes[0].places.size(), 1U);
    const RulePlace& place = outcomes[0].places[0];
    const PlaceExplained e = explain_place(*opened->recording, trail(), outcomes[0].rule, place);
    ASSERT_TRUE(e.why);
    EXPECT_EQ(e.why->length, place.end - place.begin);
    Time parts;
    for (const Spent& s : e.why->parts) parts += s.here;
    EXPECT_EQ(parts, e.why->length);
    ASSERT_FALSE(e.had.empty());
    Time had;
    for (const HadCore& h : e.had) had += h.time;
    EXPECT_LE(had, place.end - place.begin) << "nobody is counted twice";
    EXPECT_GT(had.ps, (place.end - place.begin).ps / 2);
    for (std::size_t i = 1; i < e.had.size(); ++i) EXPECT_GE(e.had[i - 1].time, e.had[i].time);
    EXPECT_EQ(e.core, trail().cores[0].name);
}

TEST_F(RulePlots, APeriodIsExplainedByWhoHadTheCoreAlone) {
    const auto outcomes = judged("[[rule]]\nname = \"p\"\nof = \"weather\"\nwhat = \"period\"\nmax = \"1 us\"\n");
    ASSERT_FALSE(outcomes[0].places.empty());
    const PlaceExplained e = explain_place(*opened->recording, trail(), outcomes[0].rule, outcomes[0].places[0]);
    EXPECT_FALSE(e.why);
    EXPECT_FALSE(e.had.empty());
    const PlaceExplained nothing = explain_place(*opened->recording, trail(), outcomes[0].rule, RulePlace{});
    EXPECT_TRUE(nothing.had.empty()) << "a moment has no time that could have gone anywhere";
}

TEST_F(RulePlots, AProposedLimitIsKeptAndAFifthLooser) {
    for (const RuleWhat what : limitable_of(tasks_kind())) {
        const auto p = propose_limit(*opened->recording, trail(), "weather", "", what);
        ASSERT_TRUE(p) << p.error().text();
        ASSERT_GT(p->count, 0U);
        ASSERT_TRUE(p->rule.max);
        EXPECT_GE(p->rule.max->value, *p->greatest * 1.2 * (1 - 1e-9)) << p->rule.name;
        EXPECT_LE(p->rule.max->value, *p->greatest * 1.2 * 1.11) << "rounded to two digits";
        const auto o = judge_rule(*opened->recording, trail(), {}, p->rule);
        ASSERT_TRUE(o);
        EXPECT_EQ(o->verdict, Verdict::kept);
    }
    const auto none = propose_limit(*opened->recording, trail(), "wether", "", RuleWhat::response);
    ASSERT_FALSE(none);
    EXPECT_NE(none.error().text().find("weather"), std::string::npos) << none.error().text();
}

TEST_F(RulePlots, WhatCanBeLimitedIsWhatAKindHas) {
    EXPECT_EQ(limitable_of(tasks_kind()), (std::vector<RuleWhat>{RuleWhat::response, RuleWhat::running, RuleWhat::period, RuleWhat::jitter}));
    EXPECT_EQ(limitable_of(*LaneKinds::find("queues")), std::vector<RuleWhat>{RuleWhat::depth});
    EXPECT_EQ(limitable_of(values_kind()), std::vector<RuleWhat>{RuleWhat::value});
    EXPECT_TRUE(limitable_of(*LaneKinds::find("faults")).empty());
}

TEST(RangesOfValues, AreWiderOnBothSides) {
    test::Folder folder;
    test::EventScript s(folder / "t");
    s.name(ObjectKind::signal, 1, "error");
    for (const int v : {-40, 10, 20, -5}) {
        s.now += 100;
        s.put(OsKind::signal, 1, v);
    }
    s.finish();
    const auto o = test::decode(folder / "t");
    const auto p = propose_limit(*o.recording, *o.trail, "error", "", RuleWhat::value);
    ASSERT_TRUE(p) << p.error().text();
    EXPECT_EQ(p->rule.min->text, "-48");
    EXPECT_EQ(p->rule.max->text, "28");
    const auto lines = [&] {
        Rule r = p->rule;
        r.min.reset();
        r.magnitude = true;
        RuleOutcome out;
        out.rule = r;
        return limit_lines(*o.trail, {out});
    }();
    ASSERT_EQ(lines.size(), 2U) << "of the size alone: the same on either side";
    EXPECT_EQ(lines[0].value, -lines[1].value);
    EXPECT_NE(lines[0].at_most, lines[1].at_most);
    EXPECT_EQ(lines[0].text, "at most 28");
    EXPECT_EQ(lines[1].text, "at least −28") << "each line says what it is";
}

TEST(TextWithRule, KeepsWhatStandsInTheFile) {
    const std::string text = std::string(kHead) + "\n# by hand\n[[rule]]\nname = \"a limit\"\nof = \"guide\"\nwhat = \"response\"\nmax = \"2 ms\"  # from the spec";
    Rule rule;
    rule.name = "a limit";
    rule.of = "guide";
    rule.what = RuleWhat::period;
    rule.max = *parse_limit("3 ms", RuleUnit::time);
    const auto more = text_with_rule(text, "x.rules.toml", rule);
    ASSERT_TRUE(more) << more.error().text();
    EXPECT_EQ(more->rfind(text + "\n", 0), 0U) << "also where the last line had no end";
    EXPECT_EQ(rule.name, "a limit 2") << "the name was taken";
    const auto read = parse_rules(*more, "x.rules.toml");
    ASSERT_TRUE(read);
    ASSERT_EQ(read->rules.size(), 2U);
    EXPECT_EQ(read->rules[1].limit_text(), "at most 3 ms");
    Rule first = rule;
    const auto fresh = text_with_rule(" \n", "new.rules.toml", first);
    ASSERT_TRUE(fresh) << fresh.error().text();
    EXPECT_EQ(parse_rules(*fresh, "new.rules.toml")->rules.size(), 1U);
    EXPECT_FALSE(text_with_rule("this is no rules file", "x.rules.toml", rule)) << "nothing is written over it";
    rule.max.reset();
    EXPECT_FALSE(text_with_rule(text, "x.rules.toml", rule)) << "a rule without a limit is none";
}

}  // namespace
}  // namespace mt
