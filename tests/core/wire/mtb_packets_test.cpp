// Micro Trace Buffer packets (DDI 0486, 2.2): pairs of words, whole, in pieces, and out of step.
#include "wire/mtb.h"

#include <gtest/gtest.h>

#include <random>

namespace mt {
namespace {

using Bytes = std::vector<std::uint8_t>;
// A program in which branches stand below their targets: source and destination are told apart.
constexpr std::uint32_t kBranches = 0x0000'0400, kTargets = 0x0000'4000, kEnd = 0x0000'8000;

class MtbStreams : public testing::TestWithParam<unsigned> {
  protected:
    void add_word(std::uint32_t w) {
        for (int i = 0; i < 4; ++i) bytes.push_back(static_cast<std::uint8_t>(w >> (8 * i)));
    }
    std::uint32_t between(std::uint32_t low, std::uint32_t high) {
        return low + static_cast<std::uint32_t>(random() % (high - low) & ~1u);
    }
    void write(int packets) {
        for (int i = 0; i < packets; ++i) {
            MtbPacket p;
            p.offset = bytes.size();
            p.source = between(kBranches, kTargets);
            p.destination = between(kTargets, kEnd);
            p.atomic = random() % 5 == 0;
            p.start = random() % 9 == 0;
            add_word(p.source | (p.atomic ? 1u : 0u));      // A: bit 0 of the first word
            add_word(p.destination | (p.start ? 1u : 0u));  // S: bit 0 of the second
            all.push_back(p);
        }
    }
    static bool possible(const MtbPacket& p) {
        return p.source >= kBranches && p.source < kTargets && p.destination >= kTargets && p.destination < kEnd;
    }
    static std::vector<MtbPacket> read(const Bytes& bytes, std::size_t piece) {
        MtbDecoder decoder(possible);
        std::vector<MtbPacket> out;
        for (std::size_t at = 0; at < bytes.size(); at += piece)
            decoder.feed(std::span(bytes).subspan(at, std::min(piece, bytes.size() - at)), out);
        decoder.finish(out);
        EXPECT_EQ(decoder.position(), bytes.size());
        return out;
    }
    static bool same(const MtbPacket& a, const MtbPacket& b) {
        return a.source == b.source && a.destination == b.destination && a.atomic == b.atomic && a.start == b.start;
    }
    std::mt19937 random{GetParam()};
    Bytes bytes;
    std::vector<MtbPacket> all;
};

TEST_P(MtbStreams, AreReadAsTheyWereWrittenHoweverTheyAreCut) {
    write(500);
    for (const std::size_t piece : {bytes.size(), std::size_t{1}, std::size_t{13}}) {
        const auto out = read(bytes, piece);
        ASSERT_EQ(out.size(), all.size());
        for (std::size_t i = 0; i < out.size(); ++i) {
            EXPECT_TRUE(same(out[i], all[i])) << i;
            EXPECT_EQ(out[i].offset, all[i].offset);
            EXPECT_EQ(out[i].skipped, 0U);
        }
    }
}

// There is no mark between packets: whether addresses can be the program's shows where they begin.
TEST_P(MtbStreams, AreInStepAgainBehindBytesThatAreMissing) {
    write(300);
    const std::size_t at = 8 * (50 + random() % 100) + 1 + random() % 7, missing = 1 + random() % 7;
    bytes.erase(bytes.begin() + static_cast<std::ptrdiff_t>(at),
                bytes.begin() + static_cast<std::ptrdiff_t>(at + missing));
    const auto out = read(bytes, 64);
    const std::size_t before = at / 8;
    ASSERT_GT(out.size(), 250U);
    for (std::size_t i = 0; i < before - 4; ++i) EXPECT_TRUE(same(out[i], all[i])) << i;
    for (std::size_t k = 1; k <= all.size() - before - 10; ++k)
        EXPECT_TRUE(same(out[out.size() - k], all[all.size() - k])) << k << " from the end";
    std::uint64_t skipped = 0;
    for (const MtbPacket& p : out) skipped += p.skipped;
    EXPECT_GT(skipped, 0U) << "and it is said what was passed over";
    EXPECT_EQ(skipped + 8 * out.size(), bytes.size()) << "no byte is lost or counted twice";
}

TEST_P(MtbStreams, LeaveWhatIsNotWholeAtTheEnd) {
    write(20);
    for (std::size_t cut = 1; cut < 8; ++cut) {
        const Bytes part(bytes.begin(), bytes.end() - static_cast<std::ptrdiff_t>(cut));
        MtbDecoder decoder(possible);
        std::vector<MtbPacket> out;
        decoder.feed(part, out);
        decoder.finish(out);
        EXPECT_EQ(out.size(), all.size() - 1);
        EXPECT_EQ(decoder.left(), 8 - cut);
    }
}

// Where nothing fits, the words are handed on as they stand: who follows the program says that they do not.
TEST_P(MtbStreams, OfNoiseAccountForEachByte) {
    for (int i = 0; i < 20'000; ++i) bytes.push_back(static_cast<std::uint8_t>(random()));
    std::uint64_t end = 0;
    for (const MtbPacket& p : read(bytes, 512)) {
        EXPECT_EQ(p.offset, end + p.skipped);
        end = p.offset + 8;
    }
    EXPECT_LT(bytes.size() - end, 8U);
}

INSTANTIATE_TEST_SUITE_P(Seeds, MtbStreams, testing::Values(1U, 2U, 3U, 99U));

}  // namespace
}  // namespace mt
