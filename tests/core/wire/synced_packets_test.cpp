// PFT and ETMv3 packets made as the architecture specifications lay them out (IHI 0035B, chapter 4; IHI 0014Q, chapter 7).
#include <gtest/gtest.h>

#include <random>

#include "wire/etm3.h"
#include "wire/pft.h"

namespace mt {
namespace {

using Bytes = std::vector<std::uint8_t>;
const Bytes kFiveZeros = {0, 0, 0, 0, 0, 0x80};  // 4.3.1, 7.4.5

template <class Decoder, class Packet>
std::vector<Packet> all_of(Decoder decoder, const Bytes& bytes, std::size_t piece = 0) {
    std::vector<Packet> out;
    if (piece == 0) piece = std::max<std::size_t>(1, bytes.size());
    for (std::size_t at = 0; at < bytes.size(); at += piece)
        decoder.feed(std::span(bytes).subspan(at, std::min(piece, bytes.size() - at)), out);
    decoder.finish(out);
    return out;
}
Bytes put_together(std::initializer_list<Bytes> parts) {
    Bytes all;
    for (const Bytes& p : parts) all.insert(all.end(), p.begin(), p.end());
    return all;
}
/// Behind a synchronisation and the address 0x8000 in A32 (PFT), which are taken off again.
std::vector<PftPacket> pft(const Bytes& bytes, PftParameters k = {}) {
    Bytes isync = {0x08, 0x00, 0x80, 0x00, 0x00, 0x01};
    isync.insert(isync.end(), k.context_id_bytes, 0);
    auto p = all_of<PftDecoder, PftPacket>(PftDecoder(k), put_together({kFiveZeros, isync, bytes}));
    EXPECT_EQ(p.at(1).kind, PftKind::isync);
    EXPECT_EQ(p.at(1).address, 0x8000U);
    p.erase(p.begin(), p.begin() + 2);
    return p;
}
std::vector<Etm3Packet> etm3(const Bytes& bytes, Etm3Parameters k = {}, bool m_profile = false) {
    Bytes isync = {0x08};
    isync.insert(isync.end(), k.context_id_bytes, 0);
    isync = put_together({isync, {0x01, static_cast<std::uint8_t>(m_profile ? 1 : 0), 0x80, 0x00, 0x00}});
    auto p = all_of<Etm3Decoder, Etm3Packet>(Etm3Decoder(k, m_profile), put_together({kFiveZeros, isync, bytes}));
    EXPECT_EQ(p.at(1).kind, Etm3Kind::isync);
    EXPECT_EQ(p.at(1).address, 0x8000U);
    p.erase(p.begin(), p.begin() + 2);
    return p;
}
template <class P>
std::string atoms_text(const P& p) {
    std::string s;
    for (unsigned i = 0; i < p.count; ++i) s += (p.atoms >> i & 1) != 0 ? 'E' : 'N';
    return s;
}

TEST(PftPackets, AtomsTellOneToFiveWaypointsTheOldestHighest) {  // 4.3.3
    const auto p = pft({0x80, 0x82, 0x88, 0x8A, 0x8C, 0x90, 0x92, 0xA0, 0xB0, 0xC0, 0xE0, 0xFE});
    const std::vector<std::string> expected = {"E", "N", "EE", "EN", "NE", "EEE", "EEN", "EEEE", "NEEE", "EEEEE", "NEEEE", "NNNNN"};
    ASSERT_EQ(p.size(), expected.size());
    for (std::size_t i = 0; i < p.size(); ++i) EXPECT_EQ(atoms_text(p[i]), expected[i]) << i;
}

TEST(PftPackets, BranchAddressesKeepTheirUpperBits) {  // 4.3.4
    const auto p = pft({0x11,                                // one byte: bits 7 to 2
                        0x91, 0x02,                          // two
                        0xFF, 0xFF, 0xFF, 0xFF, 0x0B,        // five, A32
                        0x81, 0x80, 0x80, 0x80, 0x14,        // five, Thumb
                        0x05});                              // one in Thumb: bits 6 to 1
    ASSERT_EQ(p.size(), 5U);
    EXPECT_EQ(p[0].address, 0x8020U);
    EXPECT_EQ(p[1].address, 0x8220U);
    EXPECT_EQ(p[2].address, 0x7FFF'FFFCU);
    EXPECT_EQ(p[2].set, PftPacket::Set::arm);
    EXPECT_EQ(p[3].address, 0x4000'0000U);
    EXPECT_EQ(p[3].set, PftPacket::Set::thumb);
    EXPECT_EQ(p[4].address, 0x4000'0004U);
    EXPECT_EQ(p[4].set, PftPacket::Set::thumb) << "the set stays where it is not told";
}

TEST(PftPackets, ExceptionsStandBehindTheAddress) {  // 4.3.5
    const auto p = pft({0x8D, 0x40, 0x1C,                    // two bytes of address, IRQ
                        0x81, 0x80, 0x80, 0x80, 0x48, 0x95, 0x20,  // five, SVC, non-secure, of a hypervisor
                        0x11});
    ASSERT_EQ(p.size(), 3U);
    EXPECT_EQ(p[0].exception, 14);
    EXPECT_EQ(p[1].exception, 10);
    EXPECT_TRUE(p[1].non_secure);
    EXPECT_TRUE(p[1].hypervisor);
    EXPECT_EQ(p[2].exception, PftPacket::kNone);
}

TEST(PftPackets, CycleCountsStandInAtomsAndBehindBranchesSynchronisationsAndTimestamps) {  // 4.3.8
    PftParameters k;
    k.cycle_accurate = true;
    const auto p = pft({0x8C, 0xC2, 0x81, 0x01, 0x11, 0x3C, 0x08, 0x01, 0x80, 0, 0, 0x41, 0x44, 0x02, 0x42, 0x05, 0x08}, k);
    ASSERT_EQ(p.size(), 5U);
    EXPECT_EQ(atoms_text(p[0]), "E");
    EXPECT_EQ(p[0].cycles, 3U);
    EXPECT_EQ(atoms_text(p[1]), "N");
    EXPECT_EQ(p[1].cycles, 0x810U) << "four bits, then seven, then seven";
    EXPECT_EQ(p[2].cycles, 15U);
    EXPECT_EQ(p[3].reason, PftPacket::Reason::overflow);
    EXPECT_EQ(p[3].cycles, 0x21U);
    EXPECT_EQ(p[4].value, 5U);
    EXPECT_EQ(p[4].cycles, 2U);
}

TEST(PftPackets, ContextsTimesAndTheRestAreRead) {  // 4.3.6, 4.3.7, 4.3.9 to 4.3.12
    PftParameters k;
    k.context_id_bytes = 4;
    const auto p = pft({0x6E, 0x78, 0x56, 0x34, 0x12, 0x3C, 0x07, 0x42, 0x85, 0x01, 0x46, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF,
                        0x42, 0x00, 0x76, 0x0C, 0x66, 0x72, 0x91, 0x02},
                       k);
    ASSERT_EQ(p.size(), 9U);
    EXPECT_EQ(p[0].value, 0x1234'5678U);
    EXPECT_EQ(p[1].kind, PftKind::virtual_machine);
    EXPECT_EQ(p[1].value, 7U);
    EXPECT_EQ(p[2].value, 0x85U);
    EXPECT_EQ(p[3].value, ~std::uint64_t{0});
    EXPECT_EQ(p[4].value, ~std::uint64_t{0x7F}) << "the upper bits stay";
    EXPECT_EQ(p[5].kind, PftKind::exception_return);
    EXPECT_EQ(p[6].kind, PftKind::trigger);
    EXPECT_EQ(p[7].kind, PftKind::ignore);
    EXPECT_EQ(p[8].kind, PftKind::waypoint);
    EXPECT_EQ(p[8].address, 0x8220U);
}

TEST(Etm3Packets, PHeadersTellInstructionsWithAndWithoutTheirCondition) {  // 7.4.2
    const auto p = etm3({0x84, 0xBC, 0xC0, 0xC8, 0x82, 0x86, 0x8A, 0x8E});
    const std::vector<std::string> expected = {"E", "EEEEEEEEEEEEEEE", "N", "EEN", "EE", "EN", "NE", "NN"};
    ASSERT_EQ(p.size(), expected.size());
    for (std::size_t i = 0; i < p.size(); ++i) EXPECT_EQ(atoms_text(p[i]), expected[i]) << i;
    Etm3Parameters k;
    k.cycle_accurate = true;
    const auto c = etm3({0x80, 0x88, 0xC4, 0x86, 0x92, 0x96, 0xA8, 0xE0}, k);
    const std::vector<std::pair<std::string, unsigned>> cycles = {{"", 1}, {"EE", 2}, {"EN", 2}, {"EN", 1}, {"E", 0}, {"N", 0}, {"", 3}, {"E", 1}};
    ASSERT_EQ(c.size(), cycles.size());
    for (std::size_t i = 0; i < c.size(); ++i) {
        EXPECT_EQ(atoms_text(c[i]), cycles[i].first) << i;
        EXPECT_EQ(c[i].cycles, cycles[i].second) << i;
    }
}

TEST(Etm3Packets, BothEncodingsOfBranchAddressesAreRead) {  // 7.4.3
    Etm3Parameters first, second;
    first.alternative_branch = false;
    const auto a = etm3({0x91, 0x42, 0x81, 0x80, 0x80, 0x80, 0x08, 0x81, 0x80, 0x80, 0x80, 0x8A}, first);
    ASSERT_EQ(a.size(), 3U);
    EXPECT_EQ(a[0].address, 0x8000U | 0x42U << 8 | 0x20U) << "seven bits in each byte, bit 6 is one of them";
    EXPECT_EQ(a[1].address, 0U);
    EXPECT_EQ(a[2].exception, 14) << "the first encoding of exceptions: IRQ";
    const auto b = etm3({0x91, 0x02, 0x91, 0x42, 0x1C, 0x81, 0x80, 0x80, 0x80, 0x48, 0x34}, second);
    ASSERT_EQ(b.size(), 3U);
    EXPECT_EQ(b[0].address, 0x8220U);
    EXPECT_EQ(b[0].exception, Etm3Packet::kNone);
    EXPECT_EQ(b[1].address, 0x8220U);
    EXPECT_EQ(b[1].exception, 14) << "bit 6 of the last byte says that it follows";
    EXPECT_EQ(b[2].exception, 10);
    EXPECT_TRUE(b[2].cancels);
}

TEST(Etm3Packets, MProfileExceptionsHaveNineBits) {  // 7.4.4
    const auto p = etm3({0x91, 0x42, 0x90, 0x01, 0x91, 0x42, 0xBE, 0x82, 0x05}, {}, true);
    ASSERT_EQ(p.size(), 2U);
    EXPECT_EQ(p[0].exception, 24);
    EXPECT_EQ(etm3_exception_number(24), 24);
    EXPECT_EQ(p[1].exception, 15 | 2 << 4);
    EXPECT_TRUE(p[1].cancels) << "and how far a load of several had come, which tells nothing of the flow";
    EXPECT_EQ(etm3_exception_number(8), 16);
    EXPECT_EQ(etm3_exception_number(1), 17);
    EXPECT_EQ(etm3_exception_number(9), 6);
    EXPECT_EQ(etm3_exception_number(21), 5);
    EXPECT_EQ(etm3_exception_number(16), -1);
}

TEST(Etm3Packets, SynchronisationsHaveContextCyclesAndWhereALoadGoesOn) {  // 7.4.6
    Etm3Parameters k;
    k.context_id_bytes = 2;
    const auto p = etm3({0x70, 0x85, 0x01, 0x34, 0x12, 0x61, 0x00, 0x90, 0, 0, 0x08, 0x34, 0x12, 0x81, 0x00, 0x90, 0, 0, 0x91, 0x02}, k);
    ASSERT_EQ(p.size(), 2U);
    EXPECT_EQ(p[0].cycles, 0x85U);
    EXPECT_EQ(p[0].value, 0x1234U);
    EXPECT_EQ(p[0].reason, Etm3Packet::Reason::debug_exit);
    EXPECT_EQ(p[0].address, 0x9000U);
    EXPECT_TRUE(p[1].has_start);
    EXPECT_EQ(p[1].start, 0x9000U);
    EXPECT_EQ(p[1].address, 0x8220U) << "the bits above stay as they are there";
}

TEST(Etm3Packets, DataIsReadWithItsAddressAndNeverTakenForInstructions) {  // 7.4.8
    Etm3Parameters k;
    k.data_address = k.data_value = true;
    const auto p = etm3({0x2E, 0x80, 0x02, 0x78, 0x56, 0x34, 0x12,  // with an address, four bytes
                         0x26, 0x04, 0xAB,                          // its lowest bits alone, one byte
                         0x0A, 0xCD, 0xAB,                          // no address, two bytes
                         0x02,                                      // the value is 0
                         0x50, 0x62, 0x84},
                        k);
    ASSERT_EQ(p.size(), 7U);
    EXPECT_EQ(p[0].address, 0x100U);
    EXPECT_EQ(p[0].value, 0x1234'5678U);
    EXPECT_EQ(p[1].address, 0x104U);
    EXPECT_EQ(p[1].value, 0xABU);
    EXPECT_EQ(p[2].value, 0xABCDU);
    EXPECT_FALSE(p[2].has_address);
    EXPECT_EQ(p[3].value, 0U);
    EXPECT_EQ(p[4].kind, Etm3Kind::data);
    EXPECT_EQ(p[6].kind, Etm3Kind::atoms);
}

TEST(SyncedPackets, WhatIsNoPacketIsGivenUpToTheNextSynchronisation) {
    const Bytes isync = {0x08, 0x00, 0x80, 0x00, 0x00, 0x01};
    const Bytes stream = put_together({{0x13, 0x37}, kFiveZeros, isync, {0x80, 0x02, 0xC0}, kFiveZeros, isync, {0x80}});
    const auto p = all_of<PftDecoder, PftPacket>(PftDecoder({}), stream);
    ASSERT_EQ(p.size(), 8U);
    EXPECT_EQ(p[0].kind, PftKind::damage);
    EXPECT_EQ(p[0].length, 2U);
    EXPECT_EQ(p[3].kind, PftKind::atoms);
    EXPECT_EQ(p[4].kind, PftKind::damage);
    EXPECT_EQ(p[4].length, 2U) << "the reserved header and what it hides";
    EXPECT_EQ(p[5].kind, PftKind::async);
    EXPECT_EQ(p[7].kind, PftKind::atoms);
}

TEST(SyncedPackets, TheSameComesOutInAnyPiecesAndOfAnyBytes) {
    std::mt19937 random(4);
    for (int turn = 0; turn < 60; ++turn) {
        Bytes bytes;
        for (int i = 0; i < 3; ++i) {
            bytes = put_together({bytes, kFiveZeros, {0x08, 0x00, 0x80, 0x00, 0x00, 0x01, 0x00, 0x00}});
            for (int n = 0; n < 60; ++n) bytes.push_back(static_cast<std::uint8_t>(random() % 3 == 0 ? random() : random() | 0x81));
        }
        PftParameters k;
        k.cycle_accurate = turn % 2 == 0;
        k.context_id_bytes = 2;
        const auto whole = all_of<PftDecoder, PftPacket>(PftDecoder(k), bytes), pieces = all_of<PftDecoder, PftPacket>(PftDecoder(k), bytes, 1 + turn % 7);
        ASSERT_EQ(whole.size(), pieces.size()) << turn;
        std::uint64_t at = 0;
        for (std::size_t i = 0; i < whole.size(); ++i) {
            EXPECT_EQ(whole[i].kind, pieces[i].kind);
            EXPECT_EQ(whole[i].offset, at) << "each byte belongs to one packet";
            at += whole[i].length;
            EXPECT_EQ(pft_detail(whole[i]), pft_detail(pieces[i]));
        }
        EXPECT_EQ(at, bytes.size());
        Etm3Parameters e;
        e.cycle_accurate = turn % 2 == 0;
        e.data_address = e.data_value = turn % 3 == 0;
        const auto of3 = all_of<Etm3Decoder, Etm3Packet>(Etm3Decoder(e, turn % 5 == 0), bytes);
        const auto in3 = all_of<Etm3Decoder, Etm3Packet>(Etm3Decoder(e, turn % 5 == 0), bytes, 1 + turn % 5);
        ASSERT_EQ(of3.size(), in3.size()) << turn;
        for (std::size_t i = 0; i < of3.size(); ++i) EXPECT_EQ(etm3_detail(of3[i]), etm3_detail(in3[i]));
    }
}

// Each atom with the place of its packet, and where other packets stand.
template <class Decoder, class Packet>
std::vector<std::pair<std::uint64_t, int>> atoms_and_places(Decoder decoder, const Bytes& bytes, bool together, std::uint64_t& packets) {
    std::vector<Packet> part;
    std::vector<std::pair<std::uint64_t, int>> all;
    packets = 0;
    const auto take = [&] {
        for (const Packet& p : part) {
            packets += p.packets();
            if (p.kind != decltype(p.kind)::atoms) all.emplace_back(p.offset, -1);
            for (std::uint32_t i = 0; p.kind == decltype(p.kind)::atoms && i < p.count; ++i)
                all.emplace_back(p.offset_of(i), static_cast<int>(p.atoms >> i & 1));
        }
        part.clear();
    };
    together ? decoder.feed(bytes, part, take) : decoder.feed(bytes, part);
    decoder.finish(part);
    take();
    return all;
}

TEST(SyncedPackets, AtomsToldTogetherAreTheSameAsOneByOne) {
    std::mt19937 random(11);
    Bytes bytes = put_together({kFiveZeros, {0x08, 0x00, 0x80, 0x00, 0x00, 0x01}}), of3 = put_together({kFiveZeros, {0x08, 0x01, 0x00, 0x80, 0x00, 0x00}});
    for (int i = 0; i < 3'000; ++i) {
        const bool atoms = random() % 12 != 0;
        bytes.push_back(atoms ? static_cast<std::uint8_t>(0x80 | (random() & 0x7E)) : 0x66);
        of3.push_back(atoms ? static_cast<std::uint8_t>(random() % 3 == 0 ? 0x82 | (random() & 0x0C) : 0x84 | (random() & 0x7C)) : 0x66);
    }
    std::uint64_t packets = 0, singly = 0;
    EXPECT_EQ((atoms_and_places<PftDecoder, PftPacket>(PftDecoder({}), bytes, true, packets)),
              (atoms_and_places<PftDecoder, PftPacket>(PftDecoder({}), bytes, false, singly)));
    EXPECT_EQ(packets, singly);
    EXPECT_GT(packets, 2'900U);
    EXPECT_EQ((atoms_and_places<Etm3Decoder, Etm3Packet>(Etm3Decoder({}, false), of3, true, packets)),
              (atoms_and_places<Etm3Decoder, Etm3Packet>(Etm3Decoder({}, false), of3, false, singly)));
    EXPECT_EQ(packets, singly);
    EXPECT_GT(packets, 2'900U);
}

}  // namespace
}  // namespace mt
