// Findings about tasks in systems that were not recorded anywhere: each wrong at places and sizes of chance, and
// systems in which nothing goes wrong.
#include <gtest/gtest.h>

#include "judge/finding.h"
#include "support.h"
#include "task_program.h"

namespace mt {
namespace {

using Wrongs = test::TaskProgram::Wrongs;

std::vector<Finding> findings(std::uint32_t seed, const Wrongs& wrongs, double seconds = 8) {
    test::Folder folder;
    test::TaskProgram(seed).write(folder / "t", seconds, wrongs);
    const auto o = test::decode(folder / "t");
    EXPECT_EQ(o.trail->tasks.contradictions, 0U);
    return find_all(*o.recording, *o.trail);
}

std::string titles_of(const std::vector<Finding>& all) {
    std::string text;
    for (const auto& f : all) text += std::string(finding_kind_name(f.kind)) + ": " + f.title + " | " + f.cause + "\n";
    return text.empty() ? "none\n" : text;
}

const Finding* task_finding_of(const std::vector<Finding>& all, FindingKind kind) {
    for (const auto& f : all)
        if (f.kind == kind) return &f;
    return nullptr;
}

bool names(const Finding& f, const std::string& who) { return f.names(who); }

// One finding of the kind that names all of `who` and touches the place; at most `others` beside it.
void expect_one(const Wrongs& wrongs, std::uint32_t seed, FindingKind kind, const std::vector<std::string>& who,
                double from_us, double to_us, std::size_t others = 0) {
    const auto all = findings(seed, wrongs);
    const Finding* f = task_finding_of(all, kind);
    ASSERT_NE(f, nullptr) << "seed " << seed << "\n" << titles_of(all);
    for (const auto& w : who) EXPECT_TRUE(names(*f, w)) << w << " in seed " << seed << "\n" << titles_of(all);
    EXPECT_LE(f->begin.us(), to_us) << titles_of(all);
    EXPECT_GE(f->end.us(), from_us) << titles_of(all);
    EXPECT_LE(all.size(), 1 + others) << "seed " << seed << "\n" << titles_of(all);
}

class OfChance : public testing::TestWithParam<std::uint32_t> {
  protected:
    double place() { return 1e6 + 5.5e6 * static_cast<double>(GetParam() * 2654435761U % 1000) / 1000; }
    std::uint32_t seed() const { return GetParam(); }
};

TEST_P(OfChance, ASystemThatKeepsItsTimesHasNoFinding) {
    const auto all = findings(seed(), {});
    EXPECT_TRUE(all.empty()) << titles_of(all);
}
TEST_P(OfChance, ALongJob) {
    Wrongs w;
    w.long_job_at = place();
    w.long_job_factor = 2.6 + seed() * 0.3;
    expect_one(w, seed(), FindingKind::duration_outlier, {"plan"}, w.long_job_at, w.long_job_at + 60'000);
}
TEST_P(OfChance, AMissedActivation) {
    Wrongs w;
    w.missed_at = place();
    expect_one(w, seed(), FindingKind::missed_activation, {"steer"}, w.missed_at, w.missed_at + 15'000);
}
// Each period is a little too long, none far enough to be missed or to jitter.
TEST_P(OfChance, ADriftOfThePeriod) {
    Wrongs w;
    w.drift_at = 1e6 + 2e6 * (seed() % 5) / 5;
    expect_one(w, seed(), FindingKind::period_drift, {"plan"}, w.drift_at, w.drift_at + 500e3);
}
TEST_P(OfChance, ALostBeat) {
    Wrongs w;
    w.jitter_at = place();
    expect_one(w, seed(), FindingKind::jitter_burst, {"steer"}, w.jitter_at, w.jitter_at + 120'000);
}
TEST_P(OfChance, AStormOfInterrupts) {
    Wrongs w;
    w.storm_at = place();
    expect_one(w, seed(), FindingKind::interrupt_storm, {"limit"}, w.storm_at, w.storm_at + 30'000, 1);
}
TEST_P(OfChance, PriorityInversionWithoutInheritanceOnly) {
    Wrongs w;
    w.quarrel_at = place();
    w.inherit = false;
    expect_one(w, seed(), FindingKind::priority_inversion, {"steer", "log", "plan", "table lock"},
               w.quarrel_at - 110'000, w.quarrel_at + 110'000, 1);
}
TEST_P(OfChance, WorkThatGrows) {
    Wrongs w;
    w.growth = 0.15 + 0.05 * seed();
    expect_one(w, seed(), FindingKind::slow_growth, {"plan"}, 0, 8e6);
}
TEST_P(OfChance, ATaskThatGetsNoProcessor) {
    Wrongs w;
    w.hog_from = 1e6 + 0.5e6 * seed();
    w.hog_for = 900'000;
    expect_one(w, seed(), FindingKind::starvation, {"log", "plan"}, w.hog_from, w.hog_from + w.hog_for, 2);
}
TEST_P(OfChance, AResourceUsedWithoutItsLock) {
    Wrongs w;
    w.unguarded_at = place();
    const auto all = findings(seed(), w);
    const Finding* f = task_finding_of(all, FindingKind::unguarded_overlap);
    ASSERT_NE(f, nullptr) << titles_of(all);
    EXPECT_TRUE(names(*f, "log") && names(*f, "plan") && names(*f, "table")) << titles_of(all);
    EXPECT_NE(f->cause.find("log did not hold table lock"), std::string::npos) << f->cause;
    EXPECT_LE(all.size(), 1U) << titles_of(all);
}
TEST_P(OfChance, AQueueThatOverflows) {
    Wrongs w;
    w.slow_reader_from = place() * 0.8;
    w.slow_reader_for = 500'000;
    expect_one(w, seed(), FindingKind::queue_overflow, {"reader", "words", "words rx"}, w.slow_reader_from,
               w.slow_reader_from + 1e6, 1);
}
TEST_P(OfChance, InterruptsMaskedTooLong) {
    Wrongs w;
    w.mask_at = place();
    w.mask_for = 600 + 100 * seed();
    expect_one(w, seed(), FindingKind::late_response, {"tick", "log"}, w.mask_at, w.mask_at + 120'000);
}
TEST_P(OfChance, AFaultAndWhereItWas) {
    Wrongs w;
    w.fault_at = place();
    const auto all = findings(seed(), w);
    ASSERT_FALSE(all.empty());
    EXPECT_EQ(all[0].title, "Divide by zero in reader");
    EXPECT_LE(all.size(), 1U) << titles_of(all);
}
TEST_P(OfChance, LostEventsAreALossAndNothingElse) {
    Wrongs w;
    w.lose_at = place();
    const auto all = findings(seed(), w);
    ASSERT_EQ(all.size(), 1U) << titles_of(all);
    EXPECT_EQ(all[0].kind, FindingKind::gap);
}

INSTANTIATE_TEST_SUITE_P(Systems, OfChance, testing::Values(1U, 2U, 3U, 4U, 5U, 6U));

}  // namespace
}  // namespace mt
