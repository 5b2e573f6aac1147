// Where a program says that its traps go: instructions that make a constant and write it to mtvec or stvec
// (unprivileged ISA 2.4 and 16.5, Zicsr 9.1; privileged ISA 3.1.7, 4.1.2).
#include "target/trap_vectors.h"

#include <gtest/gtest.h>

#include <cstring>

#include "target/image.h"

namespace mt {
namespace {

constexpr std::uint64_t kBase = 0x8000'0000;
constexpr unsigned kMtvec = 0x305, kStvec = 0x105, kMscratch = 0x340;

class Program {
  public:
    Program& word(std::uint32_t w) { return half(w & 0xFFFF).half(w >> 16); }
    Program& half(std::uint32_t h) {
        bytes_.push_back(static_cast<std::uint8_t>(h));
        bytes_.push_back(static_cast<std::uint8_t>(h >> 8));
        return *this;
    }
    Program& lui(unsigned rd, std::uint32_t upper) { return word(upper << 12 | rd << 7 | 0x37); }
    Program& auipc(unsigned rd, std::uint32_t upper) { return word(upper << 12 | rd << 7 | 0x17); }
    Program& addi(unsigned rd, unsigned rs, int n) {
        return word(static_cast<std::uint32_t>(n) << 20 | rs << 15 | rd << 7 | 0x13);
    }
    Program& ori(unsigned rd, unsigned rs, int n) {
        return word(static_cast<std::uint32_t>(n) << 20 | rs << 15 | 6 << 12 | rd << 7 | 0x13);
    }
    Program& csrrw(unsigned csr, unsigned rs) { return word(csr << 20 | rs << 15 | 1 << 12 | 0x73); }
    Program& csrrs(unsigned csr, unsigned rs) { return word(csr << 20 | rs << 15 | 2 << 12 | 0x73); }
    Program& csrrwi(unsigned csr, unsigned n) { return word(csr << 20 | n << 15 | 5 << 12 | 0x73); }
    Program& load(unsigned rd, unsigned rs) { return word(rs << 15 | 2 << 12 | rd << 7 | 0x03); }
    Program& ret() { return half(0x8082); }

    TrapVectors vectors(const std::string& isa = "rv32imac") {
        ret();
        Image::Piece piece;
        piece.address = kBase;
        piece.bytes = bytes_;
        return trap_vectors(*Code::of(std::span(&piece, 1), isa));
    }

  private:
    std::vector<std::uint8_t> bytes_;
};

constexpr unsigned t0 = 5, a0 = 10;

TEST(TrapVectors, OfALuiAndAnAddi) {
    const auto v = Program().lui(t0, 0x80001).addi(t0, t0, 0x234).csrrw(kMtvec, t0).vectors();
    EXPECT_EQ(v.mtvec, 0x8000'1234U);
    EXPECT_FALSE(v.stvec);
}

TEST(TrapVectors, OfAnAuipcAreRelativeToIt) {
    const auto v = Program().addi(a0, 0, 0).auipc(t0, 1).addi(t0, t0, -4).csrrw(kStvec, t0).vectors();
    EXPECT_EQ(v.stvec, kBase + 4 + 0x1000 - 4);
    EXPECT_FALSE(v.mtvec);
}

TEST(TrapVectors, KeepTheirModeBits) {
    const auto v = Program().lui(t0, 0x80002).ori(t0, t0, 1).csrrw(kMtvec, t0).vectors();
    EXPECT_EQ(v.mtvec, 0x8000'2001U) << "vectored";
}

TEST(TrapVectors, AreFollowedThroughOtherRegistersAndCompressedInstructions) {
    // c.lui t0, 0x1f; c.addi t0, 8; c.mv a0, t0
    const auto v = Program().half(0x62FD).half(0x02A1).half(0x8516).csrrw(kMtvec, a0).vectors();
    EXPECT_EQ(v.mtvec, 0x1F008U);
}

TEST(TrapVectors, AreSignExtendedOn64BitsOnly) {
    const auto narrow = Program().lui(t0, 0x80001).csrrw(kMtvec, t0).vectors("rv32imac");
    const auto wide = Program().lui(t0, 0x80001).csrrw(kMtvec, t0).vectors("rv64imac");
    EXPECT_EQ(narrow.mtvec, 0x8000'1000U);
    EXPECT_EQ(wide.mtvec, 0xFFFF'FFFF'8000'1000U);
}

TEST(TrapVectors, AreUnknownIfTheyAreLoaded) {
    EXPECT_FALSE(Program().lui(t0, 0x80001).load(t0, t0).csrrw(kMtvec, t0).vectors().mtvec);
}

TEST(TrapVectors, AreUnknownIfTheyAreWrittenTwiceWithDifferentValues) {
    EXPECT_FALSE(Program().lui(t0, 0x80001).csrrw(kMtvec, t0).lui(t0, 0x80002).csrrw(kMtvec, t0).vectors().mtvec);
    const auto same = Program().lui(t0, 0x80001).csrrw(kMtvec, t0).lui(t0, 0x80001).csrrw(kMtvec, t0).vectors();
    EXPECT_EQ(same.mtvec, 0x8000'1000U);
}

TEST(TrapVectors, AreUnknownIfBitsAreSetInThem) {
    EXPECT_FALSE(Program().lui(t0, 0x80001).csrrw(kMtvec, t0).csrrs(kMtvec, t0).vectors().mtvec);
    EXPECT_FALSE(Program().csrrwi(kMtvec, 4).vectors().mtvec);
}

TEST(TrapVectors, AreStillKnownIfTheyAreOnlyRead) {
    EXPECT_EQ(Program().lui(t0, 0x80001).csrrw(kMtvec, t0).csrrs(kMtvec, 0).vectors().mtvec, 0x8000'1000U);
    EXPECT_EQ(Program().lui(t0, 0x80001).csrrw(kMtvec, t0).csrrw(kMscratch, 0).vectors().mtvec, 0x8000'1000U);
}

TEST(TrapVectors, AreNotTakenFromBehindACallOrAReturn) {
    EXPECT_FALSE(Program().lui(t0, 0x80001).ret().csrrw(kMtvec, t0).vectors().mtvec);
}

}  // namespace
}  // namespace mt
