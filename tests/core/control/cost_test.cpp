// What a wish costs: sizes of packets by DDI 0403E appendix D4, against what the line carries.
#include <gtest/gtest.h>

#include <algorithm>

#include "control/units/cost.h"

namespace mt {
namespace {

constexpr std::uint64_t kClock = 120'000'000;

double line_of(const CostEstimate& cost, const std::string& what) {
    for (const CostLine& line : cost.lines)
        if (line.what == what) return line.bytes_per_s;
    return 0;
}

TracePlan samples(std::uint64_t cycles) {
    TracePlan plan;
    plan.pc_sample_cycles = cycles;
    plan.to = TraceWish::To::swo;
    plan.bits_per_s = 2'000'000;
    return plan;
}

TEST(ACost, IsTheSumOfItsLinesMostCostlyFirst) {
    TracePlan plan = samples(1024);
    plan.exceptions = true;
    plan.local_timestamps = true;
    plan.variables = {{"axis_error", 3}, {"guide.state", 7}};
    const CostEstimate cost = estimate_cost(plan, kClock);
    double sum = 0;
    for (std::size_t i = 0; i < cost.lines.size(); ++i) {
        sum += cost.lines[i].bytes_per_s;
        if (i > 0) EXPECT_GE(cost.lines[i - 1].bytes_per_s, cost.lines[i].bytes_per_s);
    }
    EXPECT_NEAR(sum, cost.bytes_per_s, 1);
    EXPECT_NEAR(line_of(cost, "samples of the program counter"), kClock / 1024.0 * 5, 1);
    EXPECT_GT(line_of(cost, "variable guide.state"), line_of(cost, "variable axis_error"));
}

TEST(ACost, OverflowsBeyondWhatTheLineCarries) {
    EXPECT_TRUE(estimate_cost(samples(64), kClock).overflows()) << "9 MB/s over 200 kB/s";
    EXPECT_FALSE(estimate_cost(samples(16'384), kClock).overflows());
    TracePlan wide = samples(64);
    wide.to = TraceWish::To::port;
    wide.bits_per_s = kClock * 4;
    EXPECT_FALSE(estimate_cost(wide, kClock).overflows());
}

TEST(ACost, SaysWhatToThinOutFirstAndWhatIsGained) {
    const CostEstimate cost = estimate_cost(samples(1024), kClock);
    ASSERT_FALSE(cost.advice.empty());
    EXPECT_NE(cost.advice[0].find("instead of"), std::string::npos) << cost.advice[0];
    EXPECT_NE(cost.advice[0].find("75 % less"), std::string::npos)
        << "four times the distance, nothing else on the line";
    EXPECT_NE(estimate_cost(samples(16'384), kClock).advice.at(0).find("no samples"), std::string::npos)
        << "there is no longer distance";
    TracePlan plan = samples(0);
    plan.variables = {{"axis_error", 8}};
    EXPECT_NE(estimate_cost(plan, kClock).advice.at(0).find("without the instruction's address"), std::string::npos);
    plan.variables = {{"axis_error", 3}};
    EXPECT_TRUE(estimate_cost(plan, kClock).advice.empty()) << "nothing else would be left";
}

TEST(ACost, OfABufferIsHowFarItReachesBack) {
    TracePlan plan;
    plan.instructions = true;
    plan.to = TraceWish::To::buffer;
    plan.buffer_bytes = 4096;
    TraceRates rates;
    rates.busy = 1;
    rates.bytes_per_instruction = 0.1;
    const CostEstimate cost = estimate_cost(plan, kClock, rates);
    EXPECT_NEAR(cost.bytes_per_s, 12e6, 1);
    EXPECT_NEAR(cost.reaches_back_s, 4096 / 12e6, 1e-9);
    EXPECT_EQ(cost.carries, 0);
    plan.framed = true;
    EXPECT_NEAR(estimate_cost(plan, kClock, rates).bytes_per_s, 13e6, 1) << "fifteen bytes of sixteen, and IDs";
}

TEST(ACost, SaysWhatIsAssumedAndWhatWasMeasured) {
    TracePlan plan = samples(0);
    plan.exceptions = true;
    EXPECT_NE(estimate_cost(plan, kClock).lines.at(0).assumption.find("(assumed)"), std::string::npos);
    TraceRates rates;
    rates.exceptions_per_s = 100;
    rates.measured = true;
    const CostEstimate cost = estimate_cost(plan, kClock, rates);
    EXPECT_NE(cost.lines.at(0).assumption.find("(measured)"), std::string::npos);
    EXPECT_NEAR(cost.bytes_per_s, 900, 0.1) << "entry, exit and return of three bytes each";
}

TEST(ACost, OfNothingIsNothing) {
    const CostEstimate cost = estimate_cost({}, kClock);
    EXPECT_TRUE(cost.lines.empty());
    EXPECT_EQ(cost.bytes_per_s, 0);
    EXPECT_FALSE(cost.overflows());
    EXPECT_TRUE(cost.advice.empty());
}

}  // namespace
}  // namespace mt
