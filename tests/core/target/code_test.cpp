// Which instructions change the flow: the classification against a disassembler's text.
#include <gtest/gtest.h>

#include <random>
#include <regex>

#include "rounds.h"
#include "support.h"
#include "target/code.h"
#include "target/disassembly.h"

namespace mt {
namespace {

std::shared_ptr<const Code> code_of(std::vector<std::uint8_t>& bytes, const std::string& isa,
                                    std::uint64_t at = 0x8000) {
    const Image::Piece piece{at, at, bytes, false};
    return Code::of(std::span(&piece, 1), isa);
}

void append(std::vector<std::uint8_t>& bytes, std::uint32_t bits, unsigned size) {
    for (unsigned i = 0; i < size; ++i) bytes.push_back(static_cast<std::uint8_t>(bits >> (8 * i)));
}

bool thumb_text_branches(const std::string& text) {
    static const std::regex branch(
        "^(b|bl|bx|blx|bxns|blxns|cbz|cbnz|tbb|tbh)(eq|ne|hs|lo|mi|pl|vs|vc|hi|ls|ge|lt|gt|le)?(\\.n|\\.w)?( |$).*"),
        loads("^(pop|ldm|ldmdb)[^{]*\\{[^}]*pc\\}.*"),
        writes("^(ldr|mov|add)(s|eq|ne|hs|lo|mi|pl|vs|vc|hi|ls|ge|lt|gt|le)?(\\.n|\\.w)? pc, .*"), barrier("^isb.*");
    return std::regex_match(text, branch) || std::regex_match(text, loads) || std::regex_match(text, writes) ||
           std::regex_match(text, barrier);
}

TEST(Code, EveryThumbInstructionOf16BitsBranchesIfItsTextSaysSo) {
    std::vector<std::uint8_t> bytes;
    for (std::uint32_t h = 0; h < 0xE800; ++h) append(bytes, h, 2);
    const auto code = code_of(bytes, "armv7e-m");
    const Disassembler text(*code);
    for (std::uint32_t h = 0; h < 0xE800; ++h) {
        const std::uint32_t slot = code->slot_of(0x8000 + 2 * h);
        const std::string t = text.text(slot);
        if (t.rfind(".insn", 0) == 0) continue;
        EXPECT_EQ((*code)[slot].flow != Flow::next, thumb_text_branches(t)) << std::hex << h << " " << t;
    }
}

TEST(Code, RandomThumbInstructionsOf32BitsBranchIfTheirTextSaysSo) {
    std::mt19937 random(5);
    std::vector<std::uint8_t> bytes;
    std::vector<std::uint32_t> words;
    for (int i = 0; i < 60'000; ++i) {
        const std::uint32_t high = 0xE800 + random() % 0x1800, low = random() & 0xFFFF;
        words.push_back(high | low << 16);
        append(bytes, words.back(), 4);
    }
    const auto code = code_of(bytes, "armv7e-m");
    const Disassembler text(*code);
    unsigned branches = 0;
    for (std::size_t i = 0; i < words.size(); ++i) {
        const std::uint32_t slot = code->slot_of(0x8000 + 4 * i);
        const std::string t = text.text(slot);
        if (t.rfind(".insn", 0) == 0) continue;
        branches += thumb_text_branches(t) ? 1 : 0;
        EXPECT_EQ((*code)[slot].flow != Flow::next, thumb_text_branches(t)) << std::hex << words[i] << " " << t;
    }
    EXPECT_GT(branches, 1000u);
}

TEST(Code, RandomRiscvInstructionsBranchIfTheirTextSaysSo) {
    static const std::regex branch(
        "^(c\\.)?(j|jal|jr|jalr|beq|bne|blt|bge|bltu|bgeu|beqz|bnez|blez|bgez|bltz|bgtz|ret|ecall|"
        "ebreak|uret|sret|mret|dret|call|tail)( .*|$)");
    std::mt19937 random(6);
    const unsigned rounds = test::rounds();
    for (unsigned round = 0; round < 4 * rounds; ++round) {
        const unsigned size = round % 2 == 0 ? 2 : 4;
        std::vector<std::uint8_t> bytes;
        std::vector<std::uint32_t> words;
        for (int i = 0; i < 60'000; ++i) {
            std::uint32_t w = random();
            if (size == 4) {
                w |= 3;
                if ((w & 0x1C) == 0x1C) w &= ~4u;
                constexpr std::uint32_t flow[] = {0x63, 0x6F, 0x67, 0x73};
                if (i % 2 == 0) w = (w & ~0x7Fu) | flow[i / 2 % 4];
                if (i % 16 == 6) w = 0x73 | (w & 0x3FF0'0000);
            } else if ((w & 3) == 3) {
                w &= ~1u;
            }
            words.push_back(size == 2 ? w & 0xFFFF : w);
            append(bytes, words.back(), size);
        }
        const auto code = code_of(bytes, round / 2 % 2 == 0 ? "rv32imac" : "rv64imac");
        const Disassembler text(*code);
        unsigned branches = 0;
        for (std::size_t i = 0; i < words.size(); ++i) {
            const std::uint32_t slot = code->slot_of(0x8000 + size * i);
            const std::string t = text.text(slot);
            if (t.rfind(".insn", 0) == 0 || t.rfind("unimp", 0) == 0) continue;
            const bool says = std::regex_match(t, branch);
            branches += says ? 1 : 0;
            EXPECT_EQ((*code)[slot].flow != Flow::next, says) << std::hex << words[i] << " " << t;
        }
        EXPECT_GT(branches, 500u);
    }
}

TEST(Code, AStraightRunEndsAtTheFirstBranchWhereverItIsEntered) {
    std::vector<std::uint8_t> bytes;
    append(bytes, 0x2001, 2);      // movs r0, #1
    append(bytes, 0x0001F240, 4);  // movw r0, #1: two halfwords
    append(bytes, 0xD0FC, 2);      // beq back to the first
    append(bytes, 0x4770, 2);      // bx lr
    const auto code = code_of(bytes, "armv7e-m", 0x100);
    const std::uint32_t first = code->slot_of(0x100);
    const Code::Slot& run = (*code)[first];
    EXPECT_EQ(code->address(run.last), 0x106u);
    EXPECT_EQ(run.count, 3u);
    EXPECT_EQ((*code)[run.last].flow, Flow::branch);
    EXPECT_EQ(code->address((*code)[run.last].target), 0x102u);
    EXPECT_EQ((*code)[code->slot_of(0x108)].flow, Flow::ret);
    EXPECT_EQ(code->slot_of(0x10A), Code::kNowhere);
    EXPECT_EQ(code->slot_of(0xFE), Code::kNowhere);
}

TEST(Code, AnItBlockMakesTheBranchInItConditional) {
    std::vector<std::uint8_t> bytes;
    append(bytes, 0xBF08, 2);  // it eq
    append(bytes, 0x4770, 2);  // bxeq lr
    append(bytes, 0x4770, 2);  // bx lr
    const auto code = code_of(bytes, "armv7-m", 0);
    EXPECT_NE((*code)[code->slot_of(2)].flags & FlowInsn::kConditional, 0);
    EXPECT_EQ((*code)[code->slot_of(4)].flags & FlowInsn::kConditional, 0);
}

TEST(InstructionSets, AreTheOnesInWhichCoresOfThatNameBegin) {
    const std::pair<const char*, std::optional<Isa>> cases[] = {{"armv6-m", Isa::thumb},
                                                                {"armv7-m", Isa::thumb},
                                                                {"armv7e-m", Isa::thumb},
                                                                {"armv8-m.base", Isa::thumb},
                                                                {"armv8.1-m.main", Isa::thumb},
                                                                {"armv7-a", Isa::arm},
                                                                {"armv7-r", Isa::arm},
                                                                {"armv8-a", Isa::a64},
                                                                {"armv8-a32", Isa::arm},
                                                                {"rv32imac", Isa::rv32},
                                                                {"rv64gc", Isa::rv64},
                                                                {"z80", std::nullopt},
                                                                {"", std::nullopt}};
    for (const auto& [name, isa] : cases) EXPECT_EQ(isa_of(name), isa) << name;
    EXPECT_TRUE(Code::can_follow("armv8-m.main"));
    EXPECT_TRUE(Code::can_follow("rv64gc"));
    for (const char* name : {"armv7-a", "armv8-a", "armv8-a32", "armv7-r"}) EXPECT_TRUE(Code::can_follow(name)) << name;
    for (const char* name : {"z80", ""}) EXPECT_FALSE(Code::can_follow(name)) << name;
    EXPECT_EQ(address_bits(Isa::rv64), 64U);
    EXPECT_EQ(address_bits(Isa::a64), 64U);
    EXPECT_EQ(address_bits(Isa::thumb), 32U);
}

// Two processes with programs of their own at one address, and a library that both see.
TEST(CodeOfProcesses, IsFoundByAddressAndContext) {
    const std::vector<std::uint8_t> library = {0x13, 0, 0, 0, 0x67, 0x80, 0, 0};  // nop, ret
    // One falls through to its own, the other jumps into the library (jal x0, 0x1000).
    const std::vector<std::uint8_t> one = {0x13, 0, 0, 0, 0x13, 0, 0, 0}, other = {0x6F, 0x10, 0, 0, 0x13, 0, 0, 0};
    const Image::Piece shared{0x9000, 0x9000, library, false}, first{0x8000, 0x8000, one, false},
        second{0x8000, 0x8000, other, false};
    const Code::Context contexts[] = {{3, {&first, 1}}, {0x7000'0001, {&second, 1}}};
    const auto code = Code::of({&shared, 1}, contexts, "rv32imac");
    const std::uint32_t a = code->slot_in(3, 0x8000), b = code->slot_in(0x7000'0001, 0x8000);
    ASSERT_NE(a, Code::kNowhere);
    ASSERT_NE(b, Code::kNowhere);
    EXPECT_NE(a, b);
    EXPECT_EQ(code->address(a), code->address(b));
    EXPECT_EQ((*code)[a].flow, Flow::next);
    EXPECT_EQ((*code)[b].flow, Flow::jump);
    EXPECT_EQ((*code)[b].target, code->slot_of(0x9000)) << "into what all see";
    EXPECT_EQ(code->slot_in(3, 0x9000), code->slot_of(0x9000));
    EXPECT_EQ(code->slot_in(4, 0x8000), Code::kNowhere) << "no such process";
    EXPECT_EQ(code->slot_of(0x8000), Code::kNowhere) << "not without one";
    EXPECT_EQ(code->context(a), 3U);
    EXPECT_EQ(code->context(b), 0x7000'0001U);
    EXPECT_EQ(code->context(code->slot_of(0x9000)), std::nullopt);
}

// Code beyond 4 GiB, and pieces far apart.
TEST(CodePieces, StandWhereverTheirAddressesAre) {
    const std::vector<std::uint8_t> nops = {0x13, 0, 0, 0, 0x13, 0, 0, 0};
    const std::uint64_t places[] = {0x8000'0000, 0x12'3456'7000, 0xFFFF'FFFF'8000'0000};
    std::vector<Image::Piece> pieces;
    for (const std::uint64_t at : places) pieces.push_back({at, at, nops, false});
    const auto code = Code::of(pieces, "rv64gc");
    EXPECT_EQ(code->left_out(), 0U);
    for (const std::uint64_t at : places) {
        const std::uint32_t slot = code->slot_of(at + 4);
        ASSERT_NE(slot, Code::kNowhere) << at;
        EXPECT_EQ(code->address(slot), at + 4);
        EXPECT_EQ(code->bits(slot), 0x13U);
        EXPECT_EQ(code->isa(slot), Isa::rv64);
        EXPECT_EQ(code->slot_of(at + 8), Code::kNowhere) << "behind it";
        EXPECT_EQ(code->slot_of(at - 2), Code::kNowhere) << "before it";
    }
    EXPECT_TRUE(code->riscv());
    EXPECT_EQ(code->xlen(), 64U);
}

}  // namespace
}  // namespace mt
