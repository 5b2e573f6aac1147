// RISC-V N-Trace messages written field by field as chapter 4 (slices, fields) and chapter 5 (messages) of the N-Trace
// specification 1.0 say, with fields of every length, and read back: whole, byte by byte, with idle bytes between them,
// damaged.
#include "wire/ntrace.h"

#include <gtest/gtest.h>

#include <random>

#include "ntrace_bytes.h"

namespace mt {
namespace {

using Bytes = std::vector<std::uint8_t>;

class NtraceMessagesOf : public testing::TestWithParam<NtraceParameters> {
  protected:
    std::uint64_t any(unsigned most_bits) {
        const unsigned bits = 1 + static_cast<unsigned>(random_() % most_bits);
        return bits >= 64 ? random_() : random_() & ((std::uint64_t{1} << bits) - 1);
    }
    // A message of a kind with random fields, and its bytes.
    std::pair<NtraceMessage, Bytes> made(NtraceKind kind) {
        NtraceMessage m;
        m.kind = kind;
        test::NtraceBytes b;
        b.fixed(static_cast<std::uint64_t>(kind), 6);  // 5.1: TCODE
        if (GetParam().src_bits > 0) {
            m.source = source_;
            b.fixed(source_, GetParam().src_bits);  // 4.3: SRC
        }
        const auto icount = [&] { b.variable(m.icount = any(22)); };
        const auto address = [&] {
            const std::uint64_t sent = any(63);  // 5.2: addresses are sent without their last bit
            m.address = sent << 1;
            b.variable(sent);
        };
        const auto history = [&] {
            b.variable(m.history = any(32));
            m.has_history = true;
        };
        switch (kind) {
            case NtraceKind::ownership:  // 5.4
                b.variable(m.history = any(40));
                break;
            case NtraceKind::direct_branch:  // 5.5
            case NtraceKind::repeat:         // 5.13
                icount();
                break;
            case NtraceKind::indirect_branch:  // 5.6
            case NtraceKind::history:          // 5.11
                b.fixed(m.code = static_cast<std::uint8_t>(random_() % 4), 2);
                icount();
                address();
                if (kind == NtraceKind::history) history();
                break;
            case NtraceKind::data_acquisition:
                icount();
                b.variable(m.history = any(32));
                break;
            case NtraceKind::error:  // 5.7
                b.fixed(m.code = static_cast<std::uint8_t>(random_() % 16), 4);
                b.variable(any(8));
                break;
            case NtraceKind::sync:                  // 5.8
            case NtraceKind::direct_branch_sync:    // 5.9
            case NtraceKind::indirect_branch_sync:  // 5.10
            case NtraceKind::history_sync:          // 5.12
                b.fixed(m.sync = static_cast<std::uint8_t>(random_() % 16), 4);
                if (kind == NtraceKind::indirect_branch_sync || kind == NtraceKind::history_sync)
                    b.fixed(m.code = static_cast<std::uint8_t>(random_() % 4), 2);
                icount();
                address();
                if (kind == NtraceKind::history_sync) history();
                break;
            case NtraceKind::resource_full:  // 5.14
                b.fixed(m.code = static_cast<std::uint8_t>(random_() % 3), 4);
                b.variable(m.history = any(32));
                if (m.code == 2) b.variable(m.icount = any(18));
                break;
            case NtraceKind::correlation: {  // 5.15
                b.fixed(m.code = static_cast<std::uint8_t>(random_() % 16), 4);
                const bool told = random_() % 2 == 0;
                b.fixed(told ? 1 : 0, 2);
                icount();
                if (told) history();
                break;
            }
            case NtraceKind::damage:
                break;
        }
        if (GetParam().timestamps && random_() % 3 != 0) {  // 4.4: TSTAMP is last, and may be left out
            b.variable(m.timestamp = any(40));
            m.has_timestamp = true;
        }
        Bytes bytes = b.end();
        m.length = static_cast<std::uint32_t>(bytes.size());
        return {m, bytes};
    }
    std::vector<NtraceMessage> read(const Bytes& bytes, std::size_t piece) {
        NtraceDecoder decoder(GetParam());
        std::vector<NtraceMessage> out;
        for (std::size_t at = 0; at < bytes.size(); at += piece)
            decoder.feed(std::span(bytes).subspan(at, std::min(piece, bytes.size() - at)), out);
        decoder.finish(out);
        EXPECT_EQ(decoder.position(), bytes.size());
        return out;
    }
    static void expect_same(const NtraceMessage& is, const NtraceMessage& should) {
        EXPECT_EQ(is.kind, should.kind);
        EXPECT_EQ(is.offset, should.offset);
        EXPECT_EQ(is.length, should.length);
        EXPECT_EQ(is.address, should.address);
        EXPECT_EQ(is.history, should.history);
        EXPECT_EQ(is.has_history, should.has_history);
        EXPECT_EQ(is.icount, should.icount);
        EXPECT_EQ(is.code, should.code);
        EXPECT_EQ(is.sync, should.sync);
        EXPECT_EQ(is.source, should.source);
        EXPECT_EQ(is.timestamp, should.timestamp);
        EXPECT_EQ(is.has_timestamp, should.has_timestamp);
    }
    static constexpr NtraceKind kKinds[] = {NtraceKind::ownership,
                                            NtraceKind::direct_branch,
                                            NtraceKind::indirect_branch,
                                            NtraceKind::data_acquisition,
                                            NtraceKind::error,
                                            NtraceKind::sync,
                                            NtraceKind::direct_branch_sync,
                                            NtraceKind::indirect_branch_sync,
                                            NtraceKind::resource_full,
                                            NtraceKind::history,
                                            NtraceKind::history_sync,
                                            NtraceKind::repeat,
                                            NtraceKind::correlation};
    std::pair<std::vector<NtraceMessage>, Bytes> stream(std::size_t messages) {
        std::vector<NtraceMessage> all;
        Bytes bytes;
        for (std::size_t i = 0; i < messages; ++i) {
            for (std::uint64_t idle = random_() % 8 == 0 ? random_() % 5 : 0; idle > 0; --idle)
                bytes.push_back(0xFF);  // 4.1: idle between messages
            auto [m, b] = made(kKinds[random_() % std::size(kKinds)]);
            m.offset = bytes.size();
            bytes.insert(bytes.end(), b.begin(), b.end());
            all.push_back(m);
        }
        return {all, bytes};
    }

    std::mt19937_64 random_{17};
    std::uint16_t source_ = 2;
};

TEST_P(NtraceMessagesOf, EveryKindAreReadAsTheyWereWritten) {
    for (int turn = 0; turn < 40; ++turn) {
        const auto [should, bytes] = stream(200);
        for (const std::size_t piece : {bytes.size(), std::size_t{1}, std::size_t{7}}) {
            const auto is = read(bytes, piece);
            ASSERT_EQ(is.size(), should.size());
            for (std::size_t i = 0; i < is.size(); ++i) {
                SCOPED_TRACE("message " + std::to_string(i) + ", " + std::string(ntrace_kind_name(should[i].kind)));
                expect_same(is[i], should[i]);
                if (HasFailure()) return;
            }
        }
    }
}

TEST_P(NtraceMessagesOf, EveryKindHaveATextThatSaysWhatStandsInThem) {
    for (const NtraceKind kind : kKinds)
        for (int i = 0; i < 20; ++i) {
            const auto [m, bytes] = made(kind);
            const std::string text = ntrace_detail(m);
            EXPECT_FALSE(text.empty()) << ntrace_kind_name(kind);
            EXPECT_EQ(m.has_timestamp, text.find("time ") != std::string::npos) << text;
            EXPECT_EQ(m.has_history, text.find("history") != std::string::npos) << text;
        }
}

// A wrong byte costs the messages that it stands in, and no other: each message ends with its own mark (4.1).
TEST_P(NtraceMessagesOf, EveryKindAroundAWrongByteAreReadAllTheSame) {
    if (GetParam().src_bits > 0 && !GetParam().src_id) return;  // whom to listen to may be what is wrong
    for (int turn = 0; turn < 300; ++turn) {
        auto [should, bytes] = stream(30);
        const std::size_t at = random_() % bytes.size();
        bytes[at] ^= static_cast<std::uint8_t>(1 + random_() % 255);
        const auto is = read(bytes, bytes.size());
        std::size_t hit = 0;
        while (hit + 1 < should.size() && should[hit + 1].offset <= at) ++hit;
        ASSERT_GE(is.size() + 1, hit);
        for (std::size_t i = 0; i < hit; ++i) expect_same(is[i], should[i]);
        for (std::size_t i = should.size(), k = is.size(); i-- > hit + 2 && k-- > 0;) expect_same(is[k], should[i]);
        if (HasFailure()) return;
    }
}

TEST_P(NtraceMessagesOf, EveryKindCutOffAtTheEndAreToldAsDamage) {
    for (int turn = 0; turn < 100; ++turn) {
        auto [should, bytes] = stream(5);
        const std::size_t last = bytes.size() - should.back().offset;
        if (last < 2) continue;
        bytes.resize(should.back().offset + 1 + random_() % (last - 1));
        const auto is = read(bytes, 3);
        ASSERT_EQ(is.size(), should.size());
        EXPECT_EQ(is.back().kind, NtraceKind::damage);
        EXPECT_EQ(static_cast<NtraceDamage>(is.back().history), NtraceDamage::cut_short);
        EXPECT_EQ(is.back().offset + is.back().length, bytes.size());
    }
}

TEST_P(NtraceMessagesOf, EveryKindOfAnotherSourceArePassedOver) {
    if (GetParam().src_bits == 0) return;
    Bytes bytes = made(NtraceKind::sync).second;
    std::size_t own = 1, others = 0;
    for (int i = 0; i < 200; ++i) {
        source_ = random_() % 2 == 0 ? 2 : 1;
        ++(source_ == 2 ? own : others);
        const Bytes more = made(kKinds[random_() % std::size(kKinds)]).second;
        bytes.insert(bytes.end(), more.begin(), more.end());
    }
    NtraceDecoder decoder(GetParam());
    std::vector<NtraceMessage> out;
    decoder.feed(bytes, out);
    EXPECT_EQ(out.size(), own);
    for (const NtraceMessage& m : out) EXPECT_EQ(m.source, 2);
    ASSERT_EQ(decoder.sources().others().size(), 1U);
    EXPECT_EQ(decoder.sources().others().begin()->second.packets, others);
}

INSTANTIATE_TEST_SUITE_P(Parameters, NtraceMessagesOf,
                         testing::Values(NtraceParameters{0, std::nullopt, true, false},
                                         NtraceParameters{0, std::nullopt, false, false},
                                         NtraceParameters{3, 2U, true, false},
                                         NtraceParameters{10, std::nullopt, true, true}));

// What cannot be one: a value that MSEO reserves (4.1), a TCODE that is none, fields that are not there, too many.
TEST(NtraceMessagesThatAreNone, AreDamageWithTheReason) {
    const auto only = [](const Bytes& bytes) {
        NtraceDecoder decoder({});
        std::vector<NtraceMessage> out;
        decoder.feed(bytes, out);
        decoder.finish(out);
        EXPECT_EQ(out.size(), 1U);
        EXPECT_EQ(out.at(0).kind, NtraceKind::damage);
        EXPECT_FALSE(ntrace_damage_text(static_cast<NtraceDamage>(out.at(0).history)).empty());
        return static_cast<NtraceDamage>(out.at(0).history);
    };
    EXPECT_EQ(only({9 << 2 | 2, 3}), NtraceDamage::reserved);
    EXPECT_EQ(only(test::NtraceBytes().fixed(50, 6).variable(1).end()), NtraceDamage::unknown);
    EXPECT_EQ(only({9 << 2 | 3}), NtraceDamage::short_of_fields);
    EXPECT_EQ(only(test::NtraceBytes().fixed(3, 6).variable(1).variable(2).variable(3).end()),
              NtraceDamage::short_of_fields)
        << "more than a direct branch has";
    EXPECT_EQ(only(Bytes(500, 0)), NtraceDamage::too_long);
}

}  // namespace
}  // namespace mt
