// Line number programs written by hand, of every version and with every opcode (DWARF 5, 6.2), and damaged ones.
#include <gtest/gtest.h>

#include <cstdint>
#include <random>
#include <string>
#include <vector>

#include "target/line_program.h"

namespace mt {
namespace {

// A program and its header (6.2.4), as a compiler would write them.
class LineProgram {
  public:
    unsigned version = 4;
    bool wide = false;             // 64-bit DWARF (7.4)
    std::uint8_t least = 2;        // minimum_instruction_length
    std::uint8_t operations = 1;   // maximum_operations_per_instruction
    bool statements = true;        // default_is_stmt
    std::int8_t base = -5;
    std::uint8_t range = 14, opcodes = 13;
    std::vector<std::uint8_t> operands = {0, 1, 1, 1, 1, 0, 0, 0, 1, 0, 0, 1};
    std::vector<std::uint8_t> names = {0, 0};  // tables of directories and files: others' business

    LineProgram& op(std::uint8_t code) {
        code_.push_back(code);
        return *this;
    }
    LineProgram& uleb(std::uint64_t v) {
        do {
            code_.push_back(static_cast<std::uint8_t>((v & 0x7F) | (v > 0x7F ? 0x80 : 0)));
            v >>= 7;
        } while (v != 0);
        return *this;
    }
    LineProgram& sleb(std::int64_t v) {
        for (bool more = true; more;) {
            const auto low = static_cast<std::uint8_t>(v & 0x7F);
            v >>= 7;
            more = !((v == 0 && (low & 0x40) == 0) || (v == -1 && (low & 0x40) != 0));
            code_.push_back(static_cast<std::uint8_t>(low | (more ? 0x80 : 0)));
        }
        return *this;
    }
    // Extended opcodes (6.2.5.3).
    LineProgram& address(std::uint64_t a, unsigned size = 4) {
        op(0).uleb(size + 1).op(2);
        for (unsigned i = 0; i < size; ++i) op(static_cast<std::uint8_t>(a >> 8 * i));
        return *this;
    }
    LineProgram& end() { return op(0).uleb(1).op(1); }
    // Standard opcodes (6.2.5.2).
    LineProgram& copy() { return op(1); }
    LineProgram& advance_pc(std::uint64_t n) { return op(2).uleb(n); }
    LineProgram& advance_line(std::int64_t n) { return op(3).sleb(n); }
    LineProgram& file(std::uint64_t n) { return op(4).uleb(n); }
    // 6.2.5.1: so many operations and lines farther, and a row.
    LineProgram& special(unsigned operation, int line) {
        return op(static_cast<std::uint8_t>((line - base) + static_cast<int>(range * operation) + opcodes));
    }

    std::vector<std::uint8_t> bytes() const {
        std::vector<std::uint8_t> head;  // from behind header_length
        head.push_back(least);
        if (version >= 4) head.push_back(operations);
        head.push_back(statements ? 1 : 0);
        head.push_back(static_cast<std::uint8_t>(base));
        head.push_back(range);
        head.push_back(opcodes);
        head.insert(head.end(), operands.begin(), operands.begin() + (opcodes - 1));
        head.insert(head.end(), names.begin(), names.end());
        std::vector<std::uint8_t> rest;
        put(rest, version, 2);
        if (version == 5) put(rest, 4, 1), put(rest, 0, 1);  // address_size, segment_selector_size
        put(rest, head.size(), wide ? 8 : 4);
        rest.insert(rest.end(), head.begin(), head.end());
        rest.insert(rest.end(), code_.begin(), code_.end());
        std::vector<std::uint8_t> all;
        if (wide) put(all, 0xFFFF'FFFF, 4);
        put(all, rest.size(), wide ? 8 : 4);
        all.insert(all.end(), rest.begin(), rest.end());
        return all;
    }
    std::vector<LineSequence> read() const { return read_line_program(bytes(), 0); }

  private:
    static void put(std::vector<std::uint8_t>& to, std::uint64_t v, unsigned size) {
        for (unsigned i = 0; i < size; ++i) to.push_back(static_cast<std::uint8_t>(v >> 8 * i));
    }
    std::vector<std::uint8_t> code_;
};

std::string line_text(const std::vector<LineSequence>& all) {
    std::string text;
    char row[80];
    for (const LineSequence& s : all) {
        for (const LineRow& r : s.rows) {
            std::snprintf(row, sizeof row, "%llx %u:%u%s, ", static_cast<unsigned long long>(r.address), r.file, r.line,
                          r.begins ? "" : " goes on");
            text += row;
        }
        std::snprintf(row, sizeof row, "to %llx; ", static_cast<unsigned long long>(s.end));
        text += row;
    }
    return text;
}

TEST(LineProgram, OfEachVersionAndOfBothWidthsTellsTheSameRows) {
    for (const unsigned version : {2U, 3U, 4U, 5U})
        for (const bool wide : {false, true}) {
            LineProgram p;
            p.version = version;
            p.wide = wide;
            p.address(0x0800'0100).advance_line(40).copy().special(2, 1).special(3, -5).advance_pc(4).end();
            EXPECT_EQ(line_text(p.read()), "8000100 1:41, 8000104 1:42, 800010a 1:37, to 8000112; ")
                << "version " << version << (wide ? ", 64-bit" : "");
        }
}

TEST(LineProgram, OfAnotherVersionIsNotGuessedAt) {
    for (const unsigned version : {0U, 1U, 6U, 0xFFFFU}) {
        LineProgram p;
        p.version = version;
        p.address(0x100).copy().advance_pc(1).end();
        EXPECT_TRUE(p.read().empty()) << version;
    }
}

TEST(LineProgram, SpecialOpcodesMoveByTheHeadersBaseAndRange) {
    // 6.2.5.1's own example: line_base −3, line_range 12, opcode_base 13.
    LineProgram p;
    p.base = -3;
    p.range = 12;
    p.least = 1;
    p.address(0);
    for (int line = -3; line <= 8; ++line)
        for (unsigned operation = 0; operation <= 19; ++operation)
            if ((line + 3) + 12 * static_cast<int>(operation) + 13 <= 255) {
                LineProgram one = p;
                one.advance_line(99).special(operation, line).advance_pc(1).end();
                const auto all = one.read();
                ASSERT_EQ(all.size(), 1U);
                ASSERT_EQ(all[0].rows.size(), 1U);
                EXPECT_EQ(all[0].rows[0].address, operation);
                EXPECT_EQ(all[0].rows[0].line, static_cast<std::uint32_t>(100 + line));
            }
}

TEST(LineProgram, EveryStandardOpcodeDoesWhatItIsFor) {
    LineProgram p;
    p.address(0x100)
        .file(3)
        .op(5).uleb(77)          // set_column
        .op(6)                   // negate_stmt
        .op(7)                   // set_basic_block
        .copy()
        .op(6)
        .op(8)                   // const_add_pc: as special opcode 255 would, (255 − 13) / 14 = 17 operations
        .copy()
        .op(9).op(0x34).op(0x12)  // fixed_advance_pc: bytes, not instructions
        .op(10).op(11)           // set_prologue_end, set_epilogue_begin
        .op(12).uleb(300)        // set_isa
        .copy()
        .end();
    EXPECT_EQ(line_text(p.read()), "100 3:1 goes on, 122 3:1, 1356 3:1, to 1356; ");
}

TEST(LineProgram, OpcodesThatALaterVersionAddsArePassedOverByTheirOperands) {
    LineProgram p;
    p.opcodes = 16;  // three more than version 5 has
    p.operands = {0, 1, 1, 1, 1, 0, 0, 0, 1, 0, 0, 1, 2, 0, 1};
    p.address(0x200).op(13).uleb(0x1234'5678).uleb(1).op(14).op(15).uleb(9).copy().special(1, 2).end();
    EXPECT_EQ(line_text(p.read()), "200 1:1, 202 1:3, to 202; ");
}

TEST(LineProgram, WithFewerOpcodesThanTheStandardHasTheRestAreSpecial) {
    LineProgram p;
    p.version = 2;
    p.opcodes = 10;  // opcodes 10 to 12 came with version 3
    p.operands = {0, 1, 1, 1, 1, 0, 0, 0, 1};
    p.advance_line(10).op(10).op(12).advance_pc(1).end();
    EXPECT_EQ(line_text(p.read()), "0 1:6, 0 1:3, to 2; ");
}

TEST(LineProgram, ExtendedOpcodesThatAreNotKnownArePassedOver) {
    LineProgram p;
    p.address(0x300)
        .op(0).uleb(3).op(4).op(5).op(0)             // set_discriminator 5, one byte too long
        .op(0).uleb(5).op(0x80).op(1).op(2).op(3).op(4)  // lo_user
        .op(0).uleb(8).op(3).op('a').op(0).op(0).op(0).op(0).op(0).op(0)  // define_file (version 4)
        .copy()
        .advance_pc(1)
        .end();
    EXPECT_EQ(line_text(p.read()), "300 1:1, to 302; ");
}

TEST(LineProgram, OperationsOfLongInstructionWordsAreCountedWithinThem) {
    LineProgram p;
    p.least = 16;
    p.operations = 3;
    // 6.2.5.1: address += least · ((op_index + n) / most), op_index = (op_index + n) mod most.
    p.address(0x1000).special(0, 1).special(1, 1).special(1, 1).special(1, 1).special(4, 1).advance_pc(3).end();
    EXPECT_EQ(line_text(p.read()), "1000 1:2, 1000 1:3, 1000 1:4, 1010 1:5, 1020 1:6, to 1030; ");
}

TEST(LineProgram, EachSequenceBeginsAnew) {
    LineProgram p;
    p.statements = false;
    p.address(0x400).file(7).advance_line(100).op(6).copy().advance_pc(1).end();
    p.address(0x100).copy().advance_pc(2).end();
    EXPECT_EQ(line_text(p.read()), "400 7:101, to 402; 100 1:1 goes on, to 104; ");
}

TEST(LineProgram, AddressesOf64BitsAreWhole) {
    LineProgram p;
    p.version = 5;
    p.least = 4;
    p.address(0xFFFF'FFFF'8000'0000, 8).copy().special(1, 1).end();
    EXPECT_EQ(line_text(p.read()), "ffffffff80000000 1:1, ffffffff80000004 1:2, to ffffffff80000004; ");
}

TEST(LineProgram, WithoutAnEndOfItsSequenceHasNone) {
    LineProgram p;
    p.address(0x100).copy().advance_pc(1).end().address(0x200).copy().special(1, 1);
    EXPECT_EQ(line_text(p.read()), "100 1:1, to 102; ");
}

TEST(LineProgram, RowsThatGoBackWithinASequenceAreLeftOut) {
    LineProgram p;
    p.address(0x100).copy().address(0x80).copy().address(0x110).special(0, 1).end();
    EXPECT_EQ(line_text(p.read()), "100 1:1, 110 1:2, to 110; ");
    LineProgram ends_before;
    ends_before.address(0x100).copy().address(0x80).end();
    EXPECT_TRUE(ends_before.read().empty()) << "an end before its begin";
}

TEST(LineProgram, LinesThatAreNoneAreNone) {
    LineProgram p;
    p.address(0x100).advance_line(-1).copy();            // 0: no line (6.2.2)
    p.advance_line(-100).special(1, 0);                  // before the first
    p.advance_line(100 + (std::int64_t{1} << 40)).special(1, 1);  // beyond all
    p.advance_line(-(std::int64_t{1} << 40)).special(1, 0).end();
    EXPECT_EQ(line_text(p.read()), "100 1:0, 102 1:0, 104 1:0, 106 1:1, to 106; ");
}

TEST(LineProgram, ALineThatRunsOverItsNumberHarmsNothing) {
    LineProgram p;
    p.address(0x100).advance_line(INT64_MAX).special(0, 5).special(0, 5).advance_line(INT64_MIN).special(0, -5).end();
    EXPECT_EQ(line_text(p.read()), "100 1:0, 100 1:0, 100 1:5, to 100; ") << "round once, and where it came from";
}

TEST(LineProgram, BehindAnotherOfTheSameSectionIsReadFromItsOffset) {
    LineProgram first, second;
    first.address(0x100).copy().advance_pc(1).end();
    second.version = 5;
    second.address(0x200).advance_line(8).copy().advance_pc(1).end();
    auto section = first.bytes();
    const std::size_t offset = section.size();
    const auto more = second.bytes();
    section.insert(section.end(), more.begin(), more.end());
    EXPECT_EQ(line_text(read_line_program(section, 0)), "100 1:1, to 102; ") << "it ends where its length says";
    EXPECT_EQ(line_text(read_line_program(section, offset)), "200 1:9, to 202; ");
    for (const std::uint64_t beyond : {section.size(), section.size() + 1, std::size_t{1} << 40})
        EXPECT_TRUE(read_line_program(section, beyond).empty());
}

TEST(LineProgram, CutAtAnyByteTellsASubsetAndNothingElse) {
    LineProgram p;
    p.version = 5;
    for (unsigned s = 0; s < 6; ++s) {
        p.address(0x1000 * (s + 1));
        for (unsigned i = 0; i < 5; ++i) p.special(i, 2).op(5).uleb(1000 * i);
        p.advance_pc(2).end();
    }
    const auto whole = p.bytes();
    const std::string all = line_text(p.read());
    std::size_t before = 0;
    for (std::size_t n = 0; n <= whole.size(); ++n) {
        std::vector<std::uint8_t> cut(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(n));
        EXPECT_TRUE(n == whole.size() || read_line_program(cut, 0).empty()) << "its length says more than there is";
        // The length mended: then what came before the cut is told.
        if (n < 4) continue;
        for (unsigned i = 0; i < 4; ++i) cut[i] = static_cast<std::uint8_t>((n - 4) >> 8 * i);
        const std::string part = line_text(read_line_program(cut, 0));
        EXPECT_EQ(all.substr(0, part.size()), part) << n;
        EXPECT_GE(part.size(), before);
        before = part.size();
    }
    EXPECT_EQ(before, all.size());
}

TEST(LineProgram, OfDamagedBytesEndsAndItsAddressesAscend) {
    std::mt19937 random(11);
    LineProgram p;
    p.version = 4;
    for (unsigned s = 0; s < 20; ++s) p.address(0x100 * s + 0x100).special(1, 3).special(2, 1).op(8).special(0, 1).end();
    const auto whole = p.bytes();
    for (int round = 0; round < 3000; ++round) {
        auto bytes = whole;
        for (int i = 0; i < 1 + round % 8; ++i) bytes[random() % bytes.size()] = static_cast<std::uint8_t>(random());
        for (const LineSequence& s : read_line_program(bytes, 0)) {
            ASSERT_FALSE(s.rows.empty());
            for (std::size_t i = 1; i < s.rows.size(); ++i) ASSERT_LE(s.rows[i - 1].address, s.rows[i].address);
            ASSERT_LE(s.rows.back().address, s.end);
        }
    }
}

TEST(LineProgram, TellsNoMoreRowsThanItIsAskedFor) {
    LineProgram p;
    p.address(0x100);
    for (int i = 0; i < 1000; ++i) p.special(1, 1);
    p.end().address(0x9000).copy().end();
    EXPECT_EQ(read_line_program(p.bytes(), 0, 2000).size(), 2U);
    EXPECT_TRUE(read_line_program(p.bytes(), 0, 100).empty()) << "the sequence did not end before";
}

TEST(LineProgram, WithARangeOfZeroOrWithoutOpcodesIsNone) {
    for (int what = 0; what < 2; ++what) {
        LineProgram p;
        p.address(0x100).copy().end();
        auto bytes = p.bytes();
        constexpr std::size_t kRange = 4 + 2 + 4 + 4;  // version 4: behind length, version, header_length, four bytes
        bytes[what == 0 ? kRange : 11] = 0;            // … or no operation in an instruction
        EXPECT_TRUE(read_line_program(bytes, 0).empty()) << what;
    }
}

}  // namespace
}  // namespace mt
