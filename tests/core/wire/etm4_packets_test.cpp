// ETMv4 packets made as the Arm Embedded Trace Macrocell Architecture Specification (IHI 0064), chapter 6, lays them
// out: what was written is read, and what is reserved is none.
#include <gtest/gtest.h>

#include <algorithm>
#include <deque>
#include <random>

#include "wire/etm4.h"

namespace mt {
namespace {

using Bytes = std::vector<std::uint8_t>;

const Bytes kEtm4Async = {0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x80};  // 6.4.1

std::vector<Etm4Packet> read_etm4(const Bytes& stream, Etm4Parameters k = {}, std::size_t piece = 0) {
    Etm4Decoder d(k);
    std::vector<Etm4Packet> out;
    if (piece == 0) piece = std::max<std::size_t>(stream.size(), 1);
    for (std::size_t at = 0; at < stream.size(); at += piece)
        d.feed(std::span(stream).subspan(at, std::min(piece, stream.size() - at)), out);
    d.finish(out);
    return out;
}

void append(Bytes& to, const Bytes& more) { to.insert(to.end(), more.begin(), more.end()); }

// Behind a synchronisation, which is taken off again.
std::vector<Etm4Packet> behind_async(const Bytes& bytes, Etm4Parameters k = {}) {
    Bytes stream = kEtm4Async;
    append(stream, bytes);
    auto p = read_etm4(stream, k);
    EXPECT_EQ(p.at(0).kind, Etm4Kind::async);
    p.erase(p.begin());
    return p;
}

// Seven bits a byte, the upper bit says that more follows (6.3).
Bytes continued(std::uint64_t v) {
    Bytes out;
    do {
        out.push_back(static_cast<std::uint8_t>((v & 0x7F) | (v > 0x7F ? 0x80 : 0)));
        v >>= 7;
    } while (v != 0);
    return out;
}

class Seeded : public testing::TestWithParam<std::uint32_t> {
  protected:
    unsigned any(unsigned below) { return static_cast<unsigned>(random_() % below); }
    std::mt19937_64 random_{GetParam()};
};

// 6.4.12: the three addresses sent last stand ready; any other is sent in as few of its bits as differ, or more.
class Etm4Addresses : public Seeded {
  protected:
    struct Address {
        std::uint64_t at = 0;
        bool thumb = false;
        bool operator==(const Address&) const = default;
    };
    Address next() {
        const Address& last = recent_[0];
        switch (any(5)) {
            case 0:
                return recent_[any(3)];
            case 1:
                return aligned({(last.at & ~0xFFULL) | any(0x100), last.thumb});
            case 2:
                return aligned({(last.at & ~0xFFFFULL) | any(0x10000), last.thumb});
            case 3:
                return aligned({(last.at & ~0xFFFF'FFFFULL) | (random_() & 0xFFFF'FFFF), any(2) != 0});
            default:
                return aligned({random_(), any(2) != 0});
        }
    }
    static Address aligned(Address a) {
        a.at &= a.thumb ? ~1ULL : ~3ULL;
        return a;
    }
    // Any form that can tell it. `form`: the header's lower four bits.
    Bytes written(const Address& a) {
        std::vector<Bytes> forms;
        for (unsigned i = 0; i < 3; ++i)
            if (recent_[i] == a) forms.push_back({static_cast<std::uint8_t>(0x90 + i)});
        const unsigned lowest = a.thumb ? 1 : 2;
        const auto header = [&](unsigned other, unsigned thumb) {
            return static_cast<std::uint8_t>(0x90 + (a.thumb ? thumb : other));
        };
        const auto same_above = [&](unsigned bits) { return (a.at >> bits) == (recent_[0].at >> bits); };
        if (same_above(lowest + 7)) forms.push_back({header(5, 6), static_cast<std::uint8_t>(a.at >> lowest & 0x7F)});
        if (same_above(lowest + 15))
            forms.push_back({header(5, 6), static_cast<std::uint8_t>(0x80 | (a.at >> lowest & 0x7F)),
                             static_cast<std::uint8_t>(a.at >> (lowest + 7))});
        const auto long_form = [&](unsigned bytes, std::uint8_t h) {
            Bytes b = {h, static_cast<std::uint8_t>(a.at >> lowest & 0x7F),
                       static_cast<std::uint8_t>(a.thumb ? a.at >> 8 & 0xFF : a.at >> 9 & 0x7F)};
            for (unsigned i = 2; i < bytes; ++i) b.push_back(static_cast<std::uint8_t>(a.at >> (8 * i)));
            return b;
        };
        if (same_above(32)) forms.push_back(long_form(4, header(10, 11)));
        forms.push_back(long_form(8, header(13, 14)));
        recent_ = {a, recent_[0], recent_[1]};
        return forms[any(static_cast<unsigned>(forms.size()))];
    }
    std::array<Address, 3> recent_{};
};

TEST_P(Etm4Addresses, AreReadInWhateverFormTheyAreSent) {
    Bytes stream = kEtm4Async;
    std::vector<Address> sent(400);
    for (Address& a : sent) append(stream, written(a = next()));
    for (const std::size_t piece : {std::size_t{0}, std::size_t{1}, std::size_t{7}}) {
        const auto p = read_etm4(stream, {}, piece);
        ASSERT_EQ(p.size(), sent.size() + 1) << "in pieces of " << piece;
        for (std::size_t i = 0; i < sent.size(); ++i) {
            ASSERT_EQ(p[i + 1].kind, Etm4Kind::address) << i;
            ASSERT_EQ(p[i + 1].address, sent[i].at) << i;
        }
    }
}
INSTANTIATE_TEST_SUITE_P(Seeds, Etm4Addresses, testing::Range(1u, 13u));

// 6.4.6: the lowest bits that are sent replace those of the timestamp before; nine bytes hold all 64.
class Etm4Timestamps : public Seeded {};
TEST_P(Etm4Timestamps, KeepTheBitsThatAreNotSent) {
    Bytes stream = kEtm4Async;
    std::vector<std::uint64_t> sent;
    std::vector<std::optional<std::uint64_t>> cycles;
    std::uint64_t now = 0;
    for (int i = 0; i < 300; ++i) {
        // Of what is above the byte sent last nothing may change.
        const unsigned bytes = 1 + any(9), bits = bytes == 9 ? 64 : 7 * bytes;
        const std::uint64_t mask = bits == 64 ? ~0ULL : (1ULL << bits) - 1;
        now = (now & ~mask) | (random_() & mask);
        const bool with_cycles = any(3) == 0;
        stream.push_back(with_cycles ? 0x03 : 0x02);
        for (unsigned k = 0; k < bytes; ++k)
            stream.push_back(
                static_cast<std::uint8_t>(k == 8 ? now >> 56 : (now >> (7 * k) & 0x7F) | (k + 1 < bytes ? 0x80u : 0u)));
        cycles.emplace_back();
        if (with_cycles) {
            cycles.back() = any(1u << 20);
            append(stream, continued(*cycles.back()));
        }
        sent.push_back(now);
    }
    for (const std::size_t piece : {std::size_t{0}, std::size_t{1}}) {
        const auto p = read_etm4(stream, {}, piece);
        ASSERT_EQ(p.size(), sent.size() + 1);
        for (std::size_t i = 0; i < sent.size(); ++i) {
            ASSERT_EQ(p[i + 1].kind, Etm4Kind::timestamp);
            ASSERT_EQ(p[i + 1].value, sent[i]) << i;
            EXPECT_EQ(p[i + 1].has_cycles, cycles[i].has_value());
            if (cycles[i]) {
                EXPECT_EQ(p[i + 1].count, *cycles[i]);
            }
        }
    }
}
INSTANTIATE_TEST_SUITE_P(Seeds, Etm4Timestamps, testing::Range(1u, 7u));

// 6.4.10: three formats; the count is what goes beyond the threshold, and format 1 may commit elements too.
class Etm4Cycles : public Seeded {};
TEST_P(Etm4Cycles, AddTheThreshold) {
    Etm4Parameters k;
    k.cycle_threshold = 1 + any(200);
    k.commit_in_cycles = any(2) != 0;
    Bytes stream = kEtm4Async;
    struct Sent {
        std::uint64_t cycles = 0;
        std::uint32_t commits = 0;
        bool known = true;
    };
    std::vector<Sent> sent(300);
    for (Sent& s : sent) {
        switch (any(4)) {
            case 0:  // format 1
                s.cycles = k.cycle_threshold + any(1u << 20);
                stream.push_back(0x0E);
                if (k.commit_in_cycles) append(stream, continued(s.commits = any(1000)));
                append(stream, continued(s.cycles - k.cycle_threshold));
                break;
            case 1:  // format 1, the counter was not running
                s.known = false;
                stream.push_back(0x0F);
                if (k.commit_in_cycles) append(stream, continued(s.commits = any(1000)));
                break;
            case 2: {  // format 2
                const unsigned more = any(16), commits = any(16);
                s.cycles = k.cycle_threshold + more;
                s.commits = k.commit_in_cycles ? commits + 1 : 0;
                stream.push_back(0x0C);
                stream.push_back(static_cast<std::uint8_t>(commits << 4 | more));
                break;
            }
            default: {  // format 3
                const unsigned more = any(4), commits = any(4);
                s.cycles = k.cycle_threshold + more;
                s.commits = k.commit_in_cycles ? commits + 1 : 0;
                stream.push_back(static_cast<std::uint8_t>(0x10 | commits << 2 | more));
            }
        }
    }
    const auto p = read_etm4(stream, k);
    ASSERT_EQ(p.size(), sent.size() + 1);
    for (std::size_t i = 0; i < sent.size(); ++i) {
        ASSERT_EQ(p[i + 1].kind, Etm4Kind::cycles) << i;
        EXPECT_EQ(p[i + 1].known, sent[i].known) << i;
        EXPECT_EQ(p[i + 1].count, sent[i].commits) << i;
        if (sent[i].known) {
            EXPECT_EQ(p[i + 1].value, sent[i].cycles) << i;
        }
    }
}
INSTANTIATE_TEST_SUITE_P(Seeds, Etm4Cycles, testing::Range(1u, 9u));

// 6.4.2: a control byte says which sections follow; addresses sent before are forgotten, and the threshold is set.
TEST(Etm4TraceInfo, SetsTheThresholdAndForgetsTheAddresses) {
    const auto p = behind_async({0x9B, 0x42, 0x81, 0x00, 0x08,  // an address
                                 0x01, 0x0D, 0x01, 0x03, 0x05,  // INFO, SPEC and CYCT: cycles on, 3 deep, threshold 5
                                 0x90,                          // the address sent last: none
                                 0x11});                        // format 3: one beyond the threshold
    ASSERT_EQ(p.size(), 4U);
    EXPECT_EQ(p[1].kind, Etm4Kind::trace_info);
    EXPECT_TRUE(p[1].has_cycles);
    EXPECT_EQ(p[1].count, 3U);
    EXPECT_EQ(p[2].address, 0U);
    EXPECT_EQ(p[3].value, 6U);
}

TEST(Etm4TraceInfo, OfAKeySectionOnlyTheLengthMatters) {
    const auto p = behind_async({0x01, 0x02, 0x85, 0x81, 0x01, 0xF7});
    ASSERT_EQ(p.size(), 2U);
    EXPECT_EQ(p[0].length, 5U);
    EXPECT_EQ(p[1].kind, Etm4Kind::atoms);
}

// 6.4.3, 6.4.8, 6.4.9: a byte each.
TEST(Etm4Packets, OfOneByteAreKnownByIt) {
    const auto p = behind_async({0x04, 0x07, 0x05});
    ASSERT_EQ(p.size(), 3U);
    EXPECT_EQ(p[0].kind, Etm4Kind::trace_on);
    EXPECT_EQ(p[1].kind, Etm4Kind::exception_return);
    EXPECT_EQ(p[2].kind, Etm4Kind::function_return);
}

// 6.4.7: every exception of Armv7-M and Armv8-M, with the address that is preferred to return to.
TEST(Etm4Exceptions, TellEveryNumberThereIs) {
    for (unsigned number = 1; number < 496; ++number) {
        const unsigned type = number < 16 ? number : number < 24 ? 0x10 + number - 16 : 0x208 + number - 24;
        for (const unsigned ends : {1u, 2u}) {
            Bytes b = {0x06, static_cast<std::uint8_t>((type & 31) << 1 | (ends & 1) | (ends & 2) << 5)};
            if (type > 31) {
                b[1] |= 0x80;
                b.push_back(static_cast<std::uint8_t>(type >> 5));
            }
            const auto p = behind_async(b);
            ASSERT_EQ(p.size(), 1U) << number;
            EXPECT_EQ(p[0].kind, Etm4Kind::exception);
            EXPECT_EQ(p[0].exception, type);
            EXPECT_EQ(p[0].ends, ends);
            EXPECT_EQ(etm4_exception_number(p[0].exception), static_cast<int>(number));
        }
    }
    EXPECT_EQ(etm4_exception_number(0), -1) << "a reset's or a debug halt's is none of these";
}

TEST(Etm4Exceptions, WithBothEndsAreReserved) {
    const auto p = behind_async({0x06, 0x43 | 0x06, 0xF7});
    ASSERT_EQ(p.size(), 1U);
    EXPECT_EQ(p[0].kind, Etm4Kind::damage);
}

// 6.4.11: the information byte says whether a VMID and a context ID follow, as wide as the trace unit makes them.
TEST(Etm4Contexts, AreAsWideAsTheTraceUnitMakesThem) {
    for (const unsigned vmid : {0u, 1u, 2u, 4u})
        for (const unsigned cid : {0u, 4u}) {
            Etm4Parameters k;
            k.virtual_id_bytes = vmid;
            k.context_id_bytes = cid;
            Bytes b = {0x81, static_cast<std::uint8_t>(0x01 | (vmid > 0 ? 0x40 : 0) | (cid > 0 ? 0x80 : 0))};
            for (unsigned i = 0; i < vmid; ++i) b.push_back(0xA0);
            if (cid > 0) append(b, {0x78, 0x56, 0x34, 0x12});
            append(b, {0x80, 0xF7});  // the same context once more, and an atom
            const auto p = behind_async(b, k);
            ASSERT_EQ(p.size(), 3U) << vmid << ", " << cid;
            EXPECT_EQ(p[0].kind, Etm4Kind::context);
            EXPECT_EQ(p[0].context_id, cid > 0 ? 0x1234'5678U : 0U);
            EXPECT_EQ(p[1].context_id, p[0].context_id);
            EXPECT_EQ(p[2].kind, Etm4Kind::atoms);
        }
}

// 6.4.13: all atoms of a byte, by its header; the patterns of formats 4 and 5 are single ones, format 6 is a run.
TEST(Etm4Atoms, OfFormatSixAreARunAndOneMore) {
    for (unsigned count = 0; count <= 20; ++count)
        for (const bool taken : {true, false}) {
            const auto p = behind_async({static_cast<std::uint8_t>((taken ? 0xC0 : 0xE0) + count)});
            ASSERT_EQ(p.size(), 1U);
            ASSERT_EQ(p[0].count, count + 4);
            for (unsigned i = 0; i < count + 3; ++i) EXPECT_NE(p[0].atoms >> i & 1, 0U);
            EXPECT_EQ(p[0].atoms >> (count + 3) & 1, taken ? 1U : 0U);
        }
}

// Told together or one by one, they are the same atoms at the same places.
TEST(Etm4Atoms, ToldTogetherAreTheSame) {
    std::mt19937 random(9);
    Bytes stream = kEtm4Async;
    for (int i = 0; i < 2'000; ++i)
        stream.push_back(static_cast<std::uint8_t>(random() % 10 == 0 ? 0x04 : 0xC0 + random() % 0x40));
    const auto flat = [](const std::vector<Etm4Packet>& packets) {
        std::vector<std::pair<std::uint64_t, int>> all;
        for (const Etm4Packet& p : packets) {
            if (p.kind != Etm4Kind::atoms) all.emplace_back(p.offset, -1);
            for (std::uint32_t i = 0; p.kind == Etm4Kind::atoms && i < p.count; ++i)
                all.emplace_back(p.offset_of(i), static_cast<int>(p.atoms >> i & 1));
        }
        return all;
    };
    Etm4Decoder d({});
    std::vector<Etm4Packet> part, together;
    d.feed(stream, part, [&] {
        together.insert(together.end(), part.begin(), part.end());
        part.clear();
    });
    d.finish(part);
    together.insert(together.end(), part.begin(), part.end());
    const auto single = read_etm4(stream);
    EXPECT_LT(together.size(), single.size());
    EXPECT_EQ(flat(together), flat(single));
}

// 6.4.14: instructions that were only counted, with where they led to or without.
TEST(Etm4Q, TellsACountWithAnAddressOrWithout) {
    const auto p = behind_async({0x9B, 0x42, 0x81, 0x00, 0x08,  // an address
                                 0xAC, 0x85, 0x01,              // a count only
                                 0xA6, 0x10, 0x07,              // a short address too
                                 0xA0, 0x03,                    // the address sent last
                                 0xAF});                        // not even a count
    ASSERT_EQ(p.size(), 5U);
    for (std::size_t i = 1; i < 5; ++i) EXPECT_EQ(p[i].kind, Etm4Kind::q) << i;
    EXPECT_EQ(p[1].value, 133U);
    EXPECT_FALSE(p[1].has_address);
    EXPECT_EQ(p[2].value, 7U);
    EXPECT_EQ(p[2].address, 0x0800'8120U);
    EXPECT_EQ(p[3].value, 3U);
    EXPECT_EQ(p[3].address, 0x0800'8120U);
    EXPECT_FALSE(p[4].known);
}

// Headers that no packet has (chapter 6, table of headers): damage up to the next synchronisation, and not beyond.
TEST(Etm4Damage, EveryReservedHeaderEndsWithTheNextSynchronisation) {
    Bytes reserved = {0x08, 0x09, 0x0A, 0x0B, 0x84, 0x93, 0x94, 0x97, 0x98, 0x99, 0x9C, 0x9F, 0xA3, 0xA4, 0xA7, 0xAD};
    for (unsigned h = 0x40; h < 0x70; ++h) reserved.push_back(static_cast<std::uint8_t>(h));
    for (unsigned h = 0x87; h < 0x90; ++h) reserved.push_back(static_cast<std::uint8_t>(h));
    for (unsigned h = 0xB0; h < 0xC0; ++h) reserved.push_back(static_cast<std::uint8_t>(h));
    for (const std::uint8_t header : reserved) {
        Bytes b = {0xF7, header, 0xF7, 0xF7, 0xF7, 0xF7, 0xF7, 0xF7, 0xF7, 0xF7};
        append(b, kEtm4Async);
        b.push_back(0xF6);
        const auto p = behind_async(b);
        ASSERT_EQ(p.size(), 4U) << std::hex << int{header};
        EXPECT_EQ(p[0].kind, Etm4Kind::atoms);
        EXPECT_EQ(p[1].kind, Etm4Kind::damage);
        EXPECT_EQ(p[1].offset, 13U);
        EXPECT_EQ(p[1].length, 9U);
        EXPECT_EQ(p[1].value, static_cast<std::uint64_t>(Etm4Damage::reserved));
        EXPECT_EQ(p[2].kind, Etm4Kind::async);
        EXPECT_EQ(p[3].kind, Etm4Kind::atoms);
    }
}

// 6.4.15 to 6.4.21: of any length, and nothing that the way depends on.
TEST(Etm4Conditional, PacketsAreReadWhereTheyAreOnAndChangeNothing) {
    Etm4Parameters k;
    k.conditional = true;
    const auto p = behind_async({0xF7, 0x6C, 0x85, 0x01, 0x41, 0x43, 0x6D, 0xF7, 0x44, 0x49, 0x4D, 0x53, 0xF7, 0x68, 0x85, 0x01, 0x02, 0x6E, 0x03, 0xF6}, k);
    ASSERT_EQ(p.size(), 12U);
    EXPECT_EQ(p.front().kind, Etm4Kind::atoms);
    EXPECT_EQ(p.back().kind, Etm4Kind::atoms);
    for (std::size_t i = 1; i + 1 < p.size(); ++i) EXPECT_EQ(p[i].kind, Etm4Kind::other) << i;
}

TEST(Etm4Context, TellsLevelProcessAndVirtualMachine) {  // 6.4.11
    Etm4Parameters k;
    k.context_id_bytes = 4;
    k.virtual_id_bytes = 1;
    const auto p = behind_async({0x81, 0xD1, 0x07, 0x44, 0x33, 0x22, 0x11, 0x81, 0x10, 0x80}, k);
    ASSERT_EQ(p.size(), 3U);
    EXPECT_EQ(p[0].level, 1);
    EXPECT_TRUE(p[0].has_virtual);
    EXPECT_EQ(p[0].virtual_id, 7U);
    EXPECT_EQ(p[0].context_id, 0x1122'3344U);
    EXPECT_EQ(p[1].level, 0);
    EXPECT_EQ(p[1].context_id, 0x1122'3344U) << "what is not told stays";
}

TEST(Etm4Damage, AlignmentWithTooFewZerosIsNone) {
    Bytes b = {0xF7};
    for (int i = 0; i < 10; ++i) b.push_back(0);  // one short
    b.push_back(0x80);
    const auto p = behind_async(b);
    ASSERT_EQ(p.size(), 2U);
    EXPECT_EQ(p[1].kind, Etm4Kind::damage);
}

TEST(Etm4Damage, WhatComesBeforeTheFirstSynchronisationCannotBeRead) {
    Bytes b = {0xF7, 0xF7, 0xF7};
    append(b, kEtm4Async);
    const auto p = read_etm4(b);
    ASSERT_EQ(p.size(), 2U);
    EXPECT_EQ(p[0].kind, Etm4Kind::damage);
    EXPECT_EQ(p[0].length, 3U);
    EXPECT_EQ(p[0].value, static_cast<std::uint64_t>(Etm4Damage::no_sync_yet));
    EXPECT_EQ(p[1].offset, 3U);
}

TEST(Etm4Damage, APacketThatTheStreamsEndCutsIsTold) {
    const std::vector<Bytes> cut = {{0x9B, 0x42, 0x81}, {0x02, 0x80, 0x80}, {0x06}, {0x01, 0x0D, 0x01}, {0x0E},
                                    {0xAC, 0x85}};
    for (const Bytes& bytes : cut) {
        const auto p = behind_async(bytes);
        ASSERT_EQ(p.size(), 1U);
        EXPECT_EQ(p[0].kind, Etm4Kind::damage);
        EXPECT_EQ(p[0].length, bytes.size());
        EXPECT_EQ(p[0].value, static_cast<std::uint64_t>(Etm4Damage::cut_short));
    }
}

}  // namespace
}  // namespace mt
