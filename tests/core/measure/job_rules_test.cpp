// Where the jobs of a task begin and end: as the trace says, or by another rule.
#include <gtest/gtest.h>

#include "measure/tasks.h"
#include "support.h"
#include "task_program.h"

namespace mt {
namespace {

constexpr int kRounds = 50;

/// A task that works 100 µs, waits for a queue, works 300 µs between two marks, and waits for its next job; each round
/// takes 1 ms.
class JobRules : public testing::Test {
  protected:
    void SetUp() override { test::write_jobs_of_two_parts(folder_ / "trace", kRounds); }
    TaskRow with(const std::string& rule) {
        test::write_file(folder_ / "a.target.toml",
                         "format = \"mindful-trail-target/1\"\n[[stream]]\nprotocol = \"ctf\"\nfile = \"trace\"\n"
                         "[[task]]\nname = \"guide\"\n" +
                             rule);
        const auto o = test::decode(folder_ / "a.target.toml");
        EXPECT_EQ(o.trail->tasks.contradictions, 0U);
        for (const auto& r : task_rows(*o.trail))
            if (r.name == "guide") return r;
        return {};
    }
    std::string refused(const std::string& rule) {
        const auto read = parse_target_file(
            "format = \"mindful-trail-target/1\"\n[[stream]]\nprotocol = \"ctf\"\n[[task]]\nname = \"guide\"\n" + rule,
            "t.toml");
        return read ? "" : read.error().text();
    }
    test::Folder folder_;
};

TEST_F(JobRules, AsTheTraceSaysAJobHoldsTheWaitForData) {
    const TaskRow r = with("");
    EXPECT_EQ(r.run.count, static_cast<std::uint64_t>(kRounds));
    EXPECT_EQ(r.run.mean, Time::from_us(450));
    EXPECT_EQ(r.response.mean, Time::from_us(650));
    EXPECT_EQ(r.period.mean, Time::from_us(1000));
}

TEST_F(JobRules, AtAnyWaitEachStretchIsAJob) {
    const TaskRow r = with("job_ends = \"any-wait\"\n");
    EXPECT_EQ(r.run.count, static_cast<std::uint64_t>(2 * kRounds));
    EXPECT_EQ(r.response.least, Time::from_us(100));
    EXPECT_EQ(r.response.greatest, Time::from_us(350));
}

TEST_F(JobRules, AtTheWaitForAQueueAJobReachesFromOneToTheNext) {
    for (const std::string object : {"frames", "9"}) {
        const TaskRow r = with("job_ends = \"wait-for\"\nobject = \"" + object + "\"\n");
        EXPECT_EQ(r.run.count, static_cast<std::uint64_t>(kRounds - 1));
        EXPECT_EQ(r.run.mean, Time::from_us(450));
        EXPECT_EQ(r.response.mean, Time::from_us(800)) << "from the end of one wait to the next";
    }
}

TEST_F(JobRules, BetweenTwoMarks) {
    const TaskRow r = with("job_ends = \"marks\"\nbegin = { port = 5, value = 1 }\nend = { port = 5, value = 2 }\n");
    EXPECT_EQ(r.run.count, static_cast<std::uint64_t>(kRounds));
    EXPECT_EQ(r.run.greatest, Time::from_us(300));
    EXPECT_EQ(r.response.greatest, Time::from_us(300));
}

TEST_F(JobRules, ARuleThatCannotBeIsRefusedWithItsPlace) {
    EXPECT_NE(refused("job_ends = \"whenever\"\n").find("next-job"), std::string::npos);
    EXPECT_NE(refused("job_ends = \"wait-for\"\n").find("object"), std::string::npos);
    EXPECT_NE(refused("job_ends = \"marks\"\n").find("begin"), std::string::npos);
    EXPECT_EQ(refused("job_ends = \"any-wait\"\n"), "");
}

}  // namespace
}  // namespace mt
