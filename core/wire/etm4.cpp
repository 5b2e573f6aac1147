#include "wire/etm4.h"

#include <algorithm>

#include "base/text.h"

namespace mt {
namespace {

constexpr std::size_t kNeedMore = 0;
constexpr std::size_t kBad = ~std::size_t{0};
constexpr std::size_t kAsyncZeros = 11;

// Seven bits a byte while bit 7 says that more follows; at most `most` bytes, the last with eight bits if `whole`.
// Returns the bytes used, kNeedMore or kBad.
std::size_t continued(std::span<const std::uint8_t> b, std::size_t at, std::size_t most, bool whole,
                      std::uint64_t& value, unsigned* bits = nullptr) {
    value = 0;
    unsigned shift = 0;
    for (std::size_t i = 0; i < most; ++i) {
        if (at + i >= b.size()) return kNeedMore;
        const bool last = whole && i + 1 == most;
        value |= std::uint64_t{last ? b[at + i] : b[at + i] & 0x7Fu} << shift;
        shift += last ? 8 : 7;
        if (bits != nullptr) *bits = shift;
        if (last || (b[at + i] & 0x80) == 0) return i + 1;
    }
    return kBad;
}

// What packets of atoms hold, by their header (6.4.13).
constexpr std::uint8_t kAtomHeaders = 0xC0;
constexpr Atoms atoms_of(std::uint32_t h) {
    if (h >= 0xF8) return {3, h & 7u};
    if (h == 0xF6 || h == 0xF7) return {1, h & 1u};
    if (h == 0xF5) return {5, 0b11110};
    if (h >= 0xDC && h <= 0xDF) {
        constexpr std::uint32_t patterns[] = {0b1110, 0b0000, 0b1010, 0b0101};
        return {4, patterns[h & 3]};
    }
    if (h >= 0xD8 && h <= 0xDB) return {2, h & 3u};
    if (h >= 0xD5 && h <= 0xD7) {
        constexpr std::uint32_t patterns[] = {0, 0b00000, 0b01010, 0b10101};
        return {5, patterns[h & 3]};
    }
    const std::uint32_t taken = (h & 0x1Fu) + 3;
    return {static_cast<std::uint8_t>(taken + 1), ((1u << taken) - 1) | ((h & 0x20) == 0 ? 1u << taken : 0)};
}
constexpr std::array<Atoms, 64> kAtoms = [] {
    std::array<Atoms, 64> all{};
    for (std::uint32_t i = 0; i < all.size(); ++i) all[i] = atoms_of(kAtomHeaders + i);
    return all;
}();

}  // namespace

int etm4_exception_number(unsigned type) {
    if (type >= 1 && type <= 15) return static_cast<int>(type);
    if (type >= 0x10 && type <= 0x17) return static_cast<int>(type);            // IRQ0 to IRQ7
    if (type >= 0x208 && type <= 0x3EF) return static_cast<int>(type - 0x1F0);  // IRQ8 to IRQ495
    return -1;
}

std::size_t Etm4Decoder::extension(std::span<const std::uint8_t> b, Etm4Packet& p) {
    if (b.size() < 2) return kNeedMore;
    if (b[1] == 0x05 || b[1] == 0x03) {
        p.kind = b[1] == 0x05 ? Etm4Kind::overflow : Etm4Kind::discard;
        return 2;
    }
    if (b[1] == 0x07) {  // branch future flush
        p.kind = Etm4Kind::other;
        return 2;
    }
    for (std::size_t i = 1; i <= kAsyncZeros; ++i) {
        if (i >= b.size()) return kNeedMore;
        if (b[i] != (i < kAsyncZeros ? 0x00 : 0x80)) return kBad;
    }
    p.kind = Etm4Kind::async;
    return kAsyncZeros + 1;
}

// 6.4.2: the control field says which sections follow.
std::size_t Etm4Decoder::info(std::span<const std::uint8_t> b, Etm4Packet& p) {
    std::uint64_t control = 0, v = 0;
    std::size_t n = continued(b, 1, 4, false, control);
    if (n == kNeedMore || n == kBad) return n;
    std::size_t at = 1 + n;
    p.kind = Etm4Kind::trace_info;
    for (unsigned section = 0; section < 4; ++section) {
        if ((control >> section & 1) == 0) continue;
        n = continued(b, at, 5, false, v);
        if (n == kNeedMore || n == kBad) return n;
        at += n;
        if (section == 0) p.has_cycles = (v & 1) != 0;
        if (section == 2) p.count = static_cast<std::uint32_t>(v);  // how deep speculation is now
        if (section == 3) p.value = v;
    }
    if ((control & 8) != 0) {
        threshold_ = static_cast<unsigned>(p.value);
        threshold_known_ = true;
    }
    recent_.fill({});
    return at;
}

void Etm4Decoder::remember(Etm4Packet& p, Address a) {
    recent_[2] = recent_[1];
    recent_[1] = recent_[0];
    recent_[0] = a;
    p.address = a.at;
    p.has_address = true;
}

// Forms 0 to 2 exact match, 5 and 6 short, 10 and 11 long with 32 bits, 13 and 14 with 64 (6.4.12). Returns the
// bytes of header and address, kNeedMore or kBad; exact matches are all header.
std::size_t Etm4Decoder::take_address(std::span<const std::uint8_t> b, unsigned form, Etm4Packet& p) {
    if (form <= 2) {
        remember(p, recent_[form]);
        return 1;
    }
    Address a = recent_[0];
    a.thumb = form == 6 || form == 11 || form == 14;
    const unsigned lowest = a.thumb ? 1 : 2;
    if (form == 5 || form == 6) {
        if (b.size() < 2) return kNeedMore;
        std::uint64_t low = std::uint64_t{b[1] & 0x7Fu} << lowest;
        unsigned bits = lowest + 7;
        std::size_t used = 1;
        if ((b[1] & 0x80) != 0) {
            if (b.size() < 3) return kNeedMore;
            low |= std::uint64_t{b[2]} << bits;
            bits += 8;
            used = 2;
        }
        const std::uint64_t mask = (std::uint64_t{1} << bits) - 1;
        a.at = (a.at & ~mask) | low;
        remember(p, a);
        return 1 + used;
    }
    const std::size_t size = form <= 11 ? 4 : 8;
    if (form != 10 && form != 11 && form != 13 && form != 14) return kBad;
    if (b.size() < 1 + size) return kNeedMore;
    std::uint64_t v = std::uint64_t{b[1] & 0x7Fu} << lowest;
    v |= a.thumb ? std::uint64_t{b[2]} << 8 : std::uint64_t{b[2] & 0x7Fu} << 9;
    for (std::size_t i = 2; i < size; ++i) v |= std::uint64_t{b[1 + i]} << (8 * i);
    a.at = size == 4 ? (a.at & ~std::uint64_t{0xFFFF'FFFF}) | v : v;
    remember(p, a);
    return 1 + size;
}

// The information byte and what it announces (6.4.11); b[0] is the byte before it.
std::size_t Etm4Decoder::take_context(std::span<const std::uint8_t> b, Etm4Packet& p) {
    if (b.size() < 2) return kNeedMore;
    p.has_context = true;
    std::size_t used = 1;
    p.level = b[1] & 3u;
    if ((b[1] & 0x40) != 0) {
        if (b.size() < 1 + used + parameters_.virtual_id_bytes) return kNeedMore;
        std::uint32_t id = 0;
        for (unsigned i = 0; i < parameters_.virtual_id_bytes; ++i) id |= static_cast<std::uint32_t>(b[1 + used + i]) << (8 * i);
        virtual_id_ = id;
        used += parameters_.virtual_id_bytes;
        p.has_virtual = true;
    }
    p.virtual_id = virtual_id_;
    if ((b[1] & 0x80) != 0) {
        if (b.size() < 1 + used + parameters_.context_id_bytes) return kNeedMore;
        std::uint32_t id = 0;
        for (unsigned i = 0; i < parameters_.context_id_bytes; ++i)
            id |= static_cast<std::uint32_t>(b[1 + used + i]) << (8 * i);
        context_id_ = id;
        used += parameters_.context_id_bytes;
    }
    p.context_id = context_id_;
    return b.size() < 1 + used ? kNeedMore : used;
}

// One packet at the start of `b`. Returns its length, kNeedMore or kBad.
std::size_t Etm4Decoder::one(std::span<const std::uint8_t> b, Etm4Packet& p) {
    const std::uint8_t h = b[0];
    if (h >= kAtomHeaders) {
        p.kind = Etm4Kind::atoms;
        p.atoms = kAtoms[h - kAtomHeaders].bits;
        p.value = p.count = kAtoms[h - kAtomHeaders].count;
        return 1;
    }
    std::uint64_t v = 0;
    if (h == 0x00) return extension(b, p);
    if (h == 0x01) return info(b, p);
    if (h == 0x02 || h == 0x03) {
        unsigned bits = 0;
        std::size_t n = continued(b, 1, 9, true, v, &bits);
        if (n == kNeedMore || n == kBad) return n;
        const std::uint64_t mask = bits >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << bits) - 1;
        std::size_t used = 1 + n;
        p.kind = Etm4Kind::timestamp;
        if (h == 0x03) {
            std::uint64_t cycles = 0;
            n = continued(b, used, 3, false, cycles);
            if (n == kNeedMore || n == kBad) return n;
            used += n;
            p.count = static_cast<std::uint32_t>(cycles);
            p.has_cycles = true;
        }
        timestamp_ = (timestamp_ & ~mask) | v;
        stamped_ |= mask;
        assumed_ &= ~mask;
        p.value = timestamp_;
        p.assumed = assumed_;
        p.sent = static_cast<std::uint8_t>(std::min(bits, 64u));
        return used;
    }
    if (h == 0x04 || h == 0x05 || h == 0x07) {
        p.kind = h == 0x04 ? Etm4Kind::trace_on : h == 0x05 ? Etm4Kind::function_return : Etm4Kind::exception_return;
        return 1;
    }
    if (h == 0x06) {
        if (b.size() < 2) return kNeedMore;
        p.kind = Etm4Kind::exception;
        p.ends = static_cast<std::uint8_t>((b[1] & 1) | (b[1] >> 5 & 2));
        p.exception = b[1] >> 1 & 31;
        std::size_t used = 2;
        if ((b[1] & 0x80) != 0) {
            if (b.size() < 3) return kNeedMore;
            if ((b[2] & 0xC0) != 0) return kBad;
            p.exception = static_cast<std::uint16_t>(p.exception | (b[2] & 31u) << 5);
            p.return_pending = (b[2] & 0x20) != 0;
            used = 3;
        }
        return p.ends == 3 ? kBad : used;
    }
    const unsigned threshold = threshold_known_ ? threshold_ : parameters_.cycle_threshold;
    if (h == 0x0C || h == 0x0D) {  // format 2
        if (b.size() < 2) return kNeedMore;
        p.kind = Etm4Kind::cycles;
        const unsigned a = b[1] >> 4;
        p.count = !parameters_.commit_in_cycles ? 0
                  : (h & 1) == 0                ? a + 1
                                                : std::max(15u, parameters_.max_speculation + a) - 15;
        p.value = threshold + (b[1] & 15u);
        return 2;
    }
    if (h == 0x0E || h == 0x0F) {  // format 1
        p.kind = Etm4Kind::cycles;
        p.known = (h & 1) == 0;
        std::size_t used = 1;
        if (parameters_.commit_in_cycles) {
            const std::size_t n = continued(b, used, 4, false, v);
            if (n == kNeedMore || n == kBad) return n;
            used += n;
            p.count = static_cast<std::uint32_t>(v);
        }
        if (p.known) {
            const std::size_t n = continued(b, used, 3, false, v);
            if (n == kNeedMore || n == kBad) return n;
            used += n;
            p.value = threshold + v;
        }
        return used;
    }
    if (h >= 0x10 && h <= 0x1F) {  // format 3
        p.kind = Etm4Kind::cycles;
        p.count = parameters_.commit_in_cycles ? (h >> 2 & 3u) + 1 : 0;
        p.value = threshold + (h & 3u);
        return 1;
    }
    if (h >= 0x20 && h <= 0x2C) {
        p.kind = Etm4Kind::other;
        return 1;
    }
    if (h == 0x2D || h == 0x2E || h == 0x2F) {
        const std::size_t n = continued(b, 1, 4, false, v);
        if (n == kNeedMore || n == kBad) return n;
        p.kind = h == 0x2D ? Etm4Kind::commit : Etm4Kind::cancel;
        p.count = static_cast<std::uint32_t>(v);
        p.mispredicted = h == 0x2F;
        return 1 + n;
    }
    if (h >= 0x30 && h <= 0x3F) {  // mispredict; cancel formats 2 and 3
        const unsigned a = h & 3u;
        p.mispredicted = true;
        p.kind = h < 0x34 ? Etm4Kind::mispredict : Etm4Kind::cancel;
        p.count = h < 0x34 ? 0 : h < 0x38 ? 1 : (h >> 1 & 3u) + 2;
        // The atoms that follow are told in address's place: `value` counts them.
        if (h < 0x38) {
            p.value = a == 0 ? 0 : a == 2 ? 2 : 1;
            p.atoms = a == 1 ? 1 : a == 2 ? 3 : 0;
        } else {
            p.value = p.atoms = h & 1u;
        }
        return 1;
    }
    // Conditional instructions and their results (6.4.15 to 6.4.21): they tell nothing of the way.
    const auto skip = [&](std::size_t n) {
        p.kind = Etm4Kind::other;
        return b.size() < n ? kNeedMore : n;
    };
    if (h >= 0x40 && h < 0x70 && !parameters_.conditional) return kBad;
    if ((h >= 0x40 && h <= 0x46) || (h >= 0x48 && h <= 0x4A) || (h >= 0x4C && h <= 0x4E)) return skip(1);
    if ((h >= 0x50 && h <= 0x5F) || h == 0x6D) return skip(2);
    if (h == 0x6C || h == 0x6E || h == 0x6F || (h >= 0x68 && h <= 0x6B)) {
        std::size_t used = 1;
        for (int parts = h >= 0x6C ? 1 : 2; parts > 0; --parts) {
            const std::size_t n = continued(b, used, 6, false, v);
            if (n == kNeedMore || n == kBad) return n;
            used += n;
        }
        return skip(used);
    }
    if (h >= 0x70 && h <= 0x7F) {
        p.kind = h == 0x70 ? Etm4Kind::other : Etm4Kind::event;
        p.count = h & 15u;
        return 1;
    }
    if (h == 0x80) {
        p.kind = Etm4Kind::context;
        p.context_id = context_id_;
        return 1;
    }
    if (h == 0x81) {
        p.kind = Etm4Kind::context;
        const std::size_t n = take_context(b, p);
        return n == kNeedMore || n == kBad ? n : 1 + n;
    }
    if (h == 0x82 || h == 0x83 || h == 0x85 || h == 0x86) {  // address and context
        p.kind = Etm4Kind::address;
        const auto before = recent_;
        const std::size_t n = take_address(b, (h & 15u) + 8, p);
        if (n == kNeedMore || n == kBad) return n;
        const std::size_t m = take_context(b.subspan(n - 1), p);
        if (m == kNeedMore) recent_ = before;
        return m == kNeedMore || m == kBad ? m : n + m;
    }
    if (h >= 0x90 && h <= 0x9E) {
        p.kind = Etm4Kind::address;
        const unsigned form = h & 15u;
        if (form == 3 || form == 4 || (form > 6 && form < 10) || form == 12) return kBad;
        return take_address(b, form, p);
    }
    if (h >= 0xA0 && h <= 0xAF) {  // 6.4.14
        p.kind = Etm4Kind::q;
        const unsigned form = h & 15u;
        if (form == 15) {
            p.known = false;
            return 1;
        }
        std::size_t used = 1;
        const auto before = recent_;
        if (form != 12) {
            if (form == 3 || form == 4 || (form > 6 && form < 10) || form > 12) return kBad;
            const std::size_t n = take_address(b, form, p);
            if (n == kNeedMore || n == kBad) return n;
            used = n;
        }
        const std::size_t n = continued(b, used, 5, false, v);
        if (n == kNeedMore) recent_ = before;
        if (n == kNeedMore || n == kBad) return n;
        p.value = v;
        return used + n;
    }
    return kBad;
}

std::optional<std::size_t> Etm4Decoder::find_entry(std::span<const std::uint8_t> bytes, std::size_t from) const {
    std::size_t zeros = 0;
    for (std::size_t i = from; i < bytes.size(); ++i) {
        if (bytes[i] == 0x80 && zeros >= kAsyncZeros) return i - kAsyncZeros;
        zeros = bytes[i] == 0 ? zeros + 1 : 0;
    }
    return std::nullopt;
}

bool Etm4Decoder::agrees(const Etm4Decoder& o) const {
    return position_ == o.position_ && !hunting_ && !o.hunting_ && held_.empty() && o.held_.empty() &&
           recent_ == o.recent_ && threshold_known_ == o.threshold_known_ && threshold_ == o.threshold_ &&
           context_id_ == o.context_id_ && ((timestamp_ ^ o.timestamp_) & ~o.assumed_) == 0;
}

std::size_t Etm4Decoder::parse(std::span<const std::uint8_t> bytes, std::uint64_t offset, std::vector<Etm4Packet>& out,
                               const std::function<void()>& full) {
    constexpr std::size_t kMany = 256;  // few enough to stay in the nearest cache
    const bool together = static_cast<bool>(full);
    std::size_t at = 0;
    while (at < bytes.size()) {
        if (hunting_) {
            const std::uint8_t b = bytes[at++];
            if (b == 0) {
                ++zeros_;
            } else if (b == 0x80 && zeros_ >= kAsyncZeros) {
                const std::uint64_t sync_at = offset + at - kAsyncZeros - 1;
                if (sync_at > damage_at_) {
                    Etm4Packet damage;
                    damage.offset = damage_at_;
                    damage.length =
                        static_cast<std::uint32_t>(std::min<std::uint64_t>(sync_at - damage_at_, 0xFFFF'FFFF));
                    damage.value = static_cast<std::uint64_t>(reason_);
                    out.push_back(damage);
                }
                Etm4Packet sync;
                sync.kind = Etm4Kind::async;
                sync.offset = sync_at;
                sync.length = kAsyncZeros + 1;
                out.push_back(sync);
                hunting_ = false;
                zeros_ = 0;
                recent_.fill({});
            } else {
                zeros_ = 0;
            }
            continue;
        }
        if (together && bytes[at] >= kAtomHeaders) {
            Etm4Packet& p = out.emplace_back();
            p.kind = Etm4Kind::atoms;
            p.offset = offset + at;
            at += take_together(bytes.subspan(at), p, [](std::uint8_t h) { return h >= kAtomHeaders ? kAtoms[h - kAtomHeaders] : Atoms{}; });
            if (out.size() >= kMany) full();
            continue;
        }
        Etm4Packet& p = out.emplace_back();
        const std::size_t used = one(bytes.subspan(at), p);
        if (used == kNeedMore || used == kBad) out.pop_back();
        if (used == kNeedMore) break;
        if (used == kBad) {
            hunting_ = true;
            zeros_ = 0;
            damage_at_ = offset + at;
            reason_ = Etm4Damage::reserved;
            continue;
        }
        p.offset = offset + at;
        p.length = static_cast<std::uint32_t>(used);
        at += used;
        if (together && out.size() >= kMany) full();
    }
    return at;
}

void Etm4Decoder::feed(std::span<const std::uint8_t> bytes, std::vector<Etm4Packet>& out,
                       const std::function<void()>& full) {
    std::size_t skip = 0;
    if (!held_.empty()) {
        // Only the packet that was cut in two is put together.
        std::vector<std::uint8_t> joined;
        joined.swap(held_);
        const std::size_t held = joined.size(), fresh = std::min<std::size_t>(bytes.size(), 32);
        joined.insert(joined.end(), bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(fresh));
        const std::size_t used = parse(joined, position_ - held, out, full);
        if (used < held) {  // all that was fed is still too short
            held_.assign(joined.begin() + static_cast<std::ptrdiff_t>(used), joined.end());
            position_ += fresh;
            if (fresh < bytes.size()) feed(bytes.subspan(fresh), out, full);
            return;
        }
        skip = used - held;
    }
    const auto rest = bytes.subspan(skip);
    const std::size_t used = parse(rest, position_ + skip, out, full);
    held_.assign(rest.begin() + static_cast<std::ptrdiff_t>(used), rest.end());
    position_ += bytes.size();
}

void Etm4Decoder::finish(std::vector<Etm4Packet>& out) {
    const std::uint64_t from = hunting_ ? damage_at_ : position_ - held_.size();
    if (from < position_) {
        Etm4Packet damage;
        damage.offset = from;
        damage.length = static_cast<std::uint32_t>(std::min<std::uint64_t>(position_ - from, 0xFFFF'FFFF));
        damage.value = static_cast<std::uint64_t>(hunting_ ? reason_ : Etm4Damage::cut_short);
        out.push_back(damage);
    }
    held_.clear();
    hunting_ = true;
    damage_at_ = position_;
}

void Etm4Decoder::lose_source(std::vector<Etm4Packet>&) {
    if (!hunting_) {
        damage_at_ = position_ - held_.size();
        reason_ = Etm4Damage::not_received;
    }
    held_.clear();
    hunting_ = true;
    zeros_ = 0;
}

std::string_view etm4_kind_name(Etm4Kind kind) {
    constexpr std::array<std::string_view, kEtm4Kinds> names = {"async",
                                                                "trace_info",
                                                                "trace_on",
                                                                "discard",
                                                                "overflow",
                                                                "timestamp",
                                                                "exception",
                                                                "exception_return",
                                                                "function_return",
                                                                "cycles",
                                                                "commit",
                                                                "cancel",
                                                                "mispredict",
                                                                "context",
                                                                "address",
                                                                "atoms",
                                                                "q",
                                                                "event",
                                                                "other",
                                                                "damage"};
    return names[static_cast<std::size_t>(kind)];
}

std::string_view etm4_damage_text(Etm4Damage reason) {
    constexpr std::array<std::string_view, 5> texts = {
        "no synchronisation yet", "reserved packet header", "a field longer than its format allows",
        "packet cut short by the end of the stream", "bytes missing in the source"};
    return texts[static_cast<std::size_t>(reason)];
}

std::string etm4_detail(const Etm4Packet& p) {
    const auto atoms = [&](std::uint64_t n) {
        std::string s;
        for (std::uint64_t i = 0; i < n; ++i) s += (p.atoms >> i & 1) != 0 ? 'E' : 'N';
        return s;
    };
    switch (p.kind) {
        case Etm4Kind::trace_info:
            return std::string("cycle counting ") + (p.has_cycles ? "on, threshold " + std::to_string(p.value) : "off");
        case Etm4Kind::timestamp:
            return std::to_string(p.value) + (p.has_cycles ? ", " + plural(p.count, "cycle", "cycles") : "");
        case Etm4Kind::exception: {
            const int number = etm4_exception_number(p.exception);
            return (number >= 0 ? "exception " + std::to_string(number) : "event " + hex_text(p.exception, 3)) +
                   (p.ends == 2 ? ", at a branch's target" : "");
        }
        case Etm4Kind::cycles:
            return p.known ? plural(p.value, "cycle", "cycles") : std::string("cycles not known");
        case Etm4Kind::commit:
        case Etm4Kind::cancel:
            return plural(p.count, "element", "elements") + (p.mispredicted ? ", mispredicted " + atoms(p.value) : "");
        case Etm4Kind::mispredict:
            return atoms(p.value);
        case Etm4Kind::context:
            return "context " + std::to_string(p.context_id);
        case Etm4Kind::address:
            return hex_text(p.address) + (p.has_context ? ", context " + std::to_string(p.context_id) : "");
        case Etm4Kind::atoms:
            return atoms(p.count);
        case Etm4Kind::q:
            return p.known ? plural(p.value, "instruction", "instructions") + " not traced" : "instructions not traced";
        case Etm4Kind::event:
            return "events " + hex_text(p.count, 1);
        case Etm4Kind::damage:
            return plural(p.length, "byte", "bytes") +
                   " given up: " + std::string(etm4_damage_text(static_cast<Etm4Damage>(p.value)));
        default:
            return {};
    }
}

}  // namespace mt
