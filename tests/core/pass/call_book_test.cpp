// Calls between known moments, written by hand: their times, figures, paths and lanes.
#include "pass/call_book.h"

#include <gtest/gtest.h>

namespace mt {
namespace {

// Three functions of eight instructions each (RISC-V nops): serve, sort, swap. 0 stands for code without a name.
enum : std::uint32_t { kServe = 1, kSort, kSwap };

class Book : public testing::Test {
  protected:
    Book() {
        for (std::size_t i = 0; i < 24; ++i) program_.insert(program_.end(), {0x13, 0, 0, 0});
        Image::Piece piece;
        piece.address = 0x1000;
        piece.bytes = program_;
        trail_.code = Code::of(std::span(&piece, 1), "rv32imac");
        std::vector<Function> functions(3);
        const char* names[] = {"serve", "sort", "swap"};
        for (std::uint32_t i = 0; i < 3; ++i) {
            functions[i].name = names[i];
            functions[i].entry = trail_.code->slot_of(0x1000 + 32 * i);
            functions[i].end = functions[i].entry + 16;
        }
        trail_.functions = FunctionTable::of(functions, *trail_.code);
        book_ = std::make_unique<CallBook>(trail_, QuickClock(Clock{1'000'000}));
    }
    using Event = CallBatch::Event;
    void enter(std::uint64_t step, std::uint32_t function, unsigned flags = 0, std::uint32_t number = 0) {
        add({step, function, number, static_cast<std::uint8_t>(flags), Event::Kind::enter});
    }
    void leave(std::uint64_t step, std::uint32_t function, unsigned flags = 0, std::uint32_t number = 0) {
        add({step, function, number, static_cast<std::uint8_t>(flags), Event::Kind::leave});
    }
    void leaf(std::uint64_t step, std::uint32_t function, std::uint32_t inside) {
        add({step, function, inside, 0, Event::Kind::leaf});
    }
    void sleep(std::uint64_t step) { batch_.sleeps.push_back(step); }
    /// All since the moment before ran until `us`.
    void moment(std::uint64_t step, double us, bool last = false) {
        batch_.stretches.push_back({{step, Time::from_us(us)},
                                    static_cast<std::uint32_t>(batch_.events.size()),
                                    static_cast<std::uint32_t>(batch_.sleeps.size()),
                                    static_cast<std::uint32_t>(batch_.gaps.size()),
                                    static_cast<std::uint32_t>(batch_.traps.size()),
                                    static_cast<std::uint32_t>(batch_.data.size()),
                                    last});
    }
    void gap(std::uint64_t step, StepGapKind kind) {
        add({step, 0, static_cast<std::uint32_t>(batch_.gaps.size()), 0, Event::Kind::gap});
        batch_.gaps.emplace_back();
        batch_.gaps.back().kind = kind;
        batch_.sure_until.push_back(0);
    }
    /// Hands the batch over and begins the next, where it ended.
    void hand_on() {
        book_->take(batch_);
        const StepMoment end = batch_.stretches.back().to;
        batch_ = {};
        batch_.from = end;
    }
    void finish() {
        hand_on();
        book_->finish();
    }
    void add(const Event& e) { batch_.events.push_back(e); }
    const FunctionTally& tally(std::uint32_t f) const { return trail_.tallies[f]; }
    static Time us(double v) { return Time::from_us(v); }

    std::vector<std::uint8_t> program_;
    StepTrail trail_;
    std::unique_ptr<CallBook> book_;
    CallBatch batch_;
};

TEST_F(Book, TimesLieBetweenTheMomentsInProportionToTheInstructions) {
    enter(0, kServe);
    leaf(10, kSwap, 20);
    moment(100, 50);
    leaf(110, kSwap, 40);
    leave(200, kServe);
    moment(200, 250, true);
    finish();
    ASSERT_EQ(trail_.levels.size(), 2U);
    const CallLevel& inner = trail_.levels[1];
    ASSERT_EQ(inner.size(), 2U);
    EXPECT_EQ(inner[0].begin, us(5));
    EXPECT_EQ(inner[0].length, us(10)) << "half a microsecond for each instruction";
    EXPECT_EQ(inner[1].begin, us(70));
    EXPECT_EQ(inner[1].length, us(80)) << "two microseconds each behind the moment";
    EXPECT_EQ(trail_.levels[0][0].length, us(250));
    EXPECT_EQ(tally(kSwap).least, us(10));
    EXPECT_EQ(tally(kSwap).greatest, us(80));
    EXPECT_EQ(tally(kSwap).worst.index, 1U);
    EXPECT_EQ(tally(kServe).own, us(160)) << "without what it called";
    EXPECT_EQ(tally(kServe).inclusive, us(250));
    EXPECT_EQ(tally(kServe).steps, 140U);
    EXPECT_EQ(trail_.end, us(250));
}

TEST_F(Book, EndsInsideOfAnExceptionThatCameLast) {
    const auto trap = [&](std::uint64_t step, std::uint32_t number) {
        add({step, 0, static_cast<std::uint32_t>(batch_.traps.size()), 0, Event::Kind::trap});
        batch_.traps.emplace_back();
        batch_.traps.back().number = number;
        batch_.traps.back().interrupt = true;
    };
    enter(0, kServe);
    trap(100, 7);
    moment(100, 100, true);
    trail_.steps = 100;
    finish();
    ASSERT_EQ(book_->nest().closed().size(), 1U) << "no instruction of its handler ran, and it was entered";
    EXPECT_EQ(book_->nest().closed()[0].begin, us(100));
    EXPECT_NE(book_->nest().closed()[0].flags & ExceptionInstance::kCutEnd, 0);
}

TEST_F(Book, EndsOutsideIfInstructionsFollowedTheException) {
    enter(0, kServe);
    add({50, 0, 0, 0, Event::Kind::trap});
    batch_.traps.emplace_back();
    batch_.traps.back().number = 7;
    moment(100, 100, true);
    trail_.steps = 100;
    finish();
    EXPECT_TRUE(book_->nest().closed().empty()) << "where those ran is told by calls";
}

TEST_F(Book, ABatchMayEndWhereAnyMomentIs) {
    enter(0, kServe);
    moment(50, 50);
    hand_on();
    leave(100, kServe);
    moment(100, 100, true);
    finish();
    ASSERT_EQ(trail_.levels[0].size(), 1U);
    EXPECT_EQ(trail_.levels[0][0].length, us(100));
    EXPECT_EQ(tally(kServe).calls, 1U);
}

TEST_F(Book, WhatRunsWhileTheCoreWaitsTakesItsCyclesAndTheWaitingTheRest) {
    leaf(10, kSwap, 10);
    enter(20, kServe);
    sleep(30);
    leave(40, kServe);
    leaf(50, kSwap, 10);
    moment(100, 1'100, true);
    finish();
    EXPECT_EQ(trail_.levels[0][0].length, us(10)) << "a cycle of the core each";
    EXPECT_EQ(trail_.levels[0][1].length, us(20 + 1'000)) << "it waited within";
    EXPECT_EQ(trail_.levels[0][2].begin, us(1'050));
    // Both ends of the long sleep are kept as moments, so that steps can be found by time.
    ASSERT_EQ(trail_.moments.size(), 3U);
    EXPECT_EQ(trail_.moments[0].time, us(30));
    EXPECT_EQ(trail_.moments[1].time, us(1'030));
}

TEST_F(Book, AHandlerIsNoPartOfWhomItInterrupts) {
    constexpr std::uint32_t kTimer = 15;
    enter(0, kSort);
    enter(10, kServe, CallFrame::kHandler, kTimer);
    leaf(12, kSwap, 4);
    leave(30, kServe, CallFrame::kHandler, kTimer);
    leave(100, kSort);
    moment(100, 100, true);
    finish();
    EXPECT_EQ(tally(kSort).inclusive, us(100)) << "from its entry to its exit";
    EXPECT_EQ(tally(kSort).preempted, us(20)) << "of which the handler took";
    EXPECT_EQ(tally(kSort).work, us(80)) << "what is held against its peers";
    EXPECT_EQ(tally(kSort).own, us(80));
    EXPECT_EQ(tally(kServe).inclusive, us(20));
    EXPECT_EQ(tally(kServe).own, us(16));
    EXPECT_EQ(trail_.levels[0][0].length, us(100)) << "on the stack it was all the while";
    // The handler is a root of the tree of calls, and a lane of its own.
    for (std::size_t i = 1; i < trail_.tree.size(); ++i)
        if (trail_.tree[i].function == kServe) EXPECT_EQ(trail_.tree[i].parent, 0U);
    ASSERT_EQ(book_->nest().closed().size(), 1U);
    EXPECT_EQ(book_->nest().closed()[0].number, kTimer);
    EXPECT_EQ(book_->nest().closed()[0].end - book_->nest().closed()[0].begin, us(20));
}

TEST_F(Book, ACallWithinItselfIsCountedButItsTimeNotTwice) {
    enter(0, kSort);
    enter(20, kSort);
    leaf(30, kSort, 10);
    leave(60, kSort);
    leave(100, kSort);
    moment(100, 100, true);
    finish();
    EXPECT_EQ(tally(kSort).calls, 3U);
    EXPECT_EQ(tally(kSort).recursive, 2U);
    EXPECT_EQ(tally(kSort).inclusive, us(100));
    EXPECT_EQ(tally(kSort).own, us(100));
    EXPECT_EQ(trail_.tree.size(), 4U) << "the root, and a path for each depth";
}

TEST_F(Book, WhatWasNotSeenWholeIsInNoMeasureOfLengths) {
    leave(40, kSort, CallFrame::kCutBegin);
    moment(40, 40);
    finish();
    EXPECT_EQ(trail_.levels.size(), 0U) << "what nobody entered is not left";

    enter(40, kServe, CallFrame::kCutBegin);
    enter(50, kSort);
    gap(60, StepGapKind::lost);
    leave(60, kSort, CallFrame::kCutEnd);
    leave(60, kServe, CallFrame::kCutBegin | CallFrame::kCutEnd);
    moment(100, 100, true);
    finish();
    EXPECT_EQ(tally(kServe).calls, 0U);
    EXPECT_EQ(tally(kServe).unseen, 1U);
    EXPECT_EQ(tally(kSort).calls, 0U);
    EXPECT_EQ(tally(kSort).left_out, 1U) << "entered, and not seen to its end";
    EXPECT_EQ(tally(kSort).own, us(10)) << "its time counts all the same";
    ASSERT_EQ(trail_.gaps.size(), 1U);
    EXPECT_EQ(trail_.gaps[0].begin, us(60));
    EXPECT_EQ(trail_.contradictions, 0U);
}

TEST_F(Book, WhereTracingStoppedAndWentOnTheStackIsInPiecesAndNothingIsCountedTwice) {
    constexpr std::uint32_t kTimer = 7;
    enter(0, kServe);
    enter(10, kSort, CallFrame::kHandler, kTimer);
    leave(20, kSort, CallFrame::kHandler | CallFrame::kCutEnd, kTimer);
    leave(20, kServe, CallFrame::kCutEnd);
    gap(20, StepGapKind::stopped);
    moment(20, 20);
    moment(20, 500);
    add({20, 0, 0, 0, Event::Kind::go_on});
    enter(20, kServe, CallFrame::kContinued);
    enter(20, kSort, CallFrame::kHandler | CallFrame::kContinued, kTimer);
    leave(30, kSort, CallFrame::kHandler | CallFrame::kContinued, kTimer);
    leave(40, kServe, CallFrame::kContinued);
    moment(40, 520, true);
    trail_.steps = 40;
    finish();
    EXPECT_EQ(tally(kServe).calls, 0U) << "its length is that of nothing that ran";
    EXPECT_EQ(tally(kServe).left_out, 1U);
    EXPECT_EQ(tally(kServe).unseen, 1U) << "the second piece";
    EXPECT_EQ(tally(kServe).own, us(20)) << "not what it stood still";
    ASSERT_EQ(trail_.gaps.size(), 1U);
    EXPECT_EQ(trail_.gaps[0].begin, us(20));
    EXPECT_EQ(trail_.gaps[0].end, us(500));
    ASSERT_EQ(trail_.levels[0].size(), 2U);
    EXPECT_EQ(trail_.first_piece(0, 1), 0U) << "the call began with the first";
    EXPECT_EQ(trail_.first_piece(1, 1), 0U);
    ASSERT_EQ(book_->nest().closed().size(), 2U);
    EXPECT_NE(book_->nest().closed()[0].flags & ExceptionInstance::kCutEnd, 0);
    EXPECT_NE(book_->nest().closed()[1].flags & ExceptionInstance::kCutBegin, 0);
}

TEST_F(Book, TheFirstContradictionIsKept) {
    gap(10, StepGapKind::lost);
    gap(20, StepGapKind::contradiction);
    gap(30, StepGapKind::not_in_image);
    moment(40, 40, true);
    finish();
    EXPECT_EQ(trail_.contradictions, 2U);
    ASSERT_TRUE(trail_.contradiction);
    EXPECT_EQ(trail_.contradiction->step, 20U);
}

TEST_F(Book, WhatIsStillOnTheStackStandsInASnapshotAsCut) {
    enter(0, kServe);
    enter(10, kSort);
    moment(50, 50);
    hand_on();
    StepTrail copy = trail_;
    book_->add_open(copy);
    ASSERT_EQ(copy.levels.size(), 2U);
    EXPECT_EQ(copy.levels[1][0].length, us(40)) << "up to the last known moment";
    EXPECT_EQ(copy.levels[1][0].flags, CallFrame::kCutEnd);
    EXPECT_TRUE(trail_.levels.empty() || trail_.levels[0].size() == 0) << "the trail itself has only what ended";
}

}  // namespace
}  // namespace mt
