// Every packet of the ITM and DWT protocol from bytes written by hand. The remark behind each line says
// which paragraph of the Armv7-M manual's appendix D4 (or Armv8-M F1) the bytes follow.
#include "wire/itm.h"

#include <gtest/gtest.h>

#include <random>

#include "base/text.h"
#include "support.h"

namespace mt {
namespace {

using Bytes = std::vector<std::uint8_t>;
const Bytes kSync = {0x00, 0x00, 0x00, 0x00, 0x00, 0x80};  // D4.2.1

Bytes operator+(Bytes a, const Bytes& b) {
    a.insert(a.end(), b.begin(), b.end());
    return a;
}

std::vector<ItmPacket> decoded(const Bytes& bytes, ItmDecoder::Start start = ItmDecoder::Start::at_sync) {
    ItmDecoder decoder(start);
    std::vector<ItmPacket> out;
    decoder.feed(bytes, out);
    decoder.finish(out);
    return out;
}

// The one packet behind a synchronisation.
ItmPacket one(const Bytes& bytes) {
    const auto packets = decoded(kSync + bytes);
    EXPECT_EQ(packets.size(), 2U) << "the synchronisation and one packet";
    EXPECT_EQ(packets.back().length, bytes.size());
    EXPECT_EQ(packets.back().offset, 6U);
    return packets.size() == 2 ? packets.back() : ItmPacket{};
}

// `bytes` must not end in a zero: it would count as one of the synchronisation behind.
void expect_damage(const Bytes& bytes, ItmDamage reason) {
    const auto packets = decoded(kSync + bytes + kSync);
    ASSERT_EQ(packets.size(), 3U) << hex_text(bytes[0], 2);
    EXPECT_EQ(packets[1].kind, ItmKind::damage);
    EXPECT_EQ(packets[1].number, static_cast<unsigned>(reason));
    EXPECT_EQ(packets[1].length, bytes.size());
}

TEST(ItmPackets, SynchronisationIsFiveZerosAndEighty) {
    const auto packets = decoded(kSync);
    ASSERT_EQ(packets.size(), 1U);
    EXPECT_EQ(packets[0].kind, ItmKind::sync);
    EXPECT_EQ(packets[0].length, 6U);
}

TEST(ItmPackets, SynchronisationMayHaveMoreZeros) {
    const auto packets = decoded({0, 0, 0, 0, 0, 0, 0, 0, 0, 0x80});
    ASSERT_EQ(packets.size(), 1U);
    EXPECT_EQ(packets[0].length, 10U);
}

TEST(ItmPackets, Overflow) { EXPECT_EQ(one({0x70}).kind, ItmKind::overflow); }  // D4.2.3

TEST(ItmPackets, LocalTimestampFormat1CarriesItsRelation) {  // D4.2.4
    for (unsigned tc = 0; tc < 4; ++tc) {
        const auto p = one({static_cast<std::uint8_t>(0xC0 | tc << 4), 0x98, 0x0B});
        EXPECT_EQ(p.kind, ItmKind::local_time_1);
        EXPECT_EQ(p.value, 0x18U | 0x0BU << 7);
        EXPECT_EQ(p.number, tc);
    }
}

TEST(ItmPackets, LocalTimestampFormat1ReachesTwentyEightBits) {
    EXPECT_EQ(one({0xC0, 0xFF, 0xFF, 0xFF, 0x7F}).value, (1U << 28) - 1);
}

TEST(ItmPackets, LocalTimestampFormat2IsOneToSixTicks) {
    for (unsigned ticks = 1; ticks <= 6; ++ticks) {
        const auto p = one({static_cast<std::uint8_t>(ticks << 4)});
        EXPECT_EQ(p.kind, ItmKind::local_time_2);
        EXPECT_EQ(p.value, ticks);
    }
}

TEST(ItmPackets, GlobalTimestampFormat1WithWrapAndClockChange) {  // D4.2.5
    const auto p = one({0x94, 0x81, 0x82, 0x83, 0x64});           // fourth byte: Wrap, ClkCh, bits 25:21 = 4
    EXPECT_EQ(p.kind, ItmKind::global_time_1);
    EXPECT_EQ(p.value, 1U | 2U << 7 | 3U << 14 | 4U << 21);
    EXPECT_EQ(p.number, 3U);
    EXPECT_EQ(one({0x94, 0x05}).value, 5U) << "upper bytes that did not change are left out";
    EXPECT_EQ(one({0x94, 0x05}).size, 1U) << "so that the reader knows which";
    EXPECT_EQ(one({0x94, 0x80, 0x80, 0x80, 0x20}).number, 1U) << "clock changed only";
    EXPECT_EQ(one({0x94, 0x80, 0x80, 0x80, 0x40}).number, 2U) << "wrapped only";
}

TEST(ItmPackets, GlobalTimestampFormat2OfFortyEightAndSixtyFourBits) {
    EXPECT_EQ(one({0xB4, 0xC8, 0x80, 0x80, 0x01}).value, 0x48U | 1U << 21);
    EXPECT_EQ(one({0xB4, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0x07}).value, (std::uint64_t{1} << 38) - 1);
}

TEST(ItmPackets, PortsOfOneTwoAndFourBytes) {  // D4.2.8
    auto p = one({0xF9, 0x01});
    EXPECT_EQ(p.kind, ItmKind::port);
    EXPECT_EQ(p.number, 31U);
    EXPECT_EQ(p.value, 1U);
    p = one({0x4A, 0x34, 0x12});
    EXPECT_EQ(p.number, 9U);
    EXPECT_EQ(p.size, 2U);
    EXPECT_EQ(p.value, 0x1234U);
    p = one({0x03, 0x78, 0x56, 0x34, 0x12});
    EXPECT_EQ(p.number, 0U);
    EXPECT_EQ(p.value, 0x12345678U);
}

TEST(ItmPackets, APageReachesPorts32To255) {  // D4.2.6
    const auto packets = decoded(kSync + Bytes{0x78, 0x09, 0xAA} + Bytes{0x08, 0x09, 0xBB});
    ASSERT_EQ(packets.size(), 5U);
    EXPECT_EQ(packets[1].kind, ItmKind::page);
    EXPECT_EQ(packets[1].number, 7U);
    EXPECT_EQ(packets[2].number, 7U * 32 + 1);
    EXPECT_EQ(packets[4].number, 1U) << "page 0 again";
}

TEST(ItmPackets, OtherExtensionsKeepTheirValueAndSource) {
    auto p = one({0x1C});  // hardware source, EX = 1, no further byte
    EXPECT_EQ(p.kind, ItmKind::extension);
    EXPECT_EQ(p.number, 1U);
    EXPECT_EQ(p.value, 1U);
    p = one({0x98, 0x21});  // instrumentation source with one more byte: EX[9:3]
    EXPECT_EQ(p.kind, ItmKind::extension);
    EXPECT_EQ(p.value, 1U | 0x21U << 3);
    p = one({0xFC, 0xFF, 0xFF, 0xFF, 0xFF});  // all 32 bits: the last byte has eight
    EXPECT_EQ(p.value, 0xFFFFFFFFU);
}

TEST(ItmPackets, EventCounters) {  // D4.3.1
    const auto p = one({0x05, 0x21});
    EXPECT_EQ(p.kind, ItmKind::counter);
    EXPECT_EQ(itm_detail(p), "CPI, cycle counter wrapped");
}

TEST(ItmPackets, ExceptionEnteredLeftAndReturnedTo) {  // D4.3.2
    auto p = one({0x0E, 0x0B, 0x10});
    EXPECT_EQ(p.kind, ItmKind::exc_enter);
    EXPECT_EQ(p.number, 11U);
    p = one({0x0E, 0x2C, 0x21});
    EXPECT_EQ(p.kind, ItmKind::exc_exit);
    EXPECT_EQ(p.number, 0x12CU) << "nine bits";
    p = one({0x0E, 0x00, 0x30});
    EXPECT_EQ(p.kind, ItmKind::exc_return);
    EXPECT_EQ(p.number, 0U);
}

TEST(ItmPackets, ProgramCounterSamplesAndSleep) {  // D4.3.3
    const auto p = one({0x17, 0x46, 0x09, 0x00, 0x08});
    EXPECT_EQ(p.kind, ItmKind::pc);
    EXPECT_EQ(p.value, 0x08000946U);
    EXPECT_EQ(one({0x15, 0x00}).kind, ItmKind::sleep);
    EXPECT_EQ(one({0x15, 0xFF}).kind, ItmKind::pc_prohibited);  // F1
}

TEST(ItmPackets, DataTraceOfAllFourComparators) {  // D4.3.4
    for (unsigned c = 0; c < 4; ++c) {
        const auto header = [&](unsigned base) { return static_cast<std::uint8_t>(base | c << 4); };
        auto p = one({header(0x47), 0x10, 0x20, 0x00, 0x08});
        EXPECT_EQ(p.kind, ItmKind::data_pc);
        EXPECT_EQ(p.number, c);
        EXPECT_EQ(p.value, 0x08002010U);
        p = one({header(0x4E), 0x06, 0xFE});
        EXPECT_EQ(p.kind, ItmKind::data_offset);
        EXPECT_EQ(p.value, 0xFE06U);
        p = one({header(0x85), 0x7F});
        EXPECT_EQ(p.kind, ItmKind::data_read);
        EXPECT_EQ(p.size, 1U);
        p = one({header(0x8E), 0x34, 0x12});
        EXPECT_EQ(p.kind, ItmKind::data_write);
        EXPECT_EQ(p.number, c);
        EXPECT_EQ(p.value, 0x1234U);
        EXPECT_EQ(one({header(0x8F), 1, 0, 0, 0}).size, 4U);
        EXPECT_EQ(one({header(0x45), 0x01}).kind, ItmKind::data_match);  // F1
    }
}

TEST(ItmPackets, PerformanceCounterOverflow) {
    EXPECT_EQ(one({0x1D, 0x81}).kind, ItmKind::pmu_overflow);
}  // F1, v8.1-M

TEST(ItmDamage, ReservedHeadersAreGivenUpToTheNextSynchronisation) {
    for (const std::uint8_t header :
         {0x04, 0x14, 0x24, 0x34, 0x44, 0x54, 0x64, 0x74, 0x84, 0xA4, 0xD4, 0xF4,  // D4.2.5: no other global timestamp
          0x80, 0x90, 0xA0, 0xB0,                                                  // D4.2.4: bit 7 without bit 6
          0x25, 0x2E, 0x37, 0x3F, 0xC5, 0xF7, 0xFE})                               // D4.3: reserved discriminators
        expect_damage({header, 0x11, 0x22}, ItmDamage::reserved_header);
}

TEST(ItmDamage, ImpossiblePayloads) {
    expect_damage({0x0E, 0x0B, 0x00, 0x55}, ItmDamage::bad_exception);     // function 0 is reserved
    expect_damage({0x0E, 0x0B, 0x50}, ItmDamage::bad_exception);           // bits that must be zero
    expect_damage({0x0E, 0x00, 0x10}, ItmDamage::bad_exception);           // thread mode cannot be entered
    expect_damage({0x0E, 0x08, 0x10}, ItmDamage::bad_exception);           // exception 8 does not exist
    expect_damage({0x17, 0x01, 0x00, 0x00, 0x08}, ItmDamage::bad_sample);  // an odd program counter
    expect_damage({0x15, 0x07}, ItmDamage::bad_sample);
    expect_damage({0x05, 0x00, 0x55}, ItmDamage::bad_counter);  // a counter packet without a counter
    expect_damage({0xC0, 0xFF, 0xFF, 0xFF, 0xFF}, ItmDamage::bad_timestamp);
    expect_damage({0x94, 0xFF, 0xFF, 0xFF, 0xFF}, ItmDamage::bad_timestamp);
    expect_damage({0xB4, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF}, ItmDamage::bad_timestamp);
    expect_damage({0x00, 0x00, 0x00, 0x17}, ItmDamage::bad_sync);  // too few zeros
}

TEST(ItmDamage, GarbageBeforeTheFirstSynchronisationIsOneGap) {
    const auto packets = decoded(Bytes{0x12, 0x99, 0xFE} + kSync + Bytes{0x70});
    ASSERT_EQ(packets.size(), 3U);
    EXPECT_EQ(packets[0].kind, ItmKind::damage);
    EXPECT_EQ(packets[0].length, 3U);
    EXPECT_EQ(packets[0].number, static_cast<unsigned>(ItmDamage::no_sync_yet));
    EXPECT_EQ(packets[2].kind, ItmKind::overflow);
}

TEST(ItmDamage, APacketCutByTheEndIsReported) {
    const auto packets = decoded(kSync + Bytes{0x17, 0x46, 0x09});
    ASSERT_EQ(packets.size(), 2U);
    EXPECT_EQ(packets[1].kind, ItmKind::damage);
    EXPECT_EQ(packets[1].number, static_cast<unsigned>(ItmDamage::cut_short));
    EXPECT_EQ(packets[1].length, 3U);
}

TEST(ItmDamage, WithoutAnySynchronisationOneByteIsGivenUp) {
    const auto packets = decoded({0x01, 'h', 0x04, 0x01, 'i'}, ItmDecoder::Start::at_once);
    ASSERT_EQ(packets.size(), 3U);
    EXPECT_EQ(packets[0].value, 'h');
    EXPECT_EQ(packets[1].kind, ItmKind::damage);
    EXPECT_EQ(packets[2].value, 'i');
}

TEST(ItmDecoder, TheWayTheBytesAreCutMakesNoDifference) {
    Bytes all = kSync;
    for (const Bytes& p :
         {Bytes{0x0E, 0x10, 0x10}, Bytes{0xC0, 0x98, 0x0B}, Bytes{0xB4, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0x07},
          Bytes{0x17, 2, 0, 0, 8}, kSync, Bytes{0x04}, Bytes{0x33, 0x44}, kSync, Bytes{0x98, 0x21},
          Bytes{0x03, 1, 2, 3, 4}, Bytes{0, 0, 0}, Bytes{0x15, 0x00}, kSync, Bytes{0x8F, 1, 2}})
        all = all + p;
    const auto whole = decoded(all);
    for (std::size_t step = 1; step < all.size(); ++step) {
        ItmDecoder decoder;
        std::vector<ItmPacket> out;
        for (std::size_t at = 0; at < all.size(); at += step)
            decoder.feed(std::span(all).subspan(at, std::min(step, all.size() - at)), out);
        decoder.finish(out);
        ASSERT_EQ(out.size(), whole.size()) << "in steps of " << step;
        for (std::size_t i = 0; i < out.size(); ++i) {
            EXPECT_EQ(out[i].kind, whole[i].kind);
            EXPECT_EQ(out[i].offset, whole[i].offset);
            EXPECT_EQ(out[i].length, whole[i].length);
            EXPECT_EQ(out[i].value, whole[i].value);
        }
    }
}

TEST(ItmDecoder, EveryByteIsAccountedForWhateverComes) {
    std::mt19937 random(7);
    for (int round = 0; round < 300; ++round) {
        Bytes bytes(std::uniform_int_distribution<std::size_t>(0, 400)(random));
        for (auto& b : bytes) b = static_cast<std::uint8_t>(random() % 5 == 0 ? 0 : random());
        if (round % 3 == 0) bytes = kSync + bytes;
        std::uint64_t covered = 0;
        for (const auto& p : decoded(bytes, round % 2 == 0 ? ItmDecoder::Start::at_sync : ItmDecoder::Start::at_once)) {
            EXPECT_EQ(p.offset, covered) << "no byte twice, none left out";
            covered += p.length;
        }
        EXPECT_EQ(covered, bytes.size());
    }
}

}  // namespace
}  // namespace mt
