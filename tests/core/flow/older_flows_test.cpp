// PFT and ETMv3 packets over small programs: what was executed, and what is not known (IHI 0035B, IHI 0014Q).
#include <gtest/gtest.h>

#include <cstring>

#include "flow/step_pipe.h"

namespace mt {
namespace {

using Bytes = std::vector<std::uint8_t>;

struct ToldSteps {
    const Code& code;
    std::vector<std::uint64_t> pcs{};
    std::vector<std::pair<std::size_t, std::uint32_t>> traps{};
    std::vector<std::string> gaps{};
    std::vector<std::pair<std::size_t, std::uint64_t>> contexts{}, accesses{};
    std::vector<std::size_t> returns{};
    void run(const StepRun& r) {
        std::uint32_t s = r.first;
        for (std::uint32_t n = 0; n < r.count; ++n, s = code.next(s)) pcs.push_back(code.address(s));
    }
    void trap(const StepTrap& t) { traps.emplace_back(pcs.size(), t.number); }
    void trap_return() { returns.push_back(pcs.size()); }
    void gap(const StepGap& g) { gaps.push_back(g.text()); }
    void time(const StepTime&) {}
    void sync(std::uint64_t) {}
    void data(const StepData& d) {
        if (d.tag == StepData::kContext) contexts.emplace_back(pcs.size(), d.value);
        if (d.tag == StepData::kAccess4) accesses.emplace_back(d.address, d.value);
    }
};

Bytes words(std::initializer_list<std::uint32_t> list) {
    Bytes bytes;
    for (const std::uint32_t w : list)
        for (int i = 0; i < 4; ++i) bytes.push_back(static_cast<std::uint8_t>(w >> 8 * i));
    return bytes;
}
Bytes halves(std::initializer_list<std::uint16_t> list) {
    Bytes bytes;
    for (const std::uint16_t h : list)
        for (int i = 0; i < 2; ++i) bytes.push_back(static_cast<std::uint8_t>(h >> 8 * i));
    return bytes;
}
ToldSteps followed(const StreamSpec& spec, const std::shared_ptr<const Code>& code, const Bytes& trace) {
    ToldSteps told{*code};
    StepPipe pipe(spec, code, {});
    Bytes all = {0, 0, 0, 0, 0, 0x80};
    all.insert(all.end(), trace.begin(), trace.end());
    pipe.feed(all, told);
    pipe.finish(told);
    return told;
}
using Pcs = std::vector<std::uint64_t>;

class PftOfA32 : public ::testing::Test {
  protected:
    PftOfA32() {
        bytes = words({0xEB00'0002,    // 8000 bl 8010
                       0xEAFF'FFFD,    // 8004 b 8000
                       0, 0,           //
                       0xE350'0000,    // 8010 cmp r0, #0
                       0x0A00'0001,    // 8014 beq 8020
                       0xE1A0'0000,    // 8018 nop
                       0xE1A0'0000,    // 801c nop
                       0xE12F'FF1E});  // 8020 bx lr
        const Image::Piece piece{0x8000, 0x8000, bytes, false};
        code = Code::of(std::span(&piece, 1), "armv7-a");
        spec.protocol = Protocol::pft;
    }
    const Bytes isync = {0x08, 0x00, 0x80, 0x00, 0x00, 0x21};  // tracing on, at 8000
    Bytes bytes;
    std::shared_ptr<const Code> code;
    StreamSpec spec;
    ToldSteps of(Bytes trace) const {
        trace.insert(trace.begin(), isync.begin(), isync.end());
        return followed(spec, code, trace);
    }
};

TEST_F(PftOfA32, AtomsLeadFromWaypointToWaypointAndAddressesWhereRegistersLead) {
    const auto t = of({0x88, 0x03, 0x80});  // bl and beq taken, bx lr to 8004, b taken
    EXPECT_EQ(t.pcs, (Pcs{0x8000, 0x8010, 0x8014, 0x8020, 0x8004}));
    EXPECT_TRUE(t.gaps.empty());
    const auto n = of({0x8A, 0x03});  // bl taken, beq not
    EXPECT_EQ(n.pcs, (Pcs{0x8000, 0x8010, 0x8014, 0x8018, 0x801C, 0x8020}));
}

TEST_F(PftOfA32, TheReturnStackTellsWhereAReturnLedUnlessAnAddressDoes) {
    spec.pft.return_stack = true;
    EXPECT_EQ(of({0xA0}).pcs, (Pcs{0x8000, 0x8010, 0x8014, 0x8020, 0x8004})) << "bl, beq, bx lr by the stack, b";
    spec.pft.return_stack = false;
    const auto without = of({0xA0});
    ASSERT_EQ(without.gaps.size(), 1U);
    EXPECT_EQ(without.gaps[0], "an indirect branch without the address it goes to");
}

TEST_F(PftOfA32, BroadcastAddressesMustBeThoseOfTheBranches) {
    // bl and beq told by their addresses: 8010, 8020
    EXPECT_EQ(of({0x09, 0x11, 0x03}).pcs, (Pcs{0x8000, 0x8010, 0x8014, 0x8020}));
    const auto wrong = of({0x0B});
    ASSERT_EQ(wrong.gaps.size(), 1U);
    EXPECT_EQ(wrong.gaps[0], "the address is not where the branch goes");
}

TEST_F(PftOfA32, AnExceptionComesBehindTheInstructionThatTheWaypointNames) {
    // bl taken, beq not; executed up to 8018; IRQ to 8000; there bl
    const auto t = of({0x8A, 0x72, 0x0D, 0x81, 0x40, 0x1C, 0x80});
    EXPECT_EQ(t.pcs, (Pcs{0x8000, 0x8010, 0x8014, 0x8018, 0x8000}));
    ASSERT_EQ(t.traps.size(), 1U);
    EXPECT_EQ(t.traps[0], (std::pair<std::size_t, std::uint32_t>(4, ExceptionId::kPftTypes + 14)));
    EXPECT_TRUE(ExceptionId::make(ExceptionId::Space::arm, t.traps[0].second).is_interrupt());
    const auto wrong = of({0x8A, 0x72, 0x01});  // 8000 lies before
    ASSERT_EQ(wrong.gaps.size(), 1U);
    EXPECT_EQ(wrong.gaps[0], "the exception came from where the program was not");
}

TEST_F(PftOfA32, BehindAContradictionTheNextWholeAddressTellsWhereTheProgramIs) {
    const auto t = of({0x82, 0x09, 0x82});  // bl cannot be untaken; an address, 8010: from there on again
    ASSERT_EQ(t.gaps.size(), 1U);
    EXPECT_EQ(t.gaps[0], "a branch that is always taken is told as not taken");
    EXPECT_EQ(t.pcs, (Pcs{0x8000, 0x8010, 0x8014}));
}

TEST(PftOfProcesses, EachRunsItsOwnCodeAtTheSameAddress) {
    const Bytes common = words({0xEAFF'FFFE});                                 // 8000 b 8000
    const Bytes one = words({0xE1A0'0000, 0xEAFF'FFFD});                       // 10000 nop, b 10000
    const Bytes two = words({0xE1A0'0000, 0xE1A0'0000, 0xEAFF'FFFC});          // 10000 nop, nop, b 10000
    const Image::Piece of_all{0x8000, 0x8000, common, false}, of_one{0x10000, 0x10000, one, false}, of_two{0x10000, 0x10000, two, false};
    const Code::Context contexts[] = {{3, std::span(&of_one, 1)}, {5, std::span(&of_two, 1)}};
    const auto code = Code::of(std::span(&of_all, 1), contexts, "armv7-a");
    StreamSpec spec;
    spec.protocol = Protocol::pft;
    spec.pft.context_id_bytes = 1;
    const auto t = followed(spec, code,
                            {0x08, 0x00, 0x00, 0x01, 0x00, 0x21, 3, 0x80,                     // process 3
                             0x08, 0x00, 0x00, 0x01, 0x00, 0x21, 5, 0x80,                     // process 5
                             0x08, 0x00, 0x00, 0x01, 0x00, 0x21, 7, 0x80});                   // one that nobody knows
    EXPECT_EQ(t.pcs, (Pcs{0x10000, 0x10004, 0x10000, 0x10004, 0x10008}));
    EXPECT_EQ(t.contexts, (std::vector<std::pair<std::size_t, std::uint64_t>>{{0, 3}, {2, 5}, {5, 7}}));
    ASSERT_FALSE(t.gaps.empty());
    EXPECT_EQ(t.gaps.back(), "the program went where the image has no code for process 7");
}

class Etm3OfThumb : public ::testing::Test {
  protected:
    Etm3OfThumb() {
        bytes = halves({0xF000, 0xF806,  // 8000 bl 8010
                        0xE7FC,          // 8004 b 8000
                        0, 0, 0, 0, 0,   //
                        0x2800,          // 8010 cmp r0, #0
                        0xBF08,          // 8012 it eq
                        0x3001,          // 8014 addeq r0, #1
                        0x4770});        // 8016 bx lr
        const Image::Piece piece{0x8000, 0x8000, bytes, false};
        code = Code::of(std::span(&piece, 1), "armv7-m");
        spec.protocol = Protocol::etm3;
    }
    const Bytes isync = {0x08, 0x21, 0x01, 0x80, 0x00, 0x00};
    Bytes bytes;
    std::shared_ptr<const Code> code;
    StreamSpec spec;
    ToldSteps of(Bytes trace) const {
        trace.insert(trace.begin(), isync.begin(), isync.end());
        return followed(spec, code, trace);
    }
};

TEST_F(Etm3OfThumb, AnAtomIsAnInstructionWhetherItsConditionHeldOrNot) {
    // bl, cmp, it held; addeq not; bx lr held, to 8004; b
    const auto t = of({0xCC, 0x84, 0x05, 0x84});
    EXPECT_EQ(t.pcs, (Pcs{0x8000, 0x8010, 0x8012, 0x8014, 0x8016, 0x8004}));
    EXPECT_TRUE(t.gaps.empty());
}

TEST_F(Etm3OfThumb, AnInstructionThatDidNotCompleteIsTakenBack) {
    // bl, cmp; cmp is cancelled by SysTick (type 15, bits in two bytes), which goes to 8016
    const auto t = of({0x88, 0x97, 0x42, 0x3E});
    EXPECT_EQ(t.pcs, (Pcs{0x8000}));
    ASSERT_EQ(t.traps.size(), 1U);
    EXPECT_EQ(t.traps[0], (std::pair<std::size_t, std::uint32_t>(1, 15)));
    const auto whole = of({0x88, 0x97, 0x42, 0x1E});
    EXPECT_EQ(whole.pcs, (Pcs{0x8000, 0x8010})) << "without that it stays";
}

TEST_F(Etm3OfThumb, AHandlersReturnIsToldAndWhatFollowsAnIndirectBranchNeedsAnAddress) {
    const auto t = of({0x94, 0x76, 0x05});  // up to bx lr, which leaves a handler, to 8004
    EXPECT_EQ(t.returns, (std::vector<std::size_t>{5}));
    const auto without = of({0x98});
    ASSERT_EQ(without.gaps.size(), 1U);
    EXPECT_EQ(without.gaps[0], "an indirect branch without the address it goes to");
}

TEST_F(Etm3OfThumb, DataIsToldWithItsAddress) {
    spec.etm3.data_address = spec.etm3.data_value = true;
    const auto t = of({0x84, 0x2E, 0x80, 0x80, 0x80, 0x80, 0x02, 0x78, 0x56, 0x34, 0x12, 0x84});
    EXPECT_EQ(t.pcs.size(), 2U);
    EXPECT_EQ(t.accesses, (std::vector<std::pair<std::size_t, std::uint64_t>>{{0x2000'0000, 0x1234'5678}}));
}

}  // namespace
}  // namespace mt
