// Why one took longer than others: what each spent its time on adds up, and the difference stands first.
#include "judge/why_longer.h"

#include <gtest/gtest.h>

#include "measure/kinds/kinds.h"
#include "measure/refs.h"
#include "support.h"

namespace mt {
namespace {

Time sum(const std::vector<Spent>& parts, Time Spent::*of) {
    Time all{};
    for (const Spent& s : parts) all += s.*of;
    return all;
}

std::uint64_t activity(const LaneKind& kind, const Trail& trail, const std::string& name) {
    for (const auto& n : kind.names(trail))
        if (n.name == name) return n.index;
    ADD_FAILURE() << name;
    return 0;
}

TEST(WhyLonger, APartOfAJobIsWhatItDidWhoHeldItOffAndWhatItWaitedFor) {
    const auto r = test::decode(test::data("tasks/mount-a/trace"));
    const auto worst = tasks_kind().worst(*r.trail, activity(tasks_kind(), *r.trail, "axis_dec"));
    ASSERT_TRUE(worst);
    const auto why = why_longer(*r.recording, *r.trail, *worst);
    ASSERT_TRUE(why);
    EXPECT_GT(why->length, why->typical_length) << "the longest of them all";
    EXPECT_EQ(sum(why->parts, &Spent::here), why->length) << "nothing is left over";
    EXPECT_EQ(sum(why->parts, &Spent::typical), why->typical_length);
    ASSERT_FALSE(why->parts.empty());
    for (std::size_t i = 1; i < why->parts.size(); ++i)
        EXPECT_GE(std::abs(why->parts[i - 1].difference().ps), std::abs(why->parts[i].difference().ps));
    // A priority inversion: it waits for the lock that a task of less urgency holds.
    EXPECT_EQ(why->parts[0].on, Spent::On::waiting) << why->parts[0].name;
    EXPECT_NE(why->parts[0].name.find("axis state"), std::string::npos) << why->parts[0].name;
}

TEST(WhyLonger, APartOfACallIsWhatItCalledWhatPreemptedItAndItsOwnLines) {
    const auto r = test::decode(test::data("steps/arm-etm-mount-cc/recording.target.toml"));
    const auto worst = functions_kind().worst(*r.trail, activity(functions_kind(), *r.trail, "refraction"));
    ASSERT_TRUE(worst);
    const auto why = why_longer(*r.recording, *r.trail, *worst);
    ASSERT_TRUE(why);
    EXPECT_EQ(sum(why->parts, &Spent::here), why->length);
    EXPECT_EQ(sum(why->parts, &Spent::typical), why->typical_length);
    EXPECT_EQ(why->parts[0].on, Spent::On::handler) << "an interrupt came in between";
    EXPECT_EQ(why->parts[0].name, "index_handler");
    ASSERT_TRUE(why->parts[0].longest);
    const auto lane = functions_kind().lane(*r.trail, why->parts[0].longest->lane.index);
    EXPECT_EQ(lane->span(why->parts[0].longest->level, why->parts[0].longest->index).length(), why->parts[0].here);
    // Its own lines take what is neither called nor preempted, up to what several instructions share.
    ASSERT_FALSE(why->lines.empty());
    Time own{};
    for (const LineSpent& l : why->lines) own += l.here;
    const auto itself =
        std::find_if(why->parts.begin(), why->parts.end(), [](const Spent& s) { return s.on == Spent::On::itself; });
    ASSERT_NE(itself, why->parts.end());
    EXPECT_NEAR(own.us(), itself->here.us(), 0.3);
    EXPECT_NE(why->lines[0].file.find("axis.c"), std::string::npos);
}

TEST(WhyLonger, AnExecutionOfAnInterruptIsItselfAndWhatPreemptedIt) {
    const auto r = test::decode(test::demo("larkspur.target.toml"));
    const auto worst = interrupts_kind().worst(*r.trail, activity(interrupts_kind(), *r.trail, "SysTick"));
    ASSERT_TRUE(worst);
    const auto why = why_longer(*r.recording, *r.trail, *worst);
    ASSERT_TRUE(why);
    EXPECT_EQ(sum(why->parts, &Spent::here), why->length);
    EXPECT_EQ(sum(why->parts, &Spent::typical), why->typical_length);
    // The longest execution of the least urgent interrupt is one that another preempted.
    EXPECT_EQ(why->parts[0].on, Spent::On::handler);
    EXPECT_EQ(why->parts[0].name, "ENC_INDEX");
}

TEST(WhyLonger, WhatWasCutOrStandsAloneIsNotCompared) {
    const auto r = test::decode(test::demo("larkspur.target.toml"));
    const SpanRef fault = execution_ref(0, *r.trail->cores[0].lane_index(5), 0);
    EXPECT_FALSE(why_longer(*r.recording, *r.trail, fault)) << "it never returned";
    EXPECT_FALSE(why_longer(*r.recording, *r.trail, {fault.lane, 0, 99})) << "there is no such execution";
    Progress cancelled;
    cancelled.cancel();
    const auto worst = interrupts_kind().worst(*r.trail, activity(interrupts_kind(), *r.trail, "STEP_TIMER"));
    EXPECT_FALSE(why_longer(*r.recording, *r.trail, *worst, &cancelled));
}

}  // namespace
}  // namespace mt
