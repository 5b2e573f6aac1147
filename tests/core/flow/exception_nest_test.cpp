// Enter, exit and return packets turned into a nest, whole and under loss.
#include "flow/exception_nest.h"

#include <gtest/gtest.h>

namespace mt {
namespace {

BoundedTime at(double us) { return {Time::from_us(us), Time::from_us(us)}; }

std::vector<ExceptionInstance> of(const ExceptionNest& nest, unsigned number) {
    std::vector<ExceptionInstance> found;
    for (const auto& x : nest.closed())
        if (x.number == number) found.push_back(x);
    return found;
}

TEST(ExceptionNest, OneHandlerFromThreadModeAndBack) {
    ExceptionNest nest;
    nest.back_in(0, at(1), 0);
    nest.enter(16, at(10), 6);
    nest.exit(16, at(14), 12);
    nest.back_in(0, at(14), 15);
    ASSERT_EQ(nest.closed().size(), 1U);
    const auto x = nest.closed()[0];
    EXPECT_TRUE(x.whole());
    EXPECT_EQ(x.begin, Time::from_us(10));
    EXPECT_EQ(x.end, Time::from_us(14));
    EXPECT_EQ(x.own, Time::from_us(4));
    EXPECT_EQ(x.depth, 1);
    EXPECT_EQ(x.offset, 6U);
    ASSERT_EQ(nest.changes().size(), 4U);
    EXPECT_EQ(nest.changes()[2].running, ContextChange::kBetween);
    EXPECT_EQ(nest.changes()[3].running, 0U);
}

TEST(ExceptionNest, PreemptionTakesItsTimeFromTheOuterHandler) {
    ExceptionNest nest;
    nest.enter(19, at(0), 0);
    nest.enter(17, at(2), 3);
    nest.enter(16, at(3), 6);
    nest.exit(16, at(4), 9);
    nest.back_in(17, at(4), 12);
    nest.exit(17, at(7), 15);
    nest.back_in(19, at(7), 18);
    nest.exit(19, at(10), 21);
    EXPECT_EQ(of(nest, 16)[0].own, Time::from_us(1));
    EXPECT_EQ(of(nest, 17)[0].own, Time::from_us(4));
    EXPECT_EQ(of(nest, 19)[0].own, Time::from_us(5));
    EXPECT_EQ(of(nest, 16)[0].depth, 3);
    EXPECT_EQ(nest.cuts().at({17, 19}), 1U) << "17 is seen to be more urgent than 19";
    EXPECT_EQ(nest.contradictions(), 0U);
}

TEST(ExceptionNest, ATailChainIsNoPreemption) {
    ExceptionNest nest;
    nest.back_in(0, at(0), 0);
    nest.enter(11, at(1), 0);
    nest.exit(11, at(2), 0);
    nest.enter(14, at(2.1), 0);
    nest.exit(14, at(3), 0);
    nest.back_in(0, at(3), 0);
    ASSERT_EQ(nest.closed().size(), 2U);
    EXPECT_EQ(nest.closed()[1].flags & ExceptionInstance::kTailChained, ExceptionInstance::kTailChained);
    EXPECT_EQ(nest.closed()[1].depth, 1);
    EXPECT_TRUE(nest.cuts().empty());
}

TEST(ExceptionNest, ALossCutsWhatIsOpenAndNothingIsBelievedBeforeItIsProven) {
    ExceptionNest nest;
    nest.back_in(0, at(0), 0);
    nest.enter(19, at(1), 0);
    nest.lose(Time::from_us(2), Time::from_us(5));
    nest.enter(16, at(6), 0);
    nest.exit(16, at(7), 0);
    nest.back_in(19, at(7), 0);  // 19 is active: when it was entered is not known
    nest.exit(19, at(9), 0);
    nest.back_in(0, at(9), 0);
    const auto outer = of(nest, 19);
    ASSERT_EQ(outer.size(), 2U);
    EXPECT_EQ(outer[0].flags & ExceptionInstance::kCutEnd, ExceptionInstance::kCutEnd);
    EXPECT_EQ(outer[0].end, Time::from_us(2));
    EXPECT_EQ(outer[1].flags & ExceptionInstance::kCutBegin, ExceptionInstance::kCutBegin);
    EXPECT_EQ(outer[1].begin, Time::from_us(5)) << "not before the gap's end";
    EXPECT_TRUE(of(nest, 16)[0].whole()) << "what lies whole behind the gap counts";
    EXPECT_EQ(of(nest, 16)[0].flags & ExceptionInstance::kAfterGap, ExceptionInstance::kAfterGap);
    EXPECT_EQ(nest.contradictions(), 0U);
}

TEST(ExceptionNest, BehindALossInWhichNothingHappenedWhatWasActiveIsActiveAsItWas) {
    ExceptionNest nest;
    nest.back_in(0, at(0), 0);
    nest.enter(16, at(10), 6);
    nest.lose(Time::from_us(12), Time::from_us(12));
    nest.clear();
    nest.go_on(Time::from_us(50));
    nest.active(16, Time::from_us(50));
    nest.exit(16, at(53), 30);
    nest.back_in(0, at(53), 33);
    EXPECT_EQ(nest.contradictions(), 0U);
    ASSERT_EQ(nest.closed().size(), 1U);
    EXPECT_EQ(nest.closed()[0].begin, Time::from_us(50));
    EXPECT_EQ(nest.closed()[0].flags & ExceptionInstance::kCutBegin, ExceptionInstance::kCutBegin) << "a part of it";
    EXPECT_TRUE(nest.stack().in_thread());
}

TEST(ExceptionNest, AnExitOfAnotherHandlerContradictsAndCutsAll) {
    ExceptionNest nest;
    nest.back_in(0, at(0), 0);
    nest.enter(19, at(1), 0);
    nest.exit(17, at(3), 0);
    EXPECT_EQ(nest.contradictions(), 1U);
    EXPECT_FALSE(of(nest, 19)[0].whole());
    EXPECT_FALSE(of(nest, 17)[0].whole());
}

TEST(ExceptionNest, AnActiveExceptionCannotBeEnteredAgain) {
    ExceptionNest nest;
    nest.enter(19, at(1), 0);
    nest.enter(19, at(3), 0);
    nest.exit(19, at(4), 0);
    EXPECT_EQ(nest.contradictions(), 1U);
    ASSERT_EQ(of(nest, 19).size(), 2U);
    EXPECT_FALSE(of(nest, 19)[0].whole());
    EXPECT_TRUE(of(nest, 19)[1].whole());
}

TEST(ExceptionNest, AReturnToThreadModeWithHandlersOpenContradicts) {
    ExceptionNest nest;
    nest.enter(19, at(1), 0);
    nest.back_in(0, at(3), 0);
    EXPECT_EQ(nest.contradictions(), 1U);
    EXPECT_FALSE(of(nest, 19)[0].whole());
    EXPECT_EQ(nest.changes().back().running, 0U);
}

TEST(ExceptionNest, TheEndOfTheRecordingCutsWhatIsOpen) {
    ExceptionNest nest;
    nest.back_in(0, at(0), 0);
    nest.enter(5, at(1), 0);
    nest.finish(Time::from_us(9));
    ASSERT_EQ(nest.closed().size(), 1U);
    EXPECT_EQ(nest.closed()[0].flags & ExceptionInstance::kCutEnd, ExceptionInstance::kCutEnd);
    EXPECT_EQ(nest.closed()[0].end, Time::from_us(9));
}

TEST(ExceptionNest, BoundsAreKeptAtBothEnds) {
    ExceptionNest nest;
    nest.enter(16, {Time::from_us(1), Time::from_us(3)}, 0);
    nest.exit(16, {Time::from_us(5), Time::from_us(6)}, 0);
    EXPECT_EQ(nest.closed()[0].begin_slack, Time::from_us(2));
    EXPECT_EQ(nest.closed()[0].end_slack, Time::from_us(1));
}

TEST(ExceptionNestOfAProfile, AnExceptionThatIsTakenAgainWhileItIsHandledIsAPartOfThat) {
    const unsigned irq = ExceptionId::kPftTypes + 14, svc = ExceptionId::kPftTypes + 10;
    const auto at = [](std::int64_t ns) { return BoundedTime{Time::from_ns(static_cast<double>(ns)), Time::from_ns(static_cast<double>(ns))}; };
    ExceptionNest nest;
    nest.back_in(0, at(0), 0);
    nest.enter(irq, at(10), 0);
    nest.enter(svc, at(20), 0);
    nest.enter(irq, at(30), 0);
    nest.exit(irq, at(40), 0);
    nest.back_in(svc, at(40), 0);
    nest.exit(svc, at(50), 0);
    nest.back_in(irq, at(50), 0);
    nest.exit(irq, at(60), 0);
    nest.back_in(0, at(60), 0);
    EXPECT_EQ(nest.contradictions(), 0U);
    ASSERT_EQ(nest.closed().size(), 2U) << "one of each";
    EXPECT_EQ(nest.closed()[0].number, svc);
    EXPECT_EQ(nest.closed()[0].own, Time::from_ns(20)) << "without the interrupt within";
    EXPECT_EQ(nest.closed()[1].number, irq);
    EXPECT_EQ(nest.closed()[1].end - nest.closed()[1].begin, Time::from_ns(50));
}

}  // namespace
}  // namespace mt
