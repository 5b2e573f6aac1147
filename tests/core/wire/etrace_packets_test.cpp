// E-Trace packets made field by field, as Efficient Trace for RISC-V 2.0, chapter 7, lays them out, with encoders of
// every sort: what was written is read.
#include <gtest/gtest.h>

#include <random>

#include "payload_bits.h"
#include "wire/etrace.h"

namespace mt {
namespace {

using Bytes = std::vector<std::uint8_t>;
using Option = EtraceParameters::Option;
using test::PayloadBits;

std::uint64_t low(std::uint64_t v, unsigned width) { return width >= 64 ? v : v & ((std::uint64_t{1} << width) - 1); }
std::uint64_t extended(std::uint64_t v, unsigned width) {
    return width >= 64 ? v : static_cast<std::uint64_t>(static_cast<std::int64_t>(v << (64 - width)) >> (64 - width));
}
// How wide the branch map of so many branches is (7.5, table of branch_map sizes).
unsigned map_width(unsigned branches) {
    return branches <= 1 ? 1 : branches <= 3 ? 3 : branches <= 7 ? 7 : branches <= 15 ? 15 : 31;
}

// An encoder's parameters, and packets that it could send.
class Encoder {
  public:
    explicit Encoder(std::uint32_t seed) : random_(seed) {
        k.iaddress_width = std::array{32u, 39u, 48u, 64u}[any(4)];
        k.iaddress_lsb = 1 + any(2);
        k.privilege_width = 2 + any(2);
        k.ecause_width = 4 + any(5);
        k.context_width = any(2) * (8 + any(25));
        k.time_width = any(2) * (16 + any(49));
        k.return_stack_size = any(5);
        k.call_counter_size = any(4);
        k.cache_size = 3 + any(3);
        k.bpred_size = 4 + any(3);
        options[static_cast<std::size_t>(Option::full_address)] = any(2) != 0;
        options[static_cast<std::size_t>(Option::implicit_exception)] = any(2) != 0;
        options[static_cast<std::size_t>(Option::branch_prediction)] = any(2) != 0;
        options[static_cast<std::size_t>(Option::jump_target_cache)] = any(2) != 0;
    }

    // Format 3, subformat 3: what is on from here.
    Bytes support() {
        PayloadBits b;
        b.add(3, 2).add(3, 2).add(1, 1).add(0, k.encoder_mode_width).add(0, 2);
        for (const Option o : k.ioptions) b.add(options[static_cast<std::size_t>(o)], 1);
        return b.bytes();
    }

    Bytes packet(EtracePacket& p) {
        p = {};
        switch (any(on(Option::branch_prediction) || on(Option::jump_target_cache) ? 6 : 5)) {
            case 0:
                return sync(p);
            case 1:
                return trap(p);
            case 2:
                return context(p);
            case 3:
                return address(p);
            case 4:
                return branches(p);
            default:
                return on(Option::branch_prediction) && (!on(Option::jump_target_cache) || any(2) != 0) ? predicted(p)
                                                                                                        : cached(p);
        }
    }

    EtraceParameters k;
    EtraceOptions options{};

  private:
    unsigned any(unsigned below) { return static_cast<unsigned>(random_() % below); }
    std::uint64_t bits(unsigned width) { return low(random_(), width); }
    bool on(Option o) const { return options[static_cast<std::size_t>(o)]; }
    unsigned stack_width() const {
        return k.return_stack_size + (k.return_stack_size > 0 ? 1 : 0) + k.call_counter_size;
    }

    // What subformats 0 to 2 begin with.
    void common(EtracePacket& p, PayloadBits& b) {
        b.add(p.privilege = static_cast<std::uint8_t>(bits(k.privilege_width)), k.privilege_width);
        b.add(p.time = bits(k.time_width), k.time_width);
        b.add(p.context = bits(k.context_width), k.context_width);
    }
    void full_address(EtracePacket& p, PayloadBits& b) {
        const unsigned width = k.iaddress_width - k.iaddress_lsb;
        const std::uint64_t v = bits(width);
        b.add(v, width);
        p.has_address = true;
        p.address = v << k.iaddress_lsb;
    }
    Bytes sync(EtracePacket& p) {
        PayloadBits b;
        p.kind = EtraceKind::sync;
        b.add(3, 2).add(0, 2).add(p.branch = any(2) != 0, 1);
        common(p, b);
        full_address(p, b);
        return b.bytes(any(4) != 0);
    }
    // Without the handler's address where the implicit exception option is on and it is the one to go by (4.2.4).
    Bytes trap(EtracePacket& p) {
        PayloadBits b;
        p.kind = EtraceKind::trap;
        b.add(3, 2).add(1, 2).add(p.branch = any(2) != 0, 1);
        common(p, b);
        b.add(p.ecause = static_cast<std::uint16_t>(bits(k.ecause_width)), k.ecause_width);
        b.add(p.interrupt = any(2) != 0, 1).add(p.thaddr = any(2) != 0, 1);
        if (!p.thaddr || !on(Option::implicit_exception)) full_address(p, b);
        if (!p.interrupt) b.add(p.value = bits(k.iaddress_width), k.iaddress_width);
        return b.bytes();
    }
    Bytes context(EtracePacket& p) {
        PayloadBits b;
        p.kind = EtraceKind::context;
        b.add(3, 2).add(2, 2);
        common(p, b);
        return b.bytes();
    }
    // Address, then notify, updiscon and irreport, each told by whether it differs from the bit before it (7.6).
    void address_and_ends(EtracePacket& p, PayloadBits& b) {
        const unsigned width = k.iaddress_width - k.iaddress_lsb;
        // Small differences are what is sent mostly.
        const std::uint64_t v = low(any(3) == 0 ? random_() : extended(bits(9), 9), width);
        b.add(v, width);
        p.has_address = true;
        p.address = (on(Option::full_address) ? v : extended(v, width)) << k.iaddress_lsb;
        p.notify = any(4) == 0;
        p.updiscon = any(4) == 0;
        p.irreport = any(4) == 0;
        for (const bool differs : {p.notify, p.updiscon, p.irreport}) b.add(b.last() != differs, 1);
        p.irdepth = p.irreport ? static_cast<std::uint32_t>(bits(stack_width()))
                               : static_cast<std::uint32_t>(low(b.last() ? ~std::uint64_t{0} : 0, stack_width()));
        b.add(p.irdepth, stack_width());
    }
    Bytes address(EtracePacket& p) {
        PayloadBits b;
        p.kind = EtraceKind::address;
        b.add(2, 2);
        address_and_ends(p, b);
        return b.bytes();
    }
    Bytes branches(EtracePacket& p) {
        PayloadBits b;
        p.kind = EtraceKind::branches;
        const unsigned n = any(32);
        p.branches = static_cast<std::uint8_t>(n == 0 ? 31 : n);
        p.branch_map = static_cast<std::uint32_t>(bits(p.branches));
        b.add(1, 2).add(n, 5).add(p.branch_map, n == 0 ? 31 : map_width(n));
        if (n != 0) address_and_ends(p, b);
        return b.bytes();
    }
    // Format 0: which subformat needs a bit only where an encoder knows both.
    Bytes predicted(EtracePacket& p) {
        PayloadBits b;
        p.kind = EtraceKind::predicted;
        const std::uint64_t count = bits(any(2) != 0 ? 6 : 32);
        p.value = count + 31;
        const unsigned form = std::array{0u, 2u, 3u}[any(3)];
        b.add(0, 2).add(0, 1).add(count, 32).add(form, 2);
        p.mispredicted = form != 2;
        if (form != 0) address_and_ends(p, b);
        return b.bytes();
    }
    Bytes cached(EtracePacket& p) {
        PayloadBits b;
        p.kind = EtraceKind::cached_target;
        p.index = static_cast<std::uint32_t>(bits(k.cache_size));
        p.branches = static_cast<std::uint8_t>(any(32));
        p.branch_map = static_cast<std::uint32_t>(p.branches == 0 ? 0 : bits(p.branches));
        b.add(0, 2).add(1, 1).add(p.index, k.cache_size).add(p.branches, 5);
        if (p.branches != 0) b.add(p.branch_map, map_width(p.branches));
        const bool before = p.branches != 0 && b.last();
        p.irreport = any(4) == 0;
        b.add(p.irreport != before, 1);
        p.irdepth = static_cast<std::uint32_t>(bits(stack_width()));
        b.add(p.irdepth, stack_width());
        return b.bytes();
    }

    std::mt19937_64 random_;
};

void expect_same(const EtracePacket& read, const EtracePacket& written, int n) {
    SCOPED_TRACE(std::string(etrace_kind_name(written.kind)) + ", packet " + std::to_string(n));
    ASSERT_EQ(read.kind, written.kind);
    EXPECT_EQ(read.has_address, written.has_address);
    EXPECT_EQ(read.address, written.address);
    EXPECT_EQ(read.value, written.value);
    EXPECT_EQ(read.time, written.time);
    EXPECT_EQ(read.context, written.context);
    EXPECT_EQ(read.privilege, written.privilege);
    EXPECT_EQ(read.branches, written.branches);
    EXPECT_EQ(read.branch_map, written.branch_map);
    EXPECT_EQ(read.ecause, written.ecause);
    EXPECT_EQ(read.index, written.index);
    EXPECT_EQ(read.irdepth, written.irdepth);
    EXPECT_EQ(std::tie(read.branch, read.interrupt, read.thaddr, read.notify, read.updiscon, read.irreport),
              std::tie(written.branch, written.interrupt, written.thaddr, written.notify, written.updiscon,
                       written.irreport));
    EXPECT_EQ(read.mispredicted, written.mispredicted);
}

class EncodersOfEverySort : public testing::TestWithParam<std::uint32_t> {};

TEST_P(EncodersOfEverySort, AreReadAsTheyWrote) {
    Encoder encoder(GetParam());
    Bytes stream = encoder.support();
    std::vector<EtracePacket> written(200);
    std::vector<std::uint64_t> offsets;
    for (EtracePacket& p : written) {
        if (GetParam() % 3 == 0) stream.push_back(0);  // idle: a payload of no bytes
        offsets.push_back(stream.size());
        const Bytes bytes = encoder.packet(p);
        ASSERT_LE(bytes.size(), 32U) << "the length has five bits";
        stream.insert(stream.end(), bytes.begin(), bytes.end());
    }
    EtraceDecoder whole(encoder.k);
    std::vector<EtracePacket> read;
    whole.feed(stream, read);
    whole.finish(read);
    ASSERT_EQ(read.size(), written.size() + 1);
    EXPECT_EQ(read[0].kind, EtraceKind::support);
    EXPECT_EQ(read[0].options, encoder.options);
    for (std::size_t i = 0; i < written.size(); ++i) {
        expect_same(read[i + 1], written[i], static_cast<int>(i));
        EXPECT_EQ(read[i + 1].offset, offsets[i]);
    }
    // However the bytes come, the same comes out.
    EtraceDecoder by_byte(encoder.k);
    std::vector<EtracePacket> again;
    for (const std::uint8_t byte : stream) by_byte.feed({&byte, 1}, again);
    by_byte.finish(again);
    ASSERT_EQ(again.size(), read.size());
    for (std::size_t i = 0; i < written.size(); ++i) expect_same(again[i + 1], written[i], static_cast<int>(i));
}

INSTANTIATE_TEST_SUITE_P(Seeds, EncodersOfEverySort, testing::Range(1u, 41u));

std::vector<EtracePacket> read(const Bytes& bytes, EtraceParameters k = {}) {
    EtraceDecoder d(k);
    std::vector<EtracePacket> out;
    d.feed(bytes, out);
    d.finish(out);
    return out;
}

// Only bytes that repeat the sign are left out (7.1): whatever was cut off comes back.
TEST(SignBasedCompression, LeavesOutOnlyWhatTheSignTells) {
    for (const std::uint64_t address : {0x0ULL, 0x2ULL, 0x80ULL, 0x7FFEULL, 0x8000ULL, 0x7FFF'FFFEULL, 0x8000'0000ULL,
                                        0xFFFF'FFFEULL, 0xFFFF'0000ULL}) {
        for (const bool cut : {false, true}) {
            PayloadBits b;
            b.add(3, 2).add(0, 2).add(1, 1).add(3, 2).add(address >> 1, 31);
            const auto p = read(b.bytes(cut));
            ASSERT_EQ(p.size(), 1U);
            EXPECT_EQ(p[0].address, address) << std::hex << address;
            EXPECT_EQ(p[0].length, b.bytes(cut).size());
        }
    }
}

TEST(EtraceDamage, AReservedHeaderByteIsNoPacket) {
    for (const std::uint8_t header : Bytes{0x20, 0x40, 0x80, 0xE3}) {
        const auto p = read({header, 1, 2, 3});
        ASSERT_EQ(p.size(), 1U);
        EXPECT_EQ(p[0].kind, EtraceKind::damage);
        EXPECT_EQ(p[0].length, 4U);
    }
}

TEST(EtraceDamage, AModeThatIsReservedIsNone) {
    PayloadBits b;  // format 3, subformat 3, with an encoder_mode other than branch trace
    b.add(3, 2).add(3, 2).add(1, 1).add(1, 1).add(0, 2).add(0, 6);
    const auto p = read(b.bytes());
    ASSERT_EQ(p.size(), 1U);
    EXPECT_EQ(p[0].kind, EtraceKind::damage);
    EXPECT_EQ(p[0].value, static_cast<std::uint64_t>(EtraceDamage::reserved));
}

TEST(EtraceDamage, FormatZeroWithoutAnExtensionIsReserved) {
    PayloadBits b;
    b.add(0, 2).add(3, 32).add(0, 2);
    const auto p = read(b.bytes());
    ASSERT_EQ(p.size(), 1U);
    EXPECT_EQ(p[0].kind, EtraceKind::damage);
}

// Bytes in between that are none do not take what stands behind with them.
TEST(EtraceDamage, IsBoundedWhateverStandsInTheMiddle) {
    std::mt19937 random(4);
    PayloadBits b;
    b.add(3, 2).add(0, 2).add(1, 1).add(3, 2).add(0x8000'0124 >> 1, 31);
    const Bytes sync = b.bytes();
    for (int round = 0; round < 200; ++round) {
        Bytes stream;
        for (int i = 0; i < 20; ++i) stream.insert(stream.end(), sync.begin(), sync.end());
        for (auto i = 1 + random() % 30; i > 0; --i) stream.push_back(static_cast<std::uint8_t>(random()));
        for (int i = 0; i < 60; ++i) stream.insert(stream.end(), sync.begin(), sync.end());
        const auto p = read(stream);
        const auto whole = std::count_if(p.begin(), p.end(), [](const EtracePacket& x) {
            return x.kind == EtraceKind::sync && x.address == 0x8000'0124;
        });
        EXPECT_GE(whole, 60) << "round " << round;
        std::uint64_t bytes = 0, at = 0;
        for (const EtracePacket& x : p) {
            EXPECT_GE(x.offset, at) << "in order";
            at = x.offset;
            bytes += x.length;
        }
        EXPECT_LE(bytes, stream.size()) << "no byte is told twice";
    }
}

TEST(EtraceSources, TwoHartsInOneStreamAreToldApart) {
    EtraceParameters k;
    k.src_id_bits = 4;
    const auto sync_of = [](unsigned hart, std::uint64_t address) {
        PayloadBits b;
        b.add(hart, 4).add(3, 2).add(0, 2).add(1, 1).add(3, 2).add(address >> 1, 31);
        return b.bytes();
    };
    Bytes stream;
    for (int i = 0; i < 10; ++i)
        for (const unsigned hart : {2u, 5u}) {
            const Bytes one = sync_of(hart, 0x1000 * hart + 16 * static_cast<unsigned>(i));
            stream.insert(stream.end(), one.begin(), one.end());
        }
    for (const unsigned mine : {2u, 5u}) {
        k.src_id = mine;
        EtraceDecoder d(k);
        std::vector<EtracePacket> out;
        d.feed(stream, out);
        d.finish(out);
        ASSERT_EQ(out.size(), 10U);
        for (const EtracePacket& p : out) {
            EXPECT_EQ(p.source, mine);
            EXPECT_EQ(p.address & ~0xFFFULL, 0x1000ULL * mine);
        }
        ASSERT_EQ(d.sources().others().size(), 1U);
        EXPECT_EQ(d.sources().others().at(7 - mine).packets, 10U);
    }
}

}  // namespace
}  // namespace mt
