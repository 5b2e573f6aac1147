#include "wire/etm3.h"

#include <array>

#include "base/text.h"

namespace mt {
namespace {

constexpr Atoms held_then_failed(unsigned held, bool failed) {
    return {static_cast<std::uint8_t>(held + (failed ? 1 : 0)), (1u << held) - 1};
}
constexpr Atoms two(unsigned h) { return {2, ((h & 8) != 0 ? 0u : 1u) | ((h & 4) != 0 ? 0u : 2u)}; }
// 7.4.2: P-headers without cycles, by their byte; formats 1 and 2.
constexpr std::array<Atoms, 256> kPHeaders = [] {
    std::array<Atoms, 256> all{};
    for (unsigned h = 0x80; h < 0x100; ++h) {
        if ((h & 3) == 0)
            all[h] = held_then_failed(h >> 2 & 15u, (h & 0x40) != 0);
        else if ((h & 0xF3) == 0x82)
            all[h] = two(h);
    }
    return all;
}();

}  // namespace

// 7.4.4, table of Armv7-M: interrupts 0 to 7 stand in the lower numbers.
int etm3_exception_number(unsigned type) {
    switch (type) {
        case 8:
            return 16;  // interrupt 0
        case 9:
            return 6;  // UsageFault
        case 10:
            return 2;  // NMI
        case 11:
            return 11;  // SVCall
        case 12:
            return 12;  // DebugMonitor
        case 13:
            return 4;  // MemManage
        case 14:
            return 14;  // PendSV
        case 15:
            return 15;  // SysTick
        case 17:
            return 1;  // Reset
        case 19:
            return 3;  // HardFault
        case 21:
            return 5;  // BusFault
        default:
            if (type >= 1 && type <= 7) return static_cast<int>(16 + type);
            return type >= 24 ? static_cast<int>(type) : -1;  // interrupt 8 on, numbered as the core does
    }
}

Etm3Decoder::Etm3Decoder(const Etm3Parameters& parameters, bool m_profile)
    : parameters_(parameters), plain_(parameters.cycle_accurate ? nullptr : kPHeaders.data()), m_profile_(m_profile) {
    if (m_profile) set_ = Etm3Packet::Set::thumb;
}

// 7.4.2: P-headers, plain and cycle-accurate.
std::size_t Etm3Decoder::atoms(std::uint8_t h, Etm3Packet& p) const {
    p.kind = Etm3Kind::atoms;
    const auto take = [&p](Atoms a) {
        p.count = a.count;
        p.atoms = a.bits;
    };
    if (!parameters_.cycle_accurate) {
        take(kPHeaders[h]);
        return p.count == 0 ? kBad : 1;
    }
    p.has_cycles = true;
    switch (h & 0xA3) {
        case 0x80:
            take(held_then_failed(h >> 2 & 7u, (h & 0x40) != 0));  // format 1: a cycle each; format 0: a cycle without any
            p.cycles = std::max<std::uint32_t>(p.count, 1);
            return 1;
        case 0x82:
            if ((h & 0x10) != 0) {  // format 4: one more in the cycle before
                p.count = 1;
                p.atoms = (h & 4) != 0 ? 0 : 1;
                p.cycles = 0;
            } else {  // format 2: two in a cycle
                take(two(h));
                p.cycles = 1;
            }
            return 1;
        case 0xA0:  // format 3: one to eight cycles, then perhaps one
            p.cycles = (h >> 2 & 7u) + 1;
            p.count = (h & 0x40) != 0 ? 1 : 0;
            p.atoms = p.count;
            return 1;
        default:
            return kBad;
    }
}

// 7.4.4: exception information, one to three bytes.
std::size_t Etm3Decoder::exception(Bytes b, std::size_t at, Etm3Packet& p) const {
    if (at >= b.size()) return kNeedMore;
    std::size_t n = 1;
    p.exception = b[at] >> 1 & 15u;
    p.non_secure = (b[at] & 1) != 0;
    p.cancels = (b[at] & 0x20) != 0;
    if ((b[at] & 0x80) == 0) return n;
    if (at + 1 >= b.size()) return kNeedMore;
    const std::uint8_t second = b[at + 1];
    n = 2;
    if ((second & 0x40) != 0) return n;  // byte 2 at once: how far an instruction that is resumed had come
    if (m_profile_) p.exception = static_cast<std::uint16_t>(p.exception | (second & 0x1Fu) << 4);
    if ((second & 0x80) == 0) return n;
    return at + 2 >= b.size() ? kNeedMore : 3;
}

// 7.4.3: up to five bytes of address; in the alternative encoding bit 6 of the last one, if it is not the first, says that
// exception information follows.
std::size_t Etm3Decoder::branch(Bytes b, std::size_t at, Etm3Packet& p) {
    const PartialAddress sent = take_address(b, at, set_, parameters_.alternative_branch);
    if (sent.used == 0) return kNeedMore;
    if (!sent.good || (m_profile_ && sent.set != SentSet::thumb)) return kBad;
    std::size_t n = sent.used;
    const bool first_encoding = (sent.fifth & 0x80) != 0;  // of exceptions: bits 5 to 3 tell which
    if (first_encoding) {
        constexpr std::array<std::uint8_t, 8> types = {8, 14, 6, 6, 5, 15, 4, 1};
        if (parameters_.alternative_branch) return kBad;
        p.exception = types[sent.fifth >> 3 & 7u];
        p.cancels = (sent.fifth & 0x40) != 0;
    }
    p.address = sent.over(address_);
    p.set = sent.set;
    if (sent.information && !first_encoding) {
        const std::size_t used = exception(b, at + n, p);
        if (used == kNeedMore || used == kBad) return used;
        n += used;
    }
    p.known = known_ || sent.whole();
    known_ = p.known;
    address_ = p.address;
    set_ = p.set;
    return n;
}

// 7.4.6: cycles if header 0x70, context ID, information, address; the address again where a load or store goes on.
std::size_t Etm3Decoder::isync(Bytes b, Etm3Packet& p) {
    p.kind = Etm3Kind::isync;
    std::size_t at = 1;
    if (b[0] == 0x70) {
        std::uint64_t cycles = 0;
        unsigned bits = 0;
        const std::size_t n = take_continued(b, at, 5, false, cycles, bits);
        if (n == 0) return kNeedMore;
        at += n;
        p.has_cycles = true;
        p.cycles = static_cast<std::uint32_t>(cycles);
    }
    if (b.size() < at + parameters_.context_id_bytes + 1) return kNeedMore;
    for (unsigned i = 0; i < parameters_.context_id_bytes; ++i) p.value |= std::uint64_t{b[at + i]} << 8 * i;
    p.has_context = parameters_.context_id_bytes > 0;
    at += parameters_.context_id_bytes;
    const std::uint8_t info = b[at++];
    if ((info & 1) == 0) return kBad;
    p.reason = static_cast<Etm3Packet::Reason>(info >> 5 & 3);
    p.non_secure = (info & 8) != 0;
    if (b.size() < at + 4) return kNeedMore;
    const std::uint32_t address = b[at] | static_cast<std::uint32_t>(b[at + 1]) << 8 | static_cast<std::uint32_t>(b[at + 2]) << 16 |
                                  static_cast<std::uint32_t>(b[at + 3]) << 24;
    at += 4;
    p.set = (info & 0x10) != 0 ? Etm3Packet::Set::jazelle : (address & 1) != 0 ? Etm3Packet::Set::thumb : Etm3Packet::Set::arm;
    if (m_profile_ && p.set != Etm3Packet::Set::thumb) return kBad;
    p.address = address & ~1u;
    const std::uint32_t before = address_;
    const Etm3Packet::Set set_before = set_;
    const bool known_before = known_;
    address_ = p.address;
    set_ = p.set;
    known_ = true;
    if ((info & 0x80) == 0) return at;
    // The load or store stands at `address`; what runs meanwhile is told as a branch's address.
    p.has_start = true;
    p.start = p.address;
    const std::size_t n = branch(b, at, p);
    if (n == kNeedMore || n == kBad) {
        address_ = before;
        set_ = set_before;
        known_ = known_before;
        return n;
    }
    return at + n;
}

// 7.4.8: normal and out-of-order data, and what stands in their place.
std::size_t Etm3Decoder::data(Bytes b, Etm3Packet& p) {
    p.kind = Etm3Kind::data;
    const std::uint8_t h = b[0];
    const bool normal = (h & 0xD3) == 0x02;
    const unsigned size = (h >> 2 & 3u) == 3 ? 4 : h >> 2 & 3u;
    std::size_t at = 1;
    if (normal && (h & 0x20) != 0 && parameters_.data_address) {
        std::uint64_t address = 0;
        unsigned bits = 0;
        const std::size_t n = take_continued(b, at, 5, false, address, bits);
        if (n == 0) return kNeedMore;
        at += n;
        const std::uint32_t mask = bits >= 32 ? 0xFFFF'FFFFu : (1u << bits) - 1;
        p.address = (data_address_ & ~mask) | (static_cast<std::uint32_t>(address) & mask);
        p.has_address = true;
    }
    if (parameters_.data_value) {
        if (b.size() < at + size) return kNeedMore;
        for (unsigned i = 0; i < size; ++i) p.value |= std::uint64_t{b[at + i]} << 8 * i;
        p.count = static_cast<std::uint8_t>(size);
        at += size;
    }
    if (p.has_address) data_address_ = p.address;
    return at;
}

std::size_t Etm3Decoder::one(Bytes b, Etm3Packet& p) {
    const std::uint8_t h = b[0];
    if ((h & 1) != 0) {
        p.kind = Etm3Kind::branch;
        return branch(b, 0, p);
    }
    if ((h & 0x81) == 0x80) return atoms(h, p);
    std::uint64_t value = 0;
    unsigned bits = 0;
    switch (h) {
        case 0x04: {
            const std::size_t n = take_continued(b, 1, 5, false, value, bits);
            if (n == 0) return kNeedMore;
            p.kind = Etm3Kind::cycles;
            p.has_cycles = true;
            p.cycles = static_cast<std::uint32_t>(value);
            return 1 + n;
        }
        case 0x08:
        case 0x70:
            return isync(b, p);
        case 0x0C:
            p.kind = Etm3Kind::trigger;
            return 1;
        case 0x3C:
            if (b.size() < 2) return kNeedMore;
            p.kind = Etm3Kind::virtual_machine;
            p.value = b[1];
            return 2;
        case 0x42:
        case 0x46: {
            const std::size_t n = take_continued(b, 1, kMostStamp, true, value, bits);
            if (n == 0) return kNeedMore;
            stamp_.put(value, bits);
            p.kind = Etm3Kind::timestamp;
            p.value = stamp_.at();
            p.assumed = stamp_.assumed();
            p.sent = static_cast<std::uint8_t>(std::min(bits, 64u));
            return 1 + n;
        }
        case 0x50:  // store failed
        case 0x62:  // data suppressed
        case 0x6A:  // value not traced, with an address
            p.kind = Etm3Kind::data;
            if (h == 0x6A && parameters_.data_address) {
                const std::size_t n = take_continued(b, 1, 5, false, value, bits);
                return n == 0 ? kNeedMore : 1 + n;
            }
            return 1;
        case 0x66:
            p.kind = Etm3Kind::ignore;
            return 1;
        case 0x6E:
            if (b.size() < 1u + parameters_.context_id_bytes) return kNeedMore;
            p.kind = Etm3Kind::context;
            p.has_context = true;
            for (unsigned i = 0; i < parameters_.context_id_bytes; ++i) p.value |= std::uint64_t{b[1 + i]} << 8 * i;
            return 1 + parameters_.context_id_bytes;
        case 0x76:
            p.kind = Etm3Kind::exception_exit;
            return 1;
        case 0x7E:
            p.kind = Etm3Kind::exception_entry;
            return 1;
        default:
            break;
    }
    if ((h & 0xD3) == 0x50) {  // out-of-order placeholder, with an address if bit 5 says so
        p.kind = Etm3Kind::data;
        if ((h & 0x20) == 0 || !parameters_.data_address) return 1;
        const std::size_t n = take_continued(b, 1, 5, false, value, bits);
        return n == 0 ? kNeedMore : 1 + n;
    }
    if ((h & 0xD3) == 0x02 || (h & 0x93) == 0x00) return data(b, p);
    return kBad;
}

std::string_view etm3_kind_name(Etm3Kind kind) {
    constexpr std::array<std::string_view, kEtm3Kinds> names = {
        "async", "isync", "atoms", "branch", "cycles", "context", "vmid", "timestamp", "exception_exit", "exception_entry", "data",
        "trigger", "ignore", "damage"};
    return names[static_cast<std::size_t>(kind)];
}

std::string etm3_detail(const Etm3Packet& p) {
    const std::string cycles = p.has_cycles ? ", " + plural(p.cycles, "cycle", "cycles") : "";
    const std::string place = p.known ? hex_text(p.address, 8) : std::string("address not known yet");
    switch (p.kind) {
        case Etm3Kind::isync: {
            constexpr std::array<std::string_view, 4> reasons = {"periodic", "tracing on", "after an overflow", "debug exit"};
            return place + ", " + std::string(reasons[static_cast<std::size_t>(p.reason)]) +
                   (p.has_context ? ", context " + std::to_string(p.value) : "") + cycles;
        }
        case Etm3Kind::atoms: {
            std::string s;
            for (unsigned i = 0; i < p.count; ++i) s += (p.atoms >> i & 1) != 0 ? 'E' : 'N';
            return s + (s.empty() && !cycles.empty() ? cycles.substr(2) : cycles);
        }
        case Etm3Kind::branch:
            return place + (p.exception == Etm3Packet::kNone ? "" : ", exception type " + std::to_string(p.exception)) +
                   (p.cancels ? ", the instruction before it did not complete" : "");
        case Etm3Kind::cycles:
            return plural(p.cycles, "cycle", "cycles");
        case Etm3Kind::context:
            return "context " + std::to_string(p.value);
        case Etm3Kind::virtual_machine:
            return "virtual machine " + std::to_string(p.value);
        case Etm3Kind::timestamp:
            return std::to_string(p.value);
        case Etm3Kind::data:
            return (p.has_address ? hex_text(p.address, 8) + " " : std::string()) + (p.count > 0 ? hex_text(p.value, 2 * p.count) : std::string());
        case Etm3Kind::damage:
            return plural(p.length, "byte", "bytes") + " given up: " + std::string(synced_damage_text(static_cast<SyncedDamage>(p.value)));
        default:
            return {};
    }
}

}  // namespace mt
