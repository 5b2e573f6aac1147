// Hand-written bytes of each instruction-trace protocol: what stands in a packet, and what is none.
#include <gtest/gtest.h>

#include "ntrace_bytes.h"
#include "payload_bits.h"
#include "wire/etm4.h"
#include "wire/etrace.h"
#include "wire/mtb.h"
#include "wire/ntrace.h"

namespace mt {
namespace {

using Bytes = std::vector<std::uint8_t>;

using Payload = test::PayloadBits;

std::vector<EtracePacket> etrace(const Bytes& bytes, EtraceParameters parameters = {}) {
    EtraceDecoder d(parameters);
    std::vector<EtracePacket> out;
    d.feed(bytes, out);
    d.finish(out);
    return out;
}

Bytes joined(std::initializer_list<Bytes> parts) {
    Bytes all;
    for (const auto& p : parts) all.insert(all.end(), p.begin(), p.end());
    return all;
}

TEST(EtracePackets, ASynchronisationHasBranchPrivilegeAndFullAddress) {
    const auto p = etrace(Payload().add(3, 2).add(0, 2).add(1, 1).add(3, 2).add(0x8000'0124 >> 1, 31).bytes());
    ASSERT_EQ(p.size(), 1u);
    EXPECT_EQ(p[0].kind, EtraceKind::sync);
    EXPECT_TRUE(p[0].branch);
    EXPECT_EQ(p[0].privilege, 3);
    EXPECT_EQ(p[0].address, 0x8000'0124u);
}

TEST(EtracePackets, ATrapHasCauseHandlerAndValueUnlessItIsAnInterrupt) {
    const auto fields = [](bool interrupt) {
        Payload f;
        f.add(3, 2).add(1, 2).add(1, 1).add(3, 2).add(7, 5).add(interrupt, 1).add(1, 1).add(0x8000'0044 >> 1, 31);
        if (!interrupt) f.add(0xDEAD'BEEF, 32);
        return f.bytes();
    };
    const auto p = etrace(joined({fields(true), fields(false)}));
    ASSERT_EQ(p.size(), 2u);
    EXPECT_TRUE(p[0].interrupt);
    EXPECT_EQ(p[0].ecause, 7);
    EXPECT_TRUE(p[0].thaddr);
    EXPECT_EQ(p[0].address, 0x8000'0044u);
    EXPECT_FALSE(p[1].interrupt);
    EXPECT_EQ(p[1].value, 0xDEAD'BEEFu);
}

TEST(EtracePackets, AnAddressIsADifferenceAndItsLastBitsCompareWithTheOneBefore) {
    // -6, then notify as the sign, updiscon other than notify, irreport as updiscon.
    const auto p =
        etrace(Payload().add(2, 2).add(static_cast<std::uint64_t>(-3), 31).add(1, 1).add(0, 1).add(0, 1).bytes());
    ASSERT_EQ(p.size(), 1u);
    EXPECT_EQ(p[0].kind, EtraceKind::address);
    EXPECT_EQ(static_cast<std::int64_t>(p[0].address), -6);
    EXPECT_FALSE(p[0].notify);
    EXPECT_TRUE(p[0].updiscon);
    EXPECT_FALSE(p[0].irreport);
}

TEST(EtracePackets, ABranchMapTakesAsManyBitsAsItsCountNeeds) {
    for (const auto& [branches, width] : {std::pair{1u, 1u}, {2u, 3u}, {3u, 3u}, {5u, 7u}, {12u, 15u}, {31u, 31u}}) {
        const std::uint64_t map = 0x5A5A'5A5A & ((std::uint64_t{1} << branches) - 1);
        const auto p = etrace(Payload().add(1, 2).add(branches, 5).add(map, width).add(8, 31).add(0, 3).bytes());
        ASSERT_EQ(p.size(), 1u) << branches;
        EXPECT_EQ(p[0].branches, branches);
        EXPECT_EQ(p[0].branch_map, map);
        EXPECT_EQ(p[0].address, 16u);
    }
    const auto full = etrace(Payload().add(1, 2).add(0, 5).add(0x1234'5678, 31).bytes());
    ASSERT_EQ(full.size(), 1u);
    EXPECT_EQ(full[0].branches, 31);
    EXPECT_FALSE(full[0].has_address);
}

TEST(EtracePackets, TheEfficiencyExtensionsAreReadOnceASupportPacketTurnsThemOn) {
    EtraceParameters k;
    k.bpred_size = 4;
    k.cache_size = 3;
    // ioptions: branch prediction and jump target cache.
    const Bytes support = Payload().add(3, 2).add(3, 2).add(1, 1).add(0, 1).add(0, 2).add(0b011000, 6).bytes();
    const Bytes predicted = Payload().add(0, 2).add(0, 1).add(9, 32).add(0, 2).bytes();
    const Bytes cached = Payload().add(0, 2).add(1, 1).add(5, 3).add(2, 5).add(0b10, 3).add(0, 1).bytes();
    const auto p = etrace(joined({support, predicted, cached}), k);
    ASSERT_EQ(p.size(), 3u);
    EXPECT_EQ(p[1].kind, EtraceKind::predicted);
    EXPECT_EQ(p[1].value, 40u);
    EXPECT_TRUE(p[1].mispredicted);
    EXPECT_EQ(p[2].kind, EtraceKind::cached_target);
    EXPECT_EQ(p[2].index, 5u);
    EXPECT_EQ(p[2].branches, 2);
    EXPECT_EQ(p[2].branch_map, 0b10u);
}

TEST(EtracePackets, IdleBytesAreNothingAndATornPacketAtTheEndIsDamage) {
    Bytes bytes = joined({{0, 0, 0}, Payload().add(2, 2).add(4, 31).add(0, 3).bytes(), {0}});
    bytes.insert(bytes.end(), {9, 0xA3});
    const auto p = etrace(bytes);
    ASSERT_EQ(p.size(), 2u);
    EXPECT_EQ(p[0].offset, 3u);
    EXPECT_EQ(p[1].kind, EtraceKind::damage);
    EXPECT_EQ(p[1].value, static_cast<std::uint64_t>(EtraceDamage::cut_short));
    EXPECT_EQ(p[1].length, 2u);
}

const Bytes kAsync = {0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x80};

std::vector<Etm4Packet> etm4(const Bytes& behind_sync, Etm4Parameters parameters = {}) {
    Etm4Decoder d(parameters);
    std::vector<Etm4Packet> out;
    d.feed(joined({kAsync, behind_sync}), out);
    d.finish(out);
    EXPECT_EQ(out.at(0).kind, Etm4Kind::async);
    out.erase(out.begin());
    return out;
}

std::string atoms_of(const Etm4Packet& p) {
    std::string s;
    for (unsigned i = 0; i < p.count; ++i) s += (p.atoms >> i & 1) != 0 ? 'E' : 'N';
    return s;
}

TEST(Etm4Packets, EveryAtomFormatGivesItsPattern) {
    const std::vector<std::pair<std::uint8_t, std::string>> all = {{0xF6, "N"},
                                                                   {0xF7, "E"},
                                                                   {0xD8, "NN"},
                                                                   {0xD9, "EN"},
                                                                   {0xDA, "NE"},
                                                                   {0xDB, "EE"},
                                                                   {0xF8, "NNN"},
                                                                   {0xFB, "EEN"},
                                                                   {0xFF, "EEE"},
                                                                   {0xDC, "NEEE"},
                                                                   {0xDD, "NNNN"},
                                                                   {0xDE, "NENE"},
                                                                   {0xDF, "ENEN"},
                                                                   {0xF5, "NEEEE"},
                                                                   {0xD5, "NNNNN"},
                                                                   {0xD6, "NENEN"},
                                                                   {0xD7, "ENENE"},
                                                                   {0xC0, "EEEE"},
                                                                   {0xE0, "EEEN"},
                                                                   {0xC2, "EEEEEE"},
                                                                   {0xD4, std::string(24, 'E')},
                                                                   {0xF4, std::string(23, 'E') + "N"}};
    for (const auto& [header, pattern] : all) {
        const auto p = etm4({header});
        ASSERT_EQ(p.size(), 1u) << std::hex << int{header};
        EXPECT_EQ(atoms_of(p[0]), pattern) << std::hex << int{header};
    }
}

TEST(Etm4Packets, AddressesAreFilledUpFromThoseBefore) {
    const auto p = etm4({0x9B, 0x42, 0x81, 0x00, 0x08,          // long, Thumb: 0x08008184
                         0x96, 0x10,                            // short: bits 7:1
                         0x96, 0x91, 0x22,                      // short: bits 15:1
                         0x92,                                  // the one two before
                         0x9A, 0x40, 0x01, 0x00, 0x20,          // long, IS0: 4-byte steps
                         0x83, 0x02, 0x00, 0x00, 0x08, 0x01});  // with context
    ASSERT_EQ(p.size(), 6u);
    EXPECT_EQ(p[0].address, 0x0800'8184u);
    EXPECT_EQ(p[1].address, 0x0800'8120u);
    EXPECT_EQ(p[2].address, 0x0800'2222u);
    EXPECT_EQ(p[3].address, 0x0800'8184u);
    EXPECT_EQ(p[4].address, 0x2000'0300u);
    EXPECT_EQ(p[5].address, 0x0800'0004u);
    EXPECT_TRUE(p[5].has_context);
}

TEST(Etm4Packets, ExceptionsTellTheirNumberAndHowTheirAddressIsMeant) {
    const auto p = etm4({0x06, 0x1F | 0x00, 0x06, 0x80 | 0x10 | 0x01, 0x10, 0x07});
    ASSERT_EQ(p.size(), 3u);
    EXPECT_EQ(p[0].exception, 0x0F);
    EXPECT_EQ(p[0].ends, 1);
    EXPECT_EQ(p[1].exception, 0x208);
    EXPECT_EQ(etm4_exception_number(p[1].exception), 24);
    EXPECT_EQ(p[2].kind, Etm4Kind::exception_return);
    EXPECT_EQ(etm4_exception_number(0x10), 16);
    EXPECT_EQ(etm4_exception_number(0x17), 23);
    EXPECT_EQ(etm4_exception_number(kEtm4DebugHalt), -1);
}

TEST(Etm4Packets, CycleCountsAddTheThresholdInAllThreeFormats) {
    Etm4Parameters k;
    k.cycle_threshold = 4;
    const auto p = etm4({0x12, 0x0C, 0x07, 0x0E, 0x81, 0x01, 0x0F}, k);
    ASSERT_EQ(p.size(), 4u);
    EXPECT_EQ(p[0].value, 6u);
    EXPECT_EQ(p[1].value, 11u);
    EXPECT_EQ(p[2].value, 4u + 129u);
    EXPECT_FALSE(p[3].known);
    k.commit_in_cycles = true;
    const auto with_commit = etm4({0x16, 0x0E, 0x03, 0x05}, k);
    ASSERT_EQ(with_commit.size(), 2u);
    EXPECT_EQ(with_commit[0].count, 2u);
    EXPECT_EQ(with_commit[1].count, 3u);
    EXPECT_EQ(with_commit[1].value, 9u);
}

TEST(Etm4Packets, TimestampsReplaceOnlyTheBitsTheyBring) {
    const auto p = etm4({0x02, 0x80, 0x80, 0x04, 0x02, 0x7F, 0x03, 0x01, 0x09});
    ASSERT_EQ(p.size(), 3u);
    EXPECT_EQ(p[0].value, 0x10000u);
    EXPECT_EQ(p[1].value, 0x1007Fu);
    EXPECT_EQ(p[2].value, 0x10001u);
    EXPECT_EQ(p[2].count, 9u);
}

TEST(Etm4Packets, SpeculationOverflowAndDiscardAreTold) {
    const auto p = etm4({0x2D, 0x05, 0x2E, 0x02, 0x31, 0x36, 0x3B, 0x00, 0x05, 0x00, 0x03, 0x75});
    ASSERT_EQ(p.size(), 8u);
    EXPECT_EQ(p[0].kind, Etm4Kind::commit);
    EXPECT_EQ(p[0].count, 5u);
    EXPECT_EQ(p[1].kind, Etm4Kind::cancel);
    EXPECT_EQ(p[2].kind, Etm4Kind::mispredict);
    EXPECT_EQ(p[2].value, 1u);
    EXPECT_EQ(p[3].kind, Etm4Kind::cancel);
    EXPECT_EQ(p[3].count, 1u);
    EXPECT_EQ(p[3].value, 2u);
    EXPECT_EQ(p[4].count, 3u);
    EXPECT_EQ(p[5].kind, Etm4Kind::overflow);
    EXPECT_EQ(p[6].kind, Etm4Kind::discard);
    EXPECT_EQ(p[7].kind, Etm4Kind::event);
}

TEST(Etm4Packets, AReservedHeaderIsDamageUpToTheNextSynchronisation) {
    Bytes bytes = joined({{0xF7, 0xBB, 0xF7, 0xF7}, kAsync, {0xF7}});
    const auto p = etm4(bytes);
    ASSERT_EQ(p.size(), 4u);
    EXPECT_EQ(p[1].kind, Etm4Kind::damage);
    EXPECT_EQ(p[1].offset, 13u);
    EXPECT_EQ(p[1].length, 3u);
    EXPECT_EQ(p[2].kind, Etm4Kind::async);
    EXPECT_EQ(p[3].kind, Etm4Kind::atoms);
}

using Message = test::NtraceBytes;

std::vector<NtraceMessage> ntrace(const Bytes& bytes) {
    NtraceDecoder d({});
    std::vector<NtraceMessage> out;
    d.feed(bytes, out);
    d.finish(out);
    return out;
}

TEST(NtraceMessages, FieldsAreFoundWhateverTheirLengths) {
    const auto p =
        ntrace(joined({Message().fixed(9, 6).fixed(5, 4).variable(0).variable(0x4000'0092).variable(1000).end(),
                       {0xFF, 0xFF},
                       Message().fixed(3, 6).variable(77).variable(12).end(),
                       Message().fixed(28, 6).fixed(3, 2).variable(9).variable(0x155).variable(0x2B).variable(4).end(),
                       Message().fixed(33, 6).fixed(4, 4).fixed(1, 2).variable(6).variable(0b1101).variable(2).end()}));
    ASSERT_EQ(p.size(), 4u);
    EXPECT_EQ(p[0].kind, NtraceKind::sync);
    EXPECT_EQ(p[0].sync, 5);
    EXPECT_EQ(p[0].address, 0x8000'0124u);
    EXPECT_EQ(p[0].timestamp, 1000u);
    EXPECT_EQ(p[1].kind, NtraceKind::direct_branch);
    EXPECT_EQ(p[1].icount, 77u);
    EXPECT_EQ(p[1].timestamp, 12u);
    EXPECT_EQ(p[2].code, 3);
    EXPECT_EQ(p[2].address, 0x2AAu);
    EXPECT_EQ(p[2].history, 0x2Bu);
    EXPECT_EQ(p[3].kind, NtraceKind::correlation);
    EXPECT_EQ(p[3].history, 0b1101u);
    EXPECT_EQ(p[3].icount, 6u);
}

TEST(NtraceMessages, UnknownCodesAndMissingFieldsAreDamageOfThatMessageOnly) {
    const auto p = ntrace(joined({Message().fixed(50, 6).variable(1).end(),
                                  Message().fixed(4, 6).fixed(0, 2).variable(3).end(),
                                  Message().fixed(3, 6).variable(5).variable(1).end(),
                                  {0x04, 0x08}}));
    ASSERT_EQ(p.size(), 4u);
    EXPECT_EQ(p[0].kind, NtraceKind::damage);
    EXPECT_EQ(p[1].kind, NtraceKind::damage);
    EXPECT_EQ(p[2].icount, 5u);
    EXPECT_EQ(p[3].history, static_cast<std::uint64_t>(NtraceDamage::cut_short));
}

// SRC behind TCODE tells which hart's message it is (IEEE-ISTO 5001-2012, 7.2; RISC-V N-Trace, 5.1).
TEST(NtraceMessages, TheSourceFieldTellsWhoseMessagesAreTaken) {
    const Bytes both = joined({Message().fixed(3, 6).fixed(1, 4).variable(5).variable(1).end(),
                               Message().fixed(3, 6).fixed(2, 4).variable(6).variable(1).end(),
                               Message().fixed(3, 6).fixed(1, 4).variable(7).variable(1).end(),
                               Message().fixed(3, 6).fixed(2, 4).variable(8).variable(1).end()});
    const auto counts_of = [&](std::optional<unsigned> source) {
        NtraceParameters parameters;
        parameters.src_bits = 4;
        parameters.src_id = source;
        NtraceDecoder d(parameters);
        std::vector<NtraceMessage> out;
        d.feed(both, out);
        d.finish(out);
        std::vector<std::uint64_t> counts;
        for (const NtraceMessage& m : out) counts.push_back(m.icount);
        EXPECT_EQ(d.sources().others().size(), 1u);
        EXPECT_EQ(d.sources().others().begin()->second.packets, 2u);
        return counts;
    };
    EXPECT_EQ(counts_of(1), (std::vector<std::uint64_t>{5, 7}));
    EXPECT_EQ(counts_of(2), (std::vector<std::uint64_t>{6, 8}));
    EXPECT_EQ(counts_of({}), (std::vector<std::uint64_t>{5, 7})) << "the first that is met";
}

TEST(MtbPackets, BitZeroOfEachWordIsAMark) {
    MtbDecoder d;
    std::vector<MtbPacket> p;
    d.feed(Bytes{0xA3, 0x02, 0, 0, 0x9B, 0x02, 0, 0, 0xF9, 0xFF}, p);
    ASSERT_EQ(p.size(), 1u);
    EXPECT_EQ(p[0].source, 0x2A2u);
    EXPECT_TRUE(p[0].atomic);
    EXPECT_EQ(p[0].destination, 0x29Au);
    EXPECT_TRUE(p[0].start);
    EXPECT_EQ(d.left(), 2u);
}

}  // namespace
}  // namespace mt
