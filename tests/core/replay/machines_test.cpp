// Machines of which some is known, instruction by instruction: what comes out where all is known, and that nothing is told
// where anything is not.
#include <gtest/gtest.h>

#include <vector>

#include "replay/rv_machine.h"
#include "replay/thumb_machine.h"
#include "core/replay/small_program.h"

namespace mt {
namespace {

using test::kProgramBase;
using test::program_memory;
using test::SmallProgram;

// A test of one machine: a program of its own in it, and what its registers say afterwards.
template <class Machine>
class MachineTest : public ::testing::Test {
  protected:
    template <class... Rest>
    Machine& start(const std::vector<std::uint16_t>& halves, const std::string& isa, Rest... rest) {
        program = std::make_unique<SmallProgram>(halves, isa);
        machine = std::make_unique<Machine>(program->code, program_memory(), rest...);
        program->run(*machine);
        return *machine;
    }
    static std::string text(const Known& v) {
        return v.known ? std::to_string(static_cast<std::int32_t>(v.value)) : "?";
    }
    std::unique_ptr<SmallProgram> program;
    std::unique_ptr<Machine> machine;
};

class Thumb : public MachineTest<ThumbMachine> {
  protected:
    ThumbMachine& run(const std::vector<std::uint16_t>& halves, bool at_reset = true) {
        return start(halves, "armv7e-m", at_reset, 0x2000'2000u, false);
    }
    std::string r(unsigned n) const { return text(machine->r(n)); }
};

TEST_F(Thumb, CalculatesWithWhatIsKnown) {
    // movs r0,#5; movs r1,#7; adds r2,r0,r1; subs r3,r0,r1; muls r4 (=7) by r0; lsls r5,r1,#3; asrs r6,r3,#1
    run({0x2005, 0x2107, 0x1842, 0x1A43, 0x000C, 0x4344, 0x00CD, 0x105E});
    EXPECT_EQ(r(2), "12");
    EXPECT_EQ(r(3), "-2");
    EXPECT_EQ(r(4), "35") << "movs r4,r1 and muls r4,r0,r4";
    EXPECT_EQ(r(5), "56");
    EXPECT_EQ(r(6), "-1");
    EXPECT_EQ(r(7), "?") << "nobody wrote it";
    EXPECT_EQ(machine->r(2).set_at, 2U);
    EXPECT_EQ(machine->strange(), 0U);
}

TEST_F(Thumb, WideOnesToo) {
    // movw r0,#0x1234; movt r0,#0xABCD; ubfx r1,r0,#8,#8; bfi r0,r1,#0,#4; mov.w r2,#0x00FF00FF; udiv r3,r0,r1
    run({0xF241, 0x2034, 0xF6CA, 0x30CD, 0xF3C0, 0x2107, 0xF361, 0x0003, 0xF04F, 0x12FF, 0xFBB0, 0xF3F1});
    EXPECT_EQ(machine->r(1).value, 0x12U);
    EXPECT_EQ(machine->r(0).value, 0xABCD1232U);
    EXPECT_EQ(machine->r(2).value, 0x00FF00FFU);
    EXPECT_EQ(machine->r(3).value, 0xABCD1232U / 0x12);
    EXPECT_EQ(machine->strange(), 0U);
}

TEST_F(Thumb, AConditionThatIsKnownDecidesAndOneThatIsNotLeavesItOpen) {
    // movs r0,#5; cmp r0,#5; ite eq; moveq r1,#1; movne r1,#2
    run({0x2005, 0x2805, 0xBF0C, 0x2101, 0x2102});
    EXPECT_EQ(r(1), "1");
    // movs r1,#9; cmp r7,#5 (r7 is not known); it eq; moveq r1,#1
    run({0x2109, 0x2F05, 0xBF08, 0x2101});
    EXPECT_EQ(r(1), "?") << "9 or 1";
    // … but where both ways come to the same, that is known: moveq r1,#9
    run({0x2109, 0x2F05, 0xBF08, 0x2109});
    EXPECT_EQ(r(1), "9");
    // A comparison in an IT block sets flags, a move there does not: movs r0,#0; cmp r0,#1; itt ne; movne r1,#0; movne r2,#3
    run({0x2000, 0x2801, 0xBF1C, 0x2100, 0x2203});
    EXPECT_EQ(r(1), "0");
    EXPECT_EQ(r(2), "3");
}

TEST_F(Thumb, WhatItPushesItPops) {
    // movs r0,#1; movs r1,#2; push {r0,r1,lr}; movs r0,#9; pop {r2,r3}; add sp,#4
    ThumbMachine& m = run({0x2001, 0x2102, 0xB503, 0x2009, 0xBC0C, 0xB001});
    EXPECT_EQ(r(2), "1");
    EXPECT_EQ(r(3), "2");
    EXPECT_EQ(m.r(13).value, 0x2000'2000U);
    EXPECT_EQ(m.memory().read(0x2000'1FF4, 4).value, 1U);
}

TEST_F(Thumb, DevicesAreNeverKnownWhateverIsWrittenThere) {
    // movw r0,#0; movt r0,#0x4000; movs r1,#3; str r1,[r0]; ldr r2,[r0]
    run({0xF240, 0x0000, 0xF2C4, 0x0000, 0x2103, 0x6001, 0x6802});
    EXPECT_EQ(r(2), "?");
    EXPECT_EQ(r(1), "3");
}

TEST_F(Thumb, AStoreToSomewhereUnknownLeavesNoMemoryKnown) {
    // movw r0,#0x100; movt r0,#0x2000; movs r1,#3; str r1,[r0]; ldr r2,[r0]; str r1,[r7]; ldr r3,[r0]
    run({0xF240, 0x1000, 0xF2C2, 0x0000, 0x2103, 0x6001, 0x6802, 0x6039, 0x6803});
    EXPECT_EQ(r(2), "3");
    EXPECT_EQ(r(3), "?") << "r7 is not known: it may have been there";
}

TEST_F(Thumb, AnExceptionPutsItsFrameOnTheStackAndTakesItBack) {
    // movs r0,#1; movs r4,#4 | handler: movs r0,#9; movs r4,#8; bx lr | adds r0,r0,#1
    ThumbMachine& m = run({0x2001, 0x2404});
    const std::uint64_t before = m.r(13).value;
    StepTrap trap;
    trap.number = 15;
    trap.interrupt = trap.epc_known = true;
    trap.epc = kProgramBase + 4;
    m.trap(trap, 2);
    EXPECT_EQ(m.r(13).value, before - 32);
    EXPECT_EQ(m.r(14).value, 0xFFFFFFF9U) << "thread mode, main stack";
    EXPECT_EQ(r(0), "?") << "the architecture does not say what a handler finds there (B1.5.6)";
    EXPECT_EQ(r(4), "4");
    EXPECT_EQ(m.memory().read(before - 32, 4).value, 1U) << "r0";
    EXPECT_EQ(m.memory().read(before - 8, 4).value, kProgramBase + 4) << "where it goes on";
    // The same as a whole, with the exception between the second and the third.
    SmallProgram whole({0x2001, 0x2404, 0x2009, 0x2408, 0x4770, 0x3001}, "armv7e-m");
    ThumbMachine w(whole.code, program_memory(), true, 0x2000'2000u, false);
    whole.run(w, 2);
    w.trap(trap, 2);
    whole.run(w, 3);
    whole.run(w, 1);
    EXPECT_EQ(w.r(0).value, 2U) << "r0 is back, and one more";
    EXPECT_EQ(w.r(4).value, 8U) << "what is not stacked stays as the handler left it";
    EXPECT_EQ(w.r(13).value, before);
}

TEST_F(Thumb, BehindAGapNothingIsKnown) {
    ThumbMachine& m = run({0x2001, 0x2404});
    m.lose(7);
    for (unsigned n = 0; n < 15; ++n) EXPECT_EQ(r(n), "?") << n;
    EXPECT_EQ(m.r(4).set_at, 7U);
}

TEST_F(Thumb, WithoutAResetNothingIsKnownAtFirst) {
    // The first instructions may stand in an IT block that was not seen: they may not have run at all.
    run({0x2001, 0x2101, 0x2201, 0x2301, 0x2401, 0x2501}, false);
    for (const unsigned n : {0u, 1u, 2u, 3u}) EXPECT_EQ(r(n), "?") << n;
    EXPECT_EQ(r(4), "1");
    EXPECT_EQ(r(13), "?");
}

class RiscV : public MachineTest<RvMachine> {
  protected:
    RvMachine& run(const std::vector<std::uint32_t>& words, bool shared = false) {
        std::vector<std::uint16_t> halves;
        for (const std::uint32_t w : words) {
            halves.push_back(static_cast<std::uint16_t>(w));
            if ((w & 3) == 3) halves.push_back(static_cast<std::uint16_t>(w >> 16));
        }
        return start(halves, "rv32imac", shared);
    }
    std::string x(unsigned n) const { return text(machine->x(n)); }
};

TEST_F(RiscV, CalculatesWithWhatIsKnown) {
    // addi a0,x0,5; addi a1,x0,-7; add a2,a0,a1; mul a3,a0,a1; div a4,a1,a0; sltu a5,a0,a1; lui a6,0x12345; c.li t0,3
    run({0x00500513, 0xFF900593, 0x00B50633, 0x02B506B3, 0x02A5C733, 0x00B537B3, 0x12345837, 0x428D});
    EXPECT_EQ(x(12), "-2");
    EXPECT_EQ(x(13), "-35");
    EXPECT_EQ(x(14), "-1");
    EXPECT_EQ(x(15), "1");
    EXPECT_EQ(machine->x(16).value, 0x12345000U);
    EXPECT_EQ(x(5), "3");
    EXPECT_EQ(x(17), "?");
    EXPECT_EQ(machine->strange(), 0U);
}

TEST_F(RiscV, SomeThingsAreKnownWhateverTheRestIs) {
    // and a0,a1,x0; xor a2,a3,a3; mulhu a4,a5,x0; addi a6,a7,1 (a7 is not known)
    run({0x0005F533 & ~0x01F00000u, 0x00D6C633, 0x0207B733 & ~0x01F00000u, 0x00188813});
    EXPECT_EQ(x(10), "0");
    EXPECT_EQ(x(12), "0");
    EXPECT_EQ(x(14), "0");
    EXPECT_EQ(x(16), "?");
}

TEST_F(RiscV, ABranchThatWasTakenTellsThatBothAreEqual) {
    // beq a0,x0,+8; addi a1,x0,1; addi a2,x0,2
    const std::vector<std::uint32_t> words{0x00050463, 0x00100593, 0x00200613};
    run(words);
    EXPECT_EQ(x(10), "?") << "it went on: they differ";
    SmallProgram p({0x0463, 0x0005, 0x0593, 0x0010, 0x0613, 0x0020}, "rv32imac");
    RvMachine taken(p.code, program_memory(), false);
    taken.execute(p.code->slot_of(kProgramBase), 0, p.code->slot_of(kProgramBase + 8));
    EXPECT_TRUE(taken.x(10).known);
    EXPECT_EQ(taken.x(10).value, 0U);
    EXPECT_EQ(taken.x(10).set_at, Known::kNever) << "it was so before";
}

TEST_F(RiscV, MemoryThatOthersWriteToIsNotKnownButForTheStack) {
    // lui a0,0x20000; addi a1,x0,3; sw a1,0(a0); lw a2,0(a0); lui sp,0x20001; sw a1,-4(sp); lw a3,-4(sp)
    const std::vector<std::uint32_t> words{0x20000537, 0x00300593, 0x00B52023, 0x00052603, 0x20001137, 0xFEB12E23, 0xFFC12683};
    run(words);
    EXPECT_EQ(x(12), "3");
    run(words, true);
    EXPECT_EQ(x(12), "?") << "another core may have written there since";
    EXPECT_EQ(x(13), "3");
}

TEST_F(RiscV, ATrapTellsWhatItsRegistersHold) {
    // csrrw x0,mscratch,a0 (not known); csrrs a1,mepc,x0; csrrs a2,mcause,x0
    RvMachine& m = run({0x00500513, 0x34051073, 0x340025F3});
    EXPECT_EQ(x(11), "5") << "mscratch keeps what is written";
    StepTrap trap;
    trap.number = 7;
    trap.interrupt = trap.epc_known = true;
    trap.epc = 0x0800'0040;
    m.trap(trap, 3);
    SmallProgram p({0x25F3, 0x3410, 0x2673, 0x3420}, "rv32imac");
    RvMachine h(p.code, program_memory(), false);
    h.trap(trap, 0);
    p.run(h);
    EXPECT_EQ(h.x(11).value, 0x0800'0040U);
    EXPECT_EQ(h.x(12).value, 0x8000'0007U);
}

TEST(PastMemoryOf, AnImageIsKnownAsFarAsNobodyCanHaveWrittenThere) {
    const auto image = *Image::open(test::data("bit-fields/fields.elf"));
    const PastMemory begun(*image, true), joined(*image, false);
    EXPECT_EQ(begun.read(0x2000'0000, 1).value, 0x4DU & 0xFF) << "ready 1, phase 2, tries 9";
    EXPECT_FALSE(joined.read(0x2000'0000, 1).known) << "it ran before: its variables have changed";
    EXPECT_TRUE(joined.read(0x0800'0000, 2).known) << "code does not";
    EXPECT_FALSE(begun.read(0x3000'0000, 4).known);
    PastMemory m = begun;
    m.write(0x2000'0000, 4, {7, true}, 42);
    EXPECT_EQ(m.read(0x2000'0000, 4).value, 7U);
    EXPECT_EQ(m.read(0x2000'0000, 4).set_at, 42U);
    EXPECT_NE(begun.read(0x2000'0000, 4).value, 7U) << "a copy is a copy";
    m.forget(50);
    EXPECT_FALSE(m.read(0x2000'0000, 4).known);
    EXPECT_EQ(m.read(0x2000'0000, 4).set_at, 50U);
    EXPECT_TRUE(m.read(0x0800'0000, 2).known);
}

TEST(PastMemoryOf, TheEndTellsWhatNobodyWroteSince) {
    const auto image = *Image::open(test::data("bit-fields/fields.elf"));
    PastMemory m(*image, false);
    m.add_stopped(0x2000'0100, {1, 2, 3, 4, 5, 6, 7, 8});
    PastMemory early = m, end = m;
    end.write(0x2000'0104, 4, {}, 30);
    early.learn_from(end, 20);
    EXPECT_EQ(early.read(0x2000'0100, 4).value, 0x04030201U) << "never written";
    EXPECT_FALSE(early.read(0x2000'0104, 4).known) << "written at 30: before, it was something else";
    PastMemory late = end;
    late.learn_from(end, 31);
    EXPECT_EQ(late.read(0x2000'0104, 4).value, 0x08070605U) << "behind its last write it is what it was at the end";
}

}  // namespace
}  // namespace mt
