// Formatter frames written by hand after the CoreSight architecture's chapter D4.
#include "wire/tpiu.h"

#include <gtest/gtest.h>

namespace mt {
namespace {

using Bytes = std::vector<std::uint8_t>;
const Bytes kFull = {0xFF, 0xFF, 0xFF, 0x7F}, kHalf = {0xFF, 0x7F};

std::uint8_t id(unsigned source) { return static_cast<std::uint8_t>(source << 1 | 1); }

struct Unframed {
    Bytes bytes;
    std::vector<TpiuDeframer::Break> breaks;
    TpiuCounts counts;
};

Unframed unframed(const std::vector<Bytes>& parts, unsigned source = 1, bool aligned = false, std::size_t step = 1000) {
    Bytes raw;
    for (const auto& p : parts) raw.insert(raw.end(), p.begin(), p.end());
    TpiuDeframer deframer(static_cast<std::uint8_t>(source), aligned);
    Unframed u;
    for (std::size_t at = 0; at < raw.size(); at += step)
        deframer.feed(std::span(raw).subspan(at, std::min(step, raw.size() - at)), u.bytes, u.breaks);
    u.counts = deframer.counts();
    return u;
}

// ID 1, then data 1..14; the auxiliary byte gives bit 0 of the even data bytes.
const Bytes kPlain = {id(1), 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 0b00000000};

TEST(Formatter, TakesDataOfItsSource) {
    EXPECT_EQ(unframed({kFull, kPlain}).bytes, (Bytes{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14}));
}

TEST(Formatter, BitZeroOfEvenBytesStandsInTheLastByte) {
    Bytes frame = kPlain;
    frame[15] = 0b10000010;  // for bytes 2 and 14
    EXPECT_EQ(unframed({kFull, frame}).bytes, (Bytes{1, 3, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 15}));
}

TEST(Formatter, AnIdTakesEffectAtOnceOrAfterTheNextByte) {
    Bytes frame = kPlain;
    frame[4] = id(2);
    EXPECT_EQ(unframed({kFull, frame}).bytes, (Bytes{1, 2, 3})) << "at once: byte 5 is already source 2's";
    frame[15] = 0b00000100;
    const auto late = unframed({kFull, frame});
    EXPECT_EQ(late.bytes, (Bytes{1, 2, 3, 5})) << "delayed: byte 5 is still source 1's";
    EXPECT_EQ(late.counts.delayed_id_changes, 1U);
    EXPECT_EQ(unframed({kFull, frame}, 2).bytes, (Bytes{6, 7, 8, 9, 10, 11, 12, 13, 14}));
}

TEST(Formatter, AnIdInTheLastPairCountsFromTheNextFrame) {
    Bytes frame = kPlain;
    frame[14] = id(3);
    Bytes next(16, 0x20);
    next[15] = 0;
    EXPECT_EQ(unframed({kFull, frame, next}, 3).bytes, Bytes(15, 0x20));
}

TEST(Formatter, IdZeroIsPadding) {
    Bytes frame = kPlain;
    frame[6] = id(0);
    EXPECT_EQ(unframed({kFull, frame}).bytes, (Bytes{1, 2, 3, 4, 5}));
}

TEST(Formatter, HalfSynchronisationsStandInsideFrames) {
    const Bytes first(kPlain.begin(), kPlain.begin() + 6), rest(kPlain.begin() + 6, kPlain.end());
    const auto u = unframed({kFull, first, kHalf, rest, kHalf, kPlain});
    EXPECT_EQ(u.bytes.size(), 28U);
    EXPECT_EQ(u.counts.half_syncs, 2U);
    EXPECT_EQ(u.counts.frames, 2U);
    EXPECT_TRUE(u.breaks.empty());
}

TEST(Formatter, BytesBeforeTheFirstFullSynchronisationAreDropped) {
    const auto u = unframed({{9, 9, 9}, kFull, kPlain});
    EXPECT_EQ(u.bytes.size(), 14U);
    EXPECT_EQ(u.counts.lost_bytes, 3U);
}

TEST(Formatter, ATraceBufferWithoutSynchronisationMayBeAlignedByItself) {
    EXPECT_EQ(unframed({kPlain}, 1, true).bytes.size(), 14U);
}

TEST(Formatter, AMissingByteIsNoticedAtTheNextFullSynchronisation) {
    Bytes shorter = kPlain;
    shorter.erase(shorter.begin() + 5);
    const auto u = unframed({kFull, kPlain, shorter, kFull, kPlain});
    ASSERT_FALSE(u.breaks.empty());
    EXPECT_EQ(Bytes(u.bytes.end() - 14, u.bytes.end()), Bytes(kPlain.begin() + 1, kPlain.begin() + 15))
        << "what follows the synchronisation is taken whole";
    EXPECT_EQ(u.counts.misalignments, 1U);
}

TEST(Formatter, AReservedIdMeansThatTheFramesAreLost) {
    Bytes frame = kPlain;
    frame[2] = 0xFF;  // ID 0x7F and no half synchronisation behind it
    const auto u = unframed({kFull, frame, kPlain, kFull, kPlain});
    EXPECT_EQ(u.breaks.size(), 1U);
    EXPECT_EQ(u.bytes.size(), 14U) << "only the frame behind the second synchronisation";
}

TEST(Formatter, TheWayTheBytesAreCutMakesNoDifference) {
    const std::vector<Bytes> parts = {{1, 2}, kFull, kPlain, kHalf, kPlain, kFull, {id(1), 5, 0xFF}, kFull, kPlain};
    const auto whole = unframed(parts);
    for (std::size_t step = 1; step < 40; ++step) {
        const auto u = unframed(parts, 1, false, step);
        EXPECT_EQ(u.bytes, whole.bytes);
        EXPECT_EQ(u.counts.lost_bytes, whole.counts.lost_bytes);
    }
}

}  // namespace
}  // namespace mt
