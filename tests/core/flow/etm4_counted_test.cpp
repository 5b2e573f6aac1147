// Q elements of ETMv4: instructions that are only counted (IHI 0064, 5.3).
#include <gtest/gtest.h>

#include <cstring>

#include "flow/etm4_flow.h"

namespace mt {
namespace {

constexpr std::uint64_t kBase = 0x4000'0000;
constexpr std::uint32_t kNop = 0xD503'201F;

struct CountedSteps : NoSteps {
    const Code& code;
    std::vector<std::uint64_t> pcs{};
    std::vector<std::string> gaps{};
    explicit CountedSteps(const Code& c) : code(c) {}
    void run(const StepRun& r) {
        std::uint32_t s = r.first;
        for (std::uint32_t n = 0; n < r.count; ++n, s = code.next(s)) pcs.push_back(code.address(s));
    }
    void gap(const StepGap& g) { gaps.push_back(g.text()); }
};

class ACountOfInstructions : public testing::Test {
  protected:
    // 0: nop nop, 2: b 5, 3: (nop nop), 5: nop, 6: bl 9, 7: nop, 8: b.ne 0, 9: nop, 10: ret, 11: nop nop
    ACountOfInstructions() {
        const std::uint32_t words[] = {kNop,        kNop, 0x1400'0003, kNop,        kNop, kNop, 0x9400'0003,
                                       kNop, 0x54FF'FF01, kNop,        0xD65F'03C0, kNop, kNop};
        bytes_.resize(sizeof words);
        std::memcpy(bytes_.data(), words, sizeof words);
        const Image::Piece piece{kBase, kBase, bytes_, false};
        code = Code::of(std::span(&piece, 1), "armv8-a");
        at(0);
    }
    void at(unsigned word) {
        Etm4Packet p;
        p.kind = Etm4Kind::address;
        p.address = kBase + 4 * word;
        packets.push_back(p);
    }
    void counted(std::uint64_t count, std::optional<unsigned> then = {}) {
        Etm4Packet p;
        p.kind = Etm4Kind::q;
        p.known = true;
        p.value = count;
        p.has_address = then.has_value();
        if (then) p.address = kBase + 4 * *then;
        packets.push_back(p);
    }
    void atom(bool taken) {
        Etm4Packet p;
        p.kind = Etm4Kind::atoms;
        p.count = 1;
        p.atoms = taken ? 1 : 0;
        packets.push_back(p);
    }
    std::vector<unsigned> words_run() {
        Etm4Flow flow(code, Etm4Parameters{});
        CountedSteps out(*code);
        flow.feed(std::span<const Etm4Packet>(packets), out);
        gaps = out.gaps;
        std::vector<unsigned> words;
        for (const std::uint64_t pc : out.pcs) words.push_back(static_cast<unsigned>((pc - kBase) / 4));
        return words;
    }
    std::vector<std::uint8_t> bytes_;
    std::shared_ptr<const Code> code;
    std::vector<Etm4Packet> packets;
    std::vector<std::string> gaps;
};

TEST_F(ACountOfInstructions, IsFollowedWhereOneWayLeadsOn) {
    counted(5);  // over the jump, up to the call
    atom(true);
    EXPECT_EQ(words_run(), (std::vector<unsigned>{0, 1, 2, 5, 6, 9, 10}));
    EXPECT_TRUE(gaps.empty()) << gaps[0];
}

TEST_F(ACountOfInstructions, MayEndWithinAStraightRun) {
    counted(1);
    counted(3);
    atom(true);
    EXPECT_EQ(words_run(), (std::vector<unsigned>{0, 1, 2, 5, 6}));
    EXPECT_TRUE(gaps.empty()) << gaps[0];
}

TEST_F(ACountOfInstructions, LeavesOpenWhereAReturnWentUntilAnAddressSays) {
    counted(7);
    at(7);
    atom(false);
    EXPECT_EQ(words_run(), (std::vector<unsigned>{0, 1, 2, 5, 6, 9, 10, 7, 8}));
    EXPECT_TRUE(gaps.empty()) << gaps[0];
}

TEST_F(ACountOfInstructions, IsAGapBehindABranchOfWhichNobodyKnows) {
    at(7);
    packets.erase(packets.begin());
    counted(6, 11);
    EXPECT_EQ(words_run(), (std::vector<unsigned>{7, 8}));
    ASSERT_EQ(gaps.size(), 1U);
    EXPECT_NE(gaps[0].find("only counted"), std::string::npos);
}

TEST_F(ACountOfInstructions, ThatDoesNotEndWhereTheAddressSaysIsAContradiction) {
    counted(5, 3);
    (void)words_run();
    ASSERT_EQ(gaps.size(), 1U);
    EXPECT_NE(gaps[0].find("not where the program was"), std::string::npos);
}

TEST_F(ACountOfInstructions, ThatRunsOutOfTheCodeIsAGap) {
    at(11);
    packets.erase(packets.begin());
    counted(100);
    EXPECT_TRUE(words_run().empty());
    EXPECT_EQ(gaps.size(), 1U);
}

TEST_F(ACountOfInstructions, WithoutANumberIsAGap) {
    counted(1);
    packets.back().known = false;
    EXPECT_TRUE(words_run().empty());
    EXPECT_EQ(gaps.size(), 1U);
}

}  // namespace
}  // namespace mt
