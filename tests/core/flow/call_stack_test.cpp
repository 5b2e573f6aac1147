// The call stack from executed runs: calls, returns, tail calls, exceptions, switched stacks, gaps.
#include <gtest/gtest.h>

#include <sstream>

#include "flow/call_stack.h"

namespace mt {
namespace {

// Thumb code without symbols would be one function; the addresses of runs stand for functions of 16 bytes each.
struct Program {
    std::vector<std::uint8_t> bytes = std::vector<std::uint8_t>(256, 0);
    void put(std::uint64_t at, std::uint32_t halfword) {
        bytes[at] = static_cast<std::uint8_t>(halfword);
        bytes[at + 1] = static_cast<std::uint8_t>(halfword >> 8);
    }
    std::shared_ptr<const Code> code() {
        const Image::Piece piece{0, 0, bytes, false};
        return Code::of(std::span(&piece, 1), "armv7-m");
    }
};

class Stack : public testing::Test {
  protected:
    void SetUp() override {
        // main at 0x00 calls first (bl is two halfwords: blx stands for it), first at 0x20, second at 0x40,
        // handler at 0x60; each ends with bx lr.
        program.put(0x04, 0x4780);  // blx r0
        program.put(0x24, 0x4780);
        program.put(0x28, 0x4700);  // bx r0: a tail call
        program.put(0x2C, 0x4770);  // bx lr
        program.put(0x44, 0x4770);
        program.put(0x64, 0x4770);
        code = program.code();
        std::vector<Function> all;
        for (const auto& [name, at] :
             {std::pair{"main", 0x00u}, {"first", 0x20u}, {"second", 0x40u}, {"handler", 0x60u}, {"other_task", 0x80u}})
            all.push_back({name, {}, 0, 0, code->slot_of(at), code->slot_of(at) + 16, at});
        functions = FunctionTable::of(all, *code);
        stack = std::make_unique<CallStack>(code, functions);
    }
    // Executes from one address to another, both included.
    void run(std::uint64_t from, std::uint64_t to) {
        const auto a = code->slot_of(from), b = code->slot_of(to);
        stack->run({a, b, b - a + 1}, *this);
    }
    void trap(unsigned number, std::uint64_t epc) {
        StepTrap t;
        t.number = number;
        t.epc = epc;
        t.epc_known = true;
        stack->trap(t, *this);
    }
    std::string now() const {
        std::string s;
        for (const auto& f : stack->frames()) s += (s.empty() ? "" : " ") + (*functions)[f.function].name;
        return s;
    }

  public:
    void enter(const CallFrame& f, std::uint64_t step) {
        log << "+" << (*functions)[f.function].name << "@" << step << " ";
    }
    void leave(const CallFrame& f, std::uint64_t step) {
        log << "-" << (*functions)[f.function].name << "@" << step << " ";
        last_left = f;
    }

  protected:
    Program program;
    std::shared_ptr<const Code> code;
    std::shared_ptr<const FunctionTable> functions;
    std::unique_ptr<CallStack> stack;
    std::ostringstream log;
    CallFrame last_left;
};

TEST_F(Stack, ACallPutsAFunctionOnTopAndItsReturnTakesItAway) {
    run(0x00, 0x04);
    run(0x20, 0x24);
    run(0x40, 0x44);
    EXPECT_EQ(now(), "main first second");
    run(0x26, 0x28);
    EXPECT_EQ(now(), "main first");
    EXPECT_EQ(log.str(), "+main@0 +first@3 +second@6 -second@9 ");
    EXPECT_EQ(stack->unmatched(), 0u);
}

TEST_F(Stack, ATailCallStandsInThePlaceOfItsCallerAndReturnsForIt) {
    run(0x00, 0x04);
    run(0x20, 0x24);
    run(0x40, 0x44);
    run(0x26, 0x28);  // first jumps to second
    run(0x40, 0x44);
    EXPECT_EQ(now(), "main second");
    EXPECT_NE(stack->frames().back().flags & CallFrame::kTail, 0);
    run(0x06, 0x08);
    EXPECT_EQ(now(), "main");
}

TEST_F(Stack, AHandlerStandsOnWhomItInterruptsAndGoesBackThere) {
    run(0x00, 0x04);
    run(0x20, 0x22);
    trap(16, 0x24);
    run(0x60, 0x64);
    EXPECT_EQ(now(), "main first handler");
    EXPECT_NE(stack->frames().back().flags & CallFrame::kHandler, 0);
    stack->trap_return();
    run(0x24, 0x24);
    EXPECT_EQ(now(), "main first");
    EXPECT_EQ(stack->unmatched(), 0u);
}

TEST_F(Stack, AnInterruptAtTheFirstInstructionOfACalleeFindsTheCalleeOnTheStack) {
    run(0x00, 0x04);
    trap(16, 0x20);
    run(0x60, 0x64);
    EXPECT_EQ(now(), "main first handler");
}

TEST_F(Stack, AHandlerInterruptedBeforeItsFirstInstructionBeginsAfterwards) {
    run(0x00, 0x04);
    run(0x20, 0x22);
    trap(11, 0x24);
    trap(15, 0x60);  // nothing of the handler ran
    run(0x40, 0x42);
    EXPECT_EQ(now(), "main first handler second");
    stack->trap_return();
    run(0x60, 0x62);
    EXPECT_EQ(now(), "main first handler");
    stack->trap_return();
    run(0x24, 0x24);
    EXPECT_EQ(now(), "main first") << "as if they had come one behind the other";
}

TEST_F(Stack, AReturnFromAHandlerToAnotherTaskPutsTheStackAsideAndTakesItUpAgain) {
    run(0x00, 0x04);
    run(0x20, 0x22);
    trap(14, 0x24);
    run(0x60, 0x64);
    stack->trap_return();
    run(0x80, 0x86);  // another task goes on
    EXPECT_EQ(now(), "other_task");
    trap(14, 0x88);
    run(0x60, 0x64);
    stack->trap_return();
    run(0x24, 0x24);
    EXPECT_EQ(now(), "main first");
    EXPECT_NE(stack->frames().back().flags & CallFrame::kContinued, 0);
}

TEST_F(Stack, AReturnPastSeveralCallersUnwindsThem) {
    run(0x00, 0x04);
    run(0x20, 0x24);
    run(0x40, 0x44);  // second goes back to main's place behind its call
    run(0x06, 0x08);
    EXPECT_EQ(now(), "main");
    EXPECT_EQ(log.str(), "+main@0 +first@3 +second@6 -second@9 -first@9 ");
}

TEST_F(Stack, AGapCutsAllThatIsOpenAndNothingIsBelievedBehindIt) {
    run(0x00, 0x04);
    run(0x20, 0x22);
    stack->lose(*this);
    EXPECT_NE(last_left.flags & CallFrame::kCutEnd, 0);
    run(0x42, 0x44);
    EXPECT_EQ(now(), "second");
    EXPECT_NE(stack->frames()[0].flags & CallFrame::kCutBegin, 0);
    run(0x26, 0x28);  // back to whom nobody saw
    EXPECT_EQ(now(), "first");
    EXPECT_EQ(stack->unmatched(), 1u);
}

TEST_F(Stack, WhereTracingStopsAndGoesOnWithWhatFollowsTheStackIsAsItWas) {
    run(0x00, 0x04);
    run(0x20, 0x22);
    trap(16, 0x24);
    run(0x60, 0x62);
    stack->pause(*this);
    EXPECT_EQ(now(), "");
    EXPECT_NE(last_left.flags & CallFrame::kCutEnd, 0);
    run(0x64, 0x64);
    EXPECT_EQ(now(), "main first handler");
    for (const CallFrame& f : stack->frames()) EXPECT_NE(f.flags & CallFrame::kContinued, 0);
    stack->trap_return();
    stack->pause(*this);  // once more, behind the handler's last instruction
    run(0x24, 0x24);
    EXPECT_EQ(now(), "main first");
    run(0x40, 0x44);
    stack->pause(*this);
    run(0x26, 0x28);  // where second returns to
    EXPECT_EQ(now(), "main first");
    EXPECT_EQ(stack->unmatched(), 0u);
}

TEST_F(Stack, WhereTracingStopsAndGoesOnElsewhereNothingOfTheStackIsBelieved) {
    run(0x00, 0x04);
    run(0x20, 0x22);
    stack->pause(*this);
    run(0x28, 0x28);
    EXPECT_EQ(now(), "first");
    EXPECT_NE(stack->frames()[0].flags & CallFrame::kCutBegin, 0);
    EXPECT_EQ(stack->frames()[0].flags & CallFrame::kContinued, 0);
    stack->pause(*this);
    stack->lose(*this);  // and something is missing, too
    run(0x2A, 0x2A);
    EXPECT_NE(stack->frames()[0].flags & CallFrame::kCutBegin, 0);
    EXPECT_EQ(stack->frames()[0].flags & CallFrame::kContinued, 0);
}

TEST_F(Stack, AnExceptionThatComesAsTracingGoesOnFindsTheStackAsItWas) {
    run(0x00, 0x04);
    run(0x20, 0x22);
    stack->pause(*this);
    trap(15, 0x24);
    run(0x60, 0x62);
    EXPECT_EQ(now(), "main first handler");
    stack->pause(*this);
    StepTrap t;
    t.number = 11;
    stack->trap(t, *this);  // from where is not told
    run(0x40, 0x42);
    EXPECT_EQ(now(), "main first handler second");
}

}  // namespace
}  // namespace mt
