#include "wire/pft.h"

#include <array>

#include "base/text.h"
#include "target/exception_names.h"

namespace mt {
namespace {

constexpr std::size_t kMostCycles = 5;

// 4.3.3: the oldest atom stands highest, below the bit that says how many there are; a bit that is set says that it was
// not taken.
constexpr std::array<Atoms, 256> kPftAtoms = [] {
    std::array<Atoms, 256> all{};
    for (unsigned h = 0x80; h < 0x100; h += 2) {
        const unsigned count = (h & 0x40) != 0 ? 5 : (h & 0x20) != 0 ? 4 : (h & 0x10) != 0 ? 3 : (h & 0x08) != 0 ? 2 : 1;
        all[h].count = static_cast<std::uint8_t>(count);
        for (unsigned i = 0; i < count; ++i)
            if ((h >> (count - i) & 1) == 0) all[h].bits |= 1u << i;
    }
    return all;
}();

}  // namespace

PftDecoder::PftDecoder(const PftParameters& parameters)
    : parameters_(parameters), plain_(parameters.cycle_accurate ? nullptr : kPftAtoms.data()) {}

// 4.3.8: four bits in the first byte, which says by bit 6 whether more follow; seven in each of those. Gives the bytes used.
std::size_t PftDecoder::cycles(Bytes b, std::size_t at, PftPacket& p) const {
    if (at >= b.size()) return kNeedMore;
    p.has_cycles = true;
    p.cycles = b[at] >> 2 & 15u;
    if ((b[at] & 0x40) == 0) return 1;
    unsigned shift = 4;
    for (std::size_t i = 1; i < kMostCycles; ++i, shift += 7) {
        if (at + i >= b.size()) return kNeedMore;
        p.cycles |= static_cast<std::uint32_t>(b[at + i] & 0x7Fu) << shift;
        if ((b[at + i] & 0x80) == 0 || i + 1 == kMostCycles) return i + 1;
    }
    return kBad;
}

// 4.3.2: the address, the information byte, cycles unless it is a periodic one, the context ID.
std::size_t PftDecoder::isync(Bytes b, PftPacket& p) {
    if (b.size() < 6) return kNeedMore;
    const std::uint8_t info = b[5];
    if ((info & 0x81) != 1) return kBad;
    p.kind = PftKind::isync;
    p.reason = static_cast<PftPacket::Reason>(info >> 5 & 3);
    p.non_secure = (info & 8) != 0;
    p.hypervisor = (info & 2) != 0;
    const std::uint32_t address = b[1] | static_cast<std::uint32_t>(b[2]) << 8 | static_cast<std::uint32_t>(b[3]) << 16 |
                                  static_cast<std::uint32_t>(b[4]) << 24;
    p.set = (info & 0x10) != 0 ? PftPacket::Set::jazelle : (address & 1) != 0 ? PftPacket::Set::thumb : PftPacket::Set::arm;
    p.address = address & ~1u;
    std::size_t used = 6;
    if (parameters_.cycle_accurate && p.reason != PftPacket::Reason::periodic) {
        const std::size_t n = cycles(b, used, p);
        if (n == kNeedMore || n == kBad) return n;
        used += n;
    }
    if (b.size() < used + parameters_.context_id_bytes) return kNeedMore;
    std::uint32_t id = 0;
    for (unsigned i = 0; i < parameters_.context_id_bytes; ++i) id |= static_cast<std::uint32_t>(b[used + i]) << 8 * i;
    if (parameters_.context_id_bytes > 0) context_ = id;
    p.has_context = parameters_.context_id_bytes > 0;
    p.value = context_;
    address_ = p.address;
    set_ = p.set;
    known_ = true;
    return used + parameters_.context_id_bytes;
}

// 4.3.4, 4.3.5: up to five bytes of address from `at` on; bit 6 of the last, if it is not the first, says that exception
// information follows; the fifth tells the instruction set.
std::size_t PftDecoder::branch(Bytes b, std::size_t at, PftPacket& p) {
    const PartialAddress sent = take_address(b, at, set_, true);
    if (sent.used == 0) return kNeedMore;
    if (!sent.good || (sent.fifth & 0x80) != 0) return kBad;
    std::size_t n = sent.used;
    p.address = sent.over(address_);
    p.set = sent.set;
    if (sent.information) {
        if (at + n >= b.size()) return kNeedMore;
        const std::uint8_t first = b[at + n];
        ++n;
        if (p.kind == PftKind::branch) {
            p.exception = first >> 1 & 15u;
            p.non_secure = (first & 1) != 0;
        }
        if ((first & 0x80) != 0) {
            if (at + n >= b.size()) return kNeedMore;
            if (p.kind == PftKind::branch) p.exception = static_cast<std::uint16_t>(p.exception | (b[at + n] & 0x1Fu) << 4);
            p.hypervisor = (b[at + n] & 0x20) != 0;
            ++n;
        }
    }
    if (p.kind == PftKind::branch && parameters_.cycle_accurate) {
        const std::size_t used = cycles(b, at + n, p);
        if (used == kNeedMore || used == kBad) return used;
        n += used;
    }
    p.known = known_ || sent.whole();
    known_ = p.known;
    address_ = p.address;
    set_ = p.set;
    return n;
}

std::size_t PftDecoder::one(Bytes b, PftPacket& p) {
    const std::uint8_t h = b[0];
    if ((h & 1) != 0) {
        p.kind = PftKind::branch;
        return branch(b, 0, p);
    }
    if ((h & 0x80) != 0) {
        p.kind = PftKind::atoms;
        if (parameters_.cycle_accurate) {  // 4.3.3: one atom, and the cycles up to it
            p.count = 1;
            p.atoms = (h & 2) != 0 ? 0 : 1;
            return cycles(b, 0, p);
        }
        p.count = kPftAtoms[h].count;
        p.atoms = kPftAtoms[h].bits;
        return 1;
    }
    switch (h) {
        case 0x08:
            return isync(b, p);
        case 0x72:
            p.kind = PftKind::waypoint;
            {
                const std::size_t n = branch(b, 1, p);
                return n == kNeedMore || n == kBad ? n : n + 1;
            }
        case 0x6E:
            if (b.size() < 1u + parameters_.context_id_bytes) return kNeedMore;
            p.kind = PftKind::context;
            p.has_context = true;
            for (unsigned i = 0; i < parameters_.context_id_bytes; ++i) p.value |= std::uint64_t{b[1 + i]} << 8 * i;
            context_ = static_cast<std::uint32_t>(p.value);
            return 1 + parameters_.context_id_bytes;
        case 0x3C:
            if (b.size() < 2) return kNeedMore;
            p.kind = PftKind::virtual_machine;
            p.value = b[1];
            return 2;
        case 0x42:
        case 0x46: {
            p.kind = PftKind::timestamp;
            std::uint64_t value = 0;
            unsigned bits = 0;
            const std::size_t n = take_continued(b, 1, kMostStamp, true, value, bits);
            if (n == 0) return kNeedMore;
            std::size_t used = 1 + n;
            if (parameters_.cycle_accurate) {
                const std::size_t m = cycles(b, used, p);
                if (m == kNeedMore || m == kBad) return m;
                used += m;
            }
            stamp_.put(value, bits);
            p.value = stamp_.at();
            p.assumed = stamp_.assumed();
            p.sent = static_cast<std::uint8_t>(std::min(bits, 64u));
            return used;
        }
        case 0x76:
            p.kind = PftKind::exception_return;
            return 1;
        case 0x0C:
            p.kind = PftKind::trigger;
            return 1;
        case 0x66:
            p.kind = PftKind::ignore;
            return 1;
        default:
            return kBad;
    }
}

std::string_view pft_kind_name(PftKind kind) {
    constexpr std::array<std::string_view, kPftKinds> names = {"async", "isync", "atoms", "branch", "waypoint", "context",
                                                               "vmid", "timestamp", "exception_return", "trigger", "ignore", "damage"};
    return names[static_cast<std::size_t>(kind)];
}

std::string pft_detail(const PftPacket& p) {
    const auto place = [&] {
        constexpr std::array<std::string_view, 3> sets = {"A32", "Thumb", "Jazelle"};
        return p.known ? hex_text(p.address, 8) + " " + std::string(sets[static_cast<std::size_t>(p.set)]) : std::string("address not known yet");
    };
    const std::string cycles = p.has_cycles ? ", " + plural(p.cycles, "cycle", "cycles") : "";
    switch (p.kind) {
        case PftKind::isync: {
            constexpr std::array<std::string_view, 4> reasons = {"periodic", "tracing on", "after an overflow", "debug exit"};
            return place() + ", " + std::string(reasons[static_cast<std::size_t>(p.reason)]) +
                   (p.has_context ? ", context " + std::to_string(p.value) : "") + cycles;
        }
        case PftKind::atoms: {
            std::string s;
            for (unsigned i = 0; i < p.count; ++i) s += (p.atoms >> i & 1) != 0 ? 'E' : 'N';
            return s + cycles;
        }
        case PftKind::branch:
            return place() +
                   (p.exception == PftPacket::kNone
                        ? ""
                        : ", " + architectural_exception_name(ExceptionId::make(ExceptionId::Space::arm, ExceptionId::kPftTypes + p.exception % 0x100u))) +
                   cycles;
        case PftKind::waypoint:
            return place();
        case PftKind::context:
            return "context " + std::to_string(p.value);
        case PftKind::virtual_machine:
            return "virtual machine " + std::to_string(p.value);
        case PftKind::timestamp:
            return std::to_string(p.value) + cycles;
        case PftKind::damage:
            return plural(p.length, "byte", "bytes") + " given up: " + std::string(synced_damage_text(static_cast<SyncedDamage>(p.value)));
        default:
            return {};
    }
}

}  // namespace mt
