// Location descriptions worked out with what is known (DWARF 5, 2.5 and 2.6), also hostile ones.
#include "target/location.h"

#include <dwarf.h>
#include <gtest/gtest.h>

#include <random>

namespace mt {
namespace {

using dwarf::LocationPiece;
using dwarf::LocationReader;

Dwarf_Op op(unsigned atom, std::uint64_t number = 0, std::uint64_t number2 = 0, std::uint64_t offset = 0) {
    return {static_cast<std::uint8_t>(atom), number, number2, offset};
}

// r0 to r3 hold 0x1000, 0x2000, …; r4 is not known. Memory from 0x1000 on holds its own addresses; 0x9000 is not known.
FrameState state() {
    FrameState s;
    s.reg = [](unsigned n) { return n < 4 ? FrameWord{0x1000U * (n + 1), true, n} : FrameWord{}; };
    s.byte = [](std::uint64_t address) -> FrameWord {
        if (address >= 0x9000) return {};
        return {(address & ~std::uint64_t{3}) >> (8 * (address % 4)) & 0xFF, true, address};
    };
    return s;
}

class ALocation : public testing::Test {
  protected:
    std::vector<LocationPiece> read(std::vector<Dwarf_Op> ops) {
        LocationReader reader(s, [] { return FrameWord::of(0x3000); }, [] { return FrameWord::of(0x4000); });
        return reader.read(nullptr, ops);
    }
    FrameWord number(std::vector<Dwarf_Op> ops) {
        LocationReader reader(s, [] { return FrameWord::of(0x3000); }, [] { return FrameWord::of(0x4000); });
        return reader.number(ops);
    }
    FrameState s = state();
};

TEST_F(ALocation, IsMemoryARegisterAValueOrNowhere) {
    auto p = read({op(DW_OP_breg1, 8)});
    ASSERT_EQ(p.size(), 1U);
    EXPECT_EQ(p[0].in, LocationPiece::In::memory);
    EXPECT_EQ(p[0].address.value, 0x2008U);
    p = read({op(DW_OP_reg2)});
    EXPECT_EQ(p[0].in, LocationPiece::In::reg);
    EXPECT_EQ(p[0].number, 2U);
    p = read({op(DW_OP_lit7), op(DW_OP_stack_value)});
    EXPECT_EQ(p[0].in, LocationPiece::In::value);
    EXPECT_EQ(p[0].bytes[0].value, 7U);
    p = read({});
    EXPECT_EQ(p[0].in, LocationPiece::In::nowhere) << "an empty description: it was optimised away (2.6.1.1.4)";
    EXPECT_EQ(read({op(DW_OP_fbreg, 16)})[0].address.value, 0x3010U);
    EXPECT_EQ(read({op(DW_OP_call_frame_cfa), op(DW_OP_consts, static_cast<std::uint64_t>(-4)), op(DW_OP_plus)})[0].address.value, 0x3FFCU);
}

TEST_F(ALocation, InPiecesIsPutTogetherAsFarAsItIsKnown) {
    const auto p = read({op(DW_OP_reg1), op(DW_OP_piece, 4), op(DW_OP_piece, 2), op(DW_OP_breg0, 0), op(DW_OP_piece, 2)});
    ASSERT_EQ(p.size(), 3U);
    const auto bytes = dwarf::bytes_in(p, 8, s);
    ASSERT_EQ(bytes.size(), 8U);
    EXPECT_EQ(bytes[1].value, 0x20U) << "of the register";
    EXPECT_FALSE(bytes[4].known) << "a piece that is nowhere";
    EXPECT_TRUE(bytes[6].known && bytes[7].known);
    EXPECT_EQ(bytes[7].value, 0x10U) << "of memory";
    EXPECT_EQ(bytes[7].set_at, 0x1001U) << "and who wrote it";
}

TEST_F(ALocation, MayBeAFloatingPointRegisterThatIsWiderThanAnAddress) {
    s.isa = Isa::rv32;
    s.reg = [](unsigned n) { return n == 42 ? FrameWord{0x3FF8'0000'0000'0000, true, 7} : FrameWord{}; };
    EXPECT_EQ(frame_register_name(Isa::rv32, 42), "f10");
    EXPECT_EQ(frame_register_name(Isa::thumb, 42), "");
    const auto bytes = dwarf::bytes_in(read({op(DW_OP_regx, 42)}), 8, s);
    EXPECT_TRUE(bytes[7].known);
    EXPECT_EQ(bytes[7].value, 0x3FU);
    EXPECT_EQ(bytes[7].set_at, 7U);
    EXPECT_FALSE(dwarf::bytes_in(read({op(DW_OP_reg1)}), 8, s)[4].known) << "others are as wide as an address";
}

TEST_F(ALocation, CalculatesAsTheTargetsAddressesDo) {
    EXPECT_EQ(number({op(DW_OP_const4u, 0xFFFF'FFFF), op(DW_OP_lit2), op(DW_OP_plus)}).value, 1U) << "modulo 2^32";
    EXPECT_EQ(number({op(DW_OP_const1s, static_cast<std::uint64_t>(-7)), op(DW_OP_lit2), op(DW_OP_div)}).value, 0xFFFF'FFFDU) << "with sign";
    EXPECT_FALSE(number({op(DW_OP_lit1), op(DW_OP_lit0), op(DW_OP_div)}).known) << "by nothing";
    EXPECT_FALSE(number({op(DW_OP_lit1), op(DW_OP_lit0), op(DW_OP_mod)}).known);
    EXPECT_EQ(number({op(DW_OP_const4u, 0x8000'0000), op(DW_OP_lit31), op(DW_OP_shra)}).value, 0xFFFF'FFFFU);
    EXPECT_EQ(number({op(DW_OP_lit1), op(DW_OP_const1u, 40), op(DW_OP_shl)}).value, 0U);
    EXPECT_EQ(number({op(DW_OP_breg0, 4), op(DW_OP_deref)}).value, 0x1004U);
    EXPECT_EQ(number({op(DW_OP_breg0, 4), op(DW_OP_deref_size, 1)}).value, 4U);
    EXPECT_EQ(number({op(DW_OP_lit1), op(DW_OP_lit2), op(DW_OP_lit3), op(DW_OP_rot), op(DW_OP_drop), op(DW_OP_drop)}).value, 3U);
    EXPECT_EQ(number({op(DW_OP_lit5), op(DW_OP_lit6), op(DW_OP_over), op(DW_OP_minus)}).value, 1U);
    EXPECT_EQ(number({op(DW_OP_const1s, static_cast<std::uint64_t>(-5)), op(DW_OP_abs)}).value, 5U);
    EXPECT_EQ(number({op(DW_OP_const1s, static_cast<std::uint64_t>(-5)), op(DW_OP_lit1), op(DW_OP_lt)}).value, 1U);
}

TEST_F(ALocation, BuiltOnWhatIsNotKnownIsNotKnown) {
    EXPECT_FALSE(number({op(DW_OP_breg4, 8)}).known);
    EXPECT_FALSE(number({op(DW_OP_breg4, 8), op(DW_OP_lit0), op(DW_OP_mul)}).known);
    EXPECT_FALSE(number({op(DW_OP_const2u, 0x9000), op(DW_OP_deref)}).known) << "memory that nobody knows";
    const auto p = read({op(DW_OP_breg4, 0)});
    EXPECT_FALSE(dwarf::bytes_in(p, 4, s)[0].known);
    // Which way it goes depends on it: then nothing comes of it.
    EXPECT_TRUE(read({op(DW_OP_breg4, 0, 0, 0), op(DW_OP_bra, 1, 0, 2), op(DW_OP_reg0, 0, 0, 5), op(DW_OP_reg1, 0, 0, 6)}).empty());
}

TEST_F(ALocation, BranchesAndEndsEvenIfItsBranchesDoNot) {
    // lit1; bra +1 (over lit2); lit2; lit3
    const std::vector<Dwarf_Op> ops{op(DW_OP_lit1, 0, 0, 0), op(DW_OP_bra, 1, 0, 1), op(DW_OP_lit2, 0, 0, 4), op(DW_OP_lit3, 0, 0, 5)};
    EXPECT_EQ(number(ops).value, 3U);
    EXPECT_TRUE(read({op(DW_OP_skip, static_cast<std::uint64_t>(-3), 0, 0)}).empty()) << "round for ever";
    EXPECT_TRUE(read({op(DW_OP_lit1, 0, 0, 0), op(DW_OP_skip, static_cast<std::uint64_t>(-4), 0, 1)}).empty()) << "and filling the stack";
    EXPECT_TRUE(read({op(DW_OP_skip, 100, 0, 0)}).empty()) << "to where nothing is";
}

TEST_F(ALocation, OfChanceNeverDoesHarm) {
    std::mt19937 chance(7);
    for (int i = 0; i < 50'000; ++i) {
        std::vector<Dwarf_Op> ops;
        const unsigned n = chance() % 12;
        for (unsigned k = 0; k < n; ++k) ops.push_back(op(chance() & 0xFF, chance() % 4 == 0 ? ~std::uint64_t{chance()} : chance() % 64, chance() % 64, k));
        const auto bytes = dwarf::bytes_in(read(ops), 16, s);
        ASSERT_EQ(bytes.size(), 16U);
    }
}

}  // namespace
}  // namespace mt
