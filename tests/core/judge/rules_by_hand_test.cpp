// Each quantity that a rule can be about, on traces so small that every instance can be counted by hand.
#include <gtest/gtest.h>

#include <cmath>
#include <string>
#include <vector>

#include "judge/rule_check.h"
#include "judge/rule_proposals.h"
#include "support.h"
#include "task_program.h"

namespace mt {
namespace {

constexpr std::uint32_t kRest = 0, kGuideTask = 1, kLogTask = 2;
constexpr std::uint32_t kTable = 3, kWords = 4, kBusLock = 5, kTickNumber = 9;

// Eight rounds of 1 ms, the first at 1 ms. In round i (from 0):
//   +0     the tick's interrupt, 20 µs, makes the guide ready 5 µs after its entry; in round 6 it comes 50 µs late
//   +20    the guide runs for 100 + 10·i µs; within, it sends into the queue (fill i % 4 + 1) and uses the table for 30 µs
//   +400   the log takes the bus lock for 40 µs (in round 3: for 200), and uses the table for 15 µs
// In round 5 the guide has an interrupt of 20 µs in its work: the tick comes again at +60.
test::Opened by_hand() {
    test::Folder folder;
    test::EventScript s(folder / "t");
    s.task(kRest, "idle", 0);
    s.task(kGuideTask, "guide", 5);
    s.task(kLogTask, "log", 2);
    s.name(ObjectKind::resource, kTable, "star table");
    s.name(ObjectKind::queue, kWords, "words");
    s.name(ObjectKind::mutex, kBusLock, "bus");
    s.name(ObjectKind::interrupt, kTickNumber, "tick");
    s.name(ObjectKind::signal, 1, "error");
    s.block(kGuideTask, BlockReason::activation);
    s.block(kLogTask, BlockReason::activation);
    s.put(OsKind::task_switch_in, kRest);
    for (int i = 0; i < 8; ++i) {
        const std::int64_t begin = 1000 * (i + 1) + (i == 6 ? 50 : 0);
        const auto at = [&](std::int64_t us) { s.now = begin + us; };
        at(0);
        s.put(OsKind::isr_enter, kTickNumber);
        at(5);
        s.put(OsKind::task_ready, kGuideTask);
        at(20);
        s.put(OsKind::isr_exit, kTickNumber);
        s.put(OsKind::task_switch_in, kGuideTask);
        s.put(OsKind::signal, 1, i % 2 == 0 ? 10 * i : -10 * i);
        at(30);
        s.put(OsKind::queue_send, kWords, i % 4 + 1);
        if (i % 4 == 3) {
            at(31);
            for (int left = 3; left >= 0; --left) s.put(OsKind::queue_receive, kWords, left);
        }
        at(35);
        s.put(OsKind::marker, 7, i);
        std::int64_t end = 120 + 10 * i;
        if (i == 5) {
            at(60);
            s.put(OsKind::isr_enter, kTickNumber);
            at(80);
            s.put(OsKind::isr_exit, kTickNumber);
            end += 20;
        }
        at(end);
        s.block(kGuideTask, BlockReason::activation);
        s.put(OsKind::task_switch_in, kRest);
        at(400);
        s.put(OsKind::task_ready, kLogTask);
        s.put(OsKind::task_switch_in, kLogTask);
        s.put(OsKind::mutex_take, kBusLock);
        at(i == 3 ? 600 : 440);
        s.put(OsKind::mutex_give, kBusLock);
        at(i == 3 ? 610 : 450);
        s.block(kLogTask, BlockReason::activation);
        s.put(OsKind::task_switch_in, kRest);
    }
    s.now = 10'000;
    s.put(OsKind::marker, 8, 0);
    s.finish();
    return test::decode(folder / "t");
}

class RulesByHand : public ::testing::Test {
  protected:
    static void SetUpTestSuite() { opened = new test::Opened(by_hand()); }
    static void TearDownTestSuite() {
        delete opened;
        opened = nullptr;
    }
    static Result<RuleOutcome> judge(const std::string& keys) {
        const auto file = parse_rules("format = \"mindful-trail-rules/1\"\n[[rule]]\nname = \"r\"\n" + keys, "x.rules.toml");
        if (!file) return tl::make_unexpected(file.error());
        return judge_rule(*opened->recording, *opened->trail, *file, file->rules[0]);
    }
    // "kept 8 checked 0 broken, worst 2 µs at 3.000000 ms"
    static std::string told(const std::string& keys) {
        const auto o = judge(keys);
        if (!o) return o.error().text();
        std::string text = std::string(verdict_name(o->verdict)) + ", " + std::to_string(o->checked) + " checked, " +
                           std::to_string(o->violations) + " beyond";
        if (o->worst)
            text += ", worst " + rule_value_text(o->rule.what, o->worst->value) + " at " +
                    std::to_string(o->worst->begin.ps / 1'000'000) + " µs";
        if (o->excluded + o->unpaired > 0)
            text += ", " + std::to_string(o->excluded) + " excluded, " + std::to_string(o->unpaired) + " unpaired";
        return text;
    }
    static test::Opened* opened;
};
test::Opened* RulesByHand::opened = nullptr;

TEST_F(RulesByHand, TheResponseOfAJobIsFromReadyToItsEndWithWhatPreemptedIt) {
    // 115 µs and 10 more in each round; in round 5 the interrupt comes on top: 165 + 20.
    EXPECT_EQ(told("of = \"guide\"\nwhat = \"response\"\nmax = \"185 us\"\n"), "kept, 8 checked, 0 beyond, worst 185 µs at 6005 µs");
    EXPECT_EQ(told("of = \"guide\"\nwhat = \"response\"\nmax = \"184 us\"\n"),
              "broken, 8 checked, 2 beyond, worst 185 µs at 6005 µs");
}

TEST_F(RulesByHand, RunningIsWithoutWhatPreemptedIt) {
    EXPECT_EQ(told("of = \"guide\"\nwhat = \"running\"\nmax = \"170 us\"\n"), "kept, 8 checked, 0 beyond, worst 170 µs at 8005 µs");
    EXPECT_EQ(judge("of = \"guide\"\nwhat = \"running\"\nmax = \"149 us\"\n")->violations, 3U) << "rounds 5, 6 and 7";
}

TEST_F(RulesByHand, ThePeriodIsFromReadyToReadyAndFromEntryToEntry) {
    const auto of_task = judge("of = \"guide\"\nwhat = \"period\"\nmin = \"950 us\"\nmax = \"1050 us\"\n");
    ASSERT_TRUE(of_task) << of_task.error().text();
    EXPECT_EQ(of_task->verdict, Verdict::kept);
    EXPECT_EQ(*of_task->least, 950e6);
    EXPECT_EQ(*of_task->greatest, 1050e6);
    // The tick comes nine times: in round 5 a second time, 60 µs behind the first.
    const auto of_interrupt = judge("of = \"tick\"\nwhat = \"period\"\nmin = \"61 us\"\n");
    ASSERT_TRUE(of_interrupt) << of_interrupt.error().text();
    EXPECT_EQ(of_interrupt->checked, 8U);
    EXPECT_EQ(of_interrupt->violations, 1U);
    EXPECT_EQ(of_interrupt->places[0].begin, Time::from_us(6000));
    EXPECT_EQ(of_interrupt->places[0].end, Time::from_us(6060));
}

TEST_F(RulesByHand, JitterIsHeldAgainstTheNominalPeriodOrTheMedian) {
    EXPECT_EQ(told("of = \"guide\"\nwhat = \"jitter\"\nnominal = \"1 ms\"\nmax = \"49 us\"\n").substr(0, 27), "broken, 7 checked, 2 beyond");
    EXPECT_EQ(told("of = \"guide\"\nwhat = \"jitter\"\nmax = \"50 us\"\n").substr(0, 25), "kept, 7 checked, 0 beyond");
    const auto far = judge("of = \"guide\"\nwhat = \"jitter\"\nnominal = \"900 us\"\nmax = \"1 ms\"\n");
    EXPECT_EQ(*far->least, 50e6);
    EXPECT_EQ(*far->greatest, 150e6);
}

TEST_F(RulesByHand, TheDurationOfAnInterruptAndItsOwnTime) {
    EXPECT_EQ(told("of = \"tick\"\nwhat = \"duration\"\nmax = \"20 us\"\n").substr(0, 25), "kept, 9 checked, 0 beyond");
    EXPECT_EQ(told("of = \"tick\"\nwhat = \"own\"\nmax = \"19 us\"\n").substr(0, 27), "broken, 9 checked, 9 beyond");
}

TEST_F(RulesByHand, ALatencyIsFromEachEventToTheFirstAnswerAfterIt) {
    // From the tick's entry to the guide's end: 120 + 10·i, in round 5 twice: 190 and, from the second tick, 130.
    const auto o = judge("from = { of = \"tick\", at = \"entry\" }\nto = { of = \"guide\", at = \"end\" }\nwhat = \"latency\"\nmax = \"1 ms\"\n");
    ASSERT_TRUE(o) << o.error().text();
    EXPECT_EQ(o->checked, 9U);
    EXPECT_EQ(*o->greatest, 190e6);
    EXPECT_EQ(*o->least, 120e6);
    // To the log's start: 400 µs in each round.
    const auto log = judge("from = { of = \"guide\", at = \"end\" }\nto = { of = \"log\", at = \"start\" }\nwhat = \"latency\"\nmax = \"1 ms\"\n");
    ASSERT_TRUE(log) << log.error().text();
    EXPECT_EQ(log->checked, 8U);
    EXPECT_EQ(*log->greatest, 280e6);
    // Behind the last event there is no answer.
    const auto none = judge("from = { of = \"log\", at = \"end\" }\nto = { of = \"tick\", at = \"entry\" }\nwhat = \"latency\"\nmax = \"1 ms\"\n");
    EXPECT_EQ(none->checked, 7U);
    EXPECT_EQ(none->unpaired, 1U);
}

TEST_F(RulesByHand, ALockIsHeldFromTakeToGive) {
    EXPECT_EQ(told("of = \"bus\"\nwhat = \"hold\"\nmax = \"40 us\"\n"), "broken, 8 checked, 1 beyond, worst 200 µs at 4400 µs");
    EXPECT_EQ(told("of = \"bus\"\nwhat = \"wait\"\nmax = \"1 us\"\n"), "undecided, 0 checked, 0 beyond") << "nobody waited";
}

TEST_F(RulesByHand, TheDepthOfAQueueIsItsFillAfterEachSend) {
    const auto o = judge("of = \"words\"\nwhat = \"depth\"\nmax = 3\n");
    ASSERT_TRUE(o) << o.error().text();
    EXPECT_EQ(o->checked, 8U);
    EXPECT_EQ(o->violations, 2U);
    EXPECT_EQ(*o->least, 1);
    EXPECT_EQ(*o->greatest, 4);
}

TEST_F(RulesByHand, ValuesAreHeldAgainstTheirLimitsAlsoWithoutTheirSigns) {
    EXPECT_EQ(told("of = \"error\"\nwhat = \"value\"\nmin = -50\nmax = 60\n"), "broken, 8 checked, 1 beyond, worst -70 at 8020 µs");
    EXPECT_EQ(told("of = \"error\"\nwhat = \"value\"\nabs = true\nmax = 50\n"), "broken, 8 checked, 2 beyond, worst 70 at 8020 µs");
}

TEST_F(RulesByHand, CountsAreOfWhateverHasInstances) {
    for (const auto& [of, n] : {std::pair("tick", 9), {"guide", 8}, {"words", 8}, {"bus", 8}}) {
        const auto o = judge("of = \"" + std::string(of) + "\"\nwhat = \"count\"\nmax = 100\n");
        ASSERT_TRUE(o) << of << ": " << o.error().text();
        EXPECT_EQ(o->worst->value, n) << of;
    }
    EXPECT_EQ(told("of = \"tick\"\nwhat = \"count\"\nmin = 10\n").substr(0, 27), "broken, 1 checked, 1 beyond");
}

TEST_F(RulesByHand, TheRateIsCountedInStretchesFromTheStart) {
    // In each whole stretch of 2 ms of 10: rounds begin at 1, 2, … 8 ms.
    const auto o = judge("of = \"guide\"\nwhat = \"rate\"\nwithin = \"2 ms\"\nmax = 2\n");
    ASSERT_TRUE(o) << o.error().text();
    EXPECT_EQ(o->checked, 5U);
    EXPECT_EQ(*o->least, 1) << "the first and the last";
    EXPECT_EQ(*o->greatest, 2);
    EXPECT_EQ(o->verdict, Verdict::kept);
    const auto short_one = judge("of = \"guide\"\nwhat = \"rate\"\nwithin = \"1 ns\"\nmax = 2\n");
    EXPECT_TRUE(short_one) << "ten million stretches of a nanosecond are looked at";
}

TEST_F(RulesByHand, LoadIsOfEachPositionOfItsWindow) {
    // A window of 1 ms around round 3: the tick 20, the guide 130, the log 210.
    const auto o = judge("core = \"core0\"\nwhat = \"load\"\nwithin = \"1 ms\"\nmax = \"30 %\"\n");
    ASSERT_TRUE(o) << o.error().text();
    EXPECT_EQ(o->verdict, Verdict::broken);
    EXPECT_EQ(o->violations, 1U) << "one stretch in which windows are beyond";
    EXPECT_NEAR(o->worst->value, 36, 1.1);
    const auto log = judge("of = \"log\"\nwhat = \"load\"\nwithin = \"1 ms\"\nmax = \"21 %\"\n");
    ASSERT_TRUE(log) << log.error().text();
    EXPECT_EQ(log->verdict, Verdict::kept);
    EXPECT_NEAR(*log->greatest, 21, 1e-6);
    const auto wrong = judge("core = \"core7\"\nwhat = \"load\"\nwithin = \"1 ms\"\nmax = \"30 %\"\n");
    ASSERT_FALSE(wrong);
    EXPECT_NE(wrong.error().text().find("there are: core0"), std::string::npos) << wrong.error().text();
    EXPECT_EQ(told("core = \"core0\"\nwhat = \"load\"\nwithin = \"1 s\"\nmax = \"30 %\"\n").substr(0, 9), "undecided") << "longer than the recording";
}

TEST_F(RulesByHand, OrderIsLookedAtInEachPeriod) {
    const std::string per = "per = \"tick\"\nwhat = \"order\"\n";
    const auto good = judge("first = { of = \"guide\", at = \"end\" }\nthen = { of = \"log\", at = \"start\" }\n" + per);
    ASSERT_TRUE(good) << good.error().text();
    EXPECT_EQ(good->verdict, Verdict::kept);
    EXPECT_EQ(good->checked, 7U) << "between the two ticks of round 5 there is neither, and behind the last tick no other";
    const auto by_task = judge("first = { of = \"guide\", at = \"end\" }\nthen = { of = \"log\", at = \"start\" }\nper = \"guide\"\nwhat = \"order\"\n");
    EXPECT_EQ(by_task->verdict, Verdict::kept);
    EXPECT_EQ(by_task->checked, 7U);
    const auto other_way = judge("first = { of = \"log\", at = \"start\" }\nthen = { of = \"guide\", at = \"end\" }\nper = \"guide\"\nwhat = \"order\"\n");
    EXPECT_EQ(other_way->verdict, Verdict::broken);
    EXPECT_EQ(other_way->violations, 7U);
    EXPECT_EQ(other_way->worst->value, 280e6) << "so much too late in round 0";
}

TEST_F(RulesByHand, LimitsInCyclesNeedAClockThatIsKnown) {
    const auto o = judge("of = \"tick\"\nwhat = \"duration\"\nmax = \"480 cycles\"\n");
    ASSERT_TRUE(o) << o.error().text();
    EXPECT_EQ(o->verdict, Verdict::undecided) << "the clock of the events is not that of the core";
    EXPECT_NE(o->reason.find("clock"), std::string::npos) << o->reason;
}

TEST_F(RulesByHand, EachProposedRuleIsKeptByTheRecordingThatItIsFrom) {
    const auto rules = propose_rules(*opened->recording, *opened->trail, 0.2);
    RulesFile file;
    file.rules = rules;
    const auto outcomes = judge_rules(*opened->recording, *opened->trail, file);
    ASSERT_TRUE(outcomes) << outcomes.error().text();
    for (const RuleOutcome& o : *outcomes) EXPECT_EQ(o.verdict, Verdict::kept) << o.rule.name;
    EXPECT_TRUE(rules.empty()) << "nothing happened ten times: that says little";
}

// Executions of 10 µs each millisecond.
Trail ticking(std::int64_t n, std::uint64_t hz) {
    Trail trail;
    CoreTrail core;
    core.name = "main";
    core.clock.hz = hz;
    core.lanes.emplace_back(std::uint16_t{17}, "STEP_TIMER");
    for (std::int64_t i = 1; i <= n; ++i) {
        ExceptionInstance x;
        x.begin = Time::from_ms(i);
        x.end = x.begin + Time::from_us(i == 7 ? 14 : 10);
        x.own = x.end - x.begin;
        core.lanes[0].append(x);
    }
    core.end = trail.end = Time::from_ms(n + 1);
    trail.cores.push_back(std::move(core));
    return trail;
}
Rule one_rule(const std::string& keys) {
    const auto file = parse_rules("format = \"mindful-trail-rules/1\"\n[[rule]]\nname = \"r\"\n" + keys, "x");
    EXPECT_TRUE(file) << file.error().text();
    return file->rules[0];
}

TEST(RuleLimits, InCyclesAreOfTheCoreThatTheActivityIsOn) {
    const Trail trail = ticking(20, 120'000'000);
    const auto o = [&](const std::string& keys) { return *judge_rule(Recording{}, trail, RulesFile{}, one_rule(keys)); };
    const std::string of = "of = \"STEP_TIMER\"\nwhat = \"duration\"\n";
    EXPECT_EQ(o(of + "max = \"1680 cycles\"\n").verdict, Verdict::kept) << "14 µs at 120 MHz";
    EXPECT_EQ(o(of + "max = \"1679 cycles\"\n").violations, 1U);
    EXPECT_EQ(o(of + "min = \"1200 cycles\"\n").verdict, Verdict::kept);
    EXPECT_EQ(o(of + "min = \"1201 cycles\"\n").violations, 19U);
    EXPECT_EQ(o(of + "mean_max = \"1224 cycles\"\n").verdict, Verdict::kept) << "(19 · 10 + 14) / 20 = 10.2 µs";
    EXPECT_EQ(o(of + "mean_max = \"1223 cycles\"\n").verdict, Verdict::broken);
}

TEST(RuleLimits, OfPercentilesAreNearestRanks) {
    const Trail trail = ticking(20, 0);
    const auto o = [&](const std::string& limit) {
        return *judge_rule(Recording{}, trail, RulesFile{}, one_rule("of = \"STEP_TIMER\"\nwhat = \"duration\"\n" + limit));
    };
    EXPECT_EQ(o("median_max = \"10 us\"\n").verdict, Verdict::kept);
    EXPECT_EQ(o("p95_max = \"10 us\"\n").verdict, Verdict::kept) << "the 19th of 20";
    EXPECT_EQ(o("p99_max = \"10 us\"\n").verdict, Verdict::broken) << "the 20th";
    EXPECT_EQ(o("p99_max = \"14 us\"\n").statistics[0].value, 14e6);
}

TEST(RuleProposals, LeaveAFifthOfRoomAndAreRoundedToTwoDigits) {
    const Trail trail = ticking(40, 0);
    const auto rules = propose_rules(Recording{}, trail, 0.2);
    ASSERT_EQ(rules.size(), 2U);
    std::string all = rules_text(rules);
    const auto duration = std::find_if(rules.begin(), rules.end(), [](const Rule& r) { return r.what == RuleWhat::duration; });
    ASSERT_NE(duration, rules.end());
    EXPECT_EQ(duration->max->value, 17e6) << "14 µs and a fifth: 16.8" << all;
    const auto period = std::find_if(rules.begin(), rules.end(), [](const Rule& r) { return r.what == RuleWhat::period; });
    ASSERT_NE(period, rules.end());
    EXPECT_EQ(period->min->value, 8e8) << all;
    EXPECT_EQ(period->max->value, 1.2e9) << all;
    // Written, read, and held against the same recording: kept.
    const auto file = parse_rules(all, "proposed");
    ASSERT_TRUE(file) << file.error().text();
    const auto outcomes = judge_rules(Recording{}, trail, *file);
    ASSERT_TRUE(outcomes);
    for (const RuleOutcome& o : *outcomes) EXPECT_EQ(o.verdict, Verdict::kept);
    // Without any room the limits are what was seen, never tighter.
    for (const RuleOutcome& o : *judge_rules(Recording{}, trail, RulesFile{"x", propose_rules(Recording{}, trail, 0)}))
        EXPECT_EQ(o.verdict, Verdict::kept) << o.rule.name << " " << o.rule.limit_text();
}

TEST(RuleProposals, LeaveOutWhatHappenedLessThanTenTimes) {
    EXPECT_TRUE(propose_rules(Recording{}, ticking(9, 0)).empty());
    EXPECT_FALSE(propose_rules(Recording{}, ticking(12, 0)).empty());
}

TEST(RuleSubjects, OfOneNameOnTwoCoresMustSayWhichCore) {
    Trail trail = ticking(20, 0);
    Trail more = ticking(10, 0);
    more.cores[0].name = "cop";
    trail.cores.push_back(std::move(more.cores[0]));
    const std::string of = "of = \"STEP_TIMER\"\nwhat = \"duration\"\nmax = \"1 ms\"\n";
    const auto unclear = judge_rule(Recording{}, trail, RulesFile{"m.rules.toml", {}}, one_rule(of));
    ASSERT_FALSE(unclear);
    EXPECT_NE(unclear.error().text().find("more than one core"), std::string::npos) << unclear.error().text();
    EXPECT_EQ(judge_rule(Recording{}, trail, RulesFile{}, one_rule(of + "core = \"cop\"\n"))->checked, 10U);
    EXPECT_EQ(judge_rule(Recording{}, trail, RulesFile{}, one_rule(of + "core = \"main\"\n"))->checked, 20U);
    EXPECT_FALSE(judge_rule(Recording{}, trail, RulesFile{}, one_rule(of + "core = \"aux\"\n")));
}

TEST(Rules, WhenCancelledStopEarly) {
    const Trail trail = ticking(20, 0);
    RulesFile file;
    for (int i = 0; i < 5; ++i) file.rules.push_back(one_rule("of = \"STEP_TIMER\"\nwhat = \"duration\"\nmax = \"1 ms\"\n"));
    Progress progress;
    progress.cancel();
    const auto outcomes = judge_rules(Recording{}, trail, file, &progress);
    ASSERT_TRUE(outcomes);
    EXPECT_LT(outcomes->size(), 5U);
}

}  // namespace
}  // namespace mt
