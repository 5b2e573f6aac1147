#include "wire/etrace.h"

#include <algorithm>
#include <bit>
#include <cstring>
#include <string_view>

#include "base/text.h"

namespace mt {
namespace {

constexpr std::size_t kMostPayload = 31;
constexpr std::size_t kChain = 12;  ///< packets that must follow each other before the decoder believes again

// A payload as one bit string, least significant first; what was cut off is the sign (7.1, sign-based compression).
class Bits {
  public:
    explicit Bits(std::span<const std::uint8_t> payload) : sent_(payload.size() * 8) {
        const std::uint64_t sign = !payload.empty() && (payload.back() & 0x80) != 0 ? ~std::uint64_t{0} : 0;
        words_.fill(sign);
        std::memcpy(words_.data(), payload.data(), payload.size());
    }
    /// The next `width` bits, at most 64.
    std::uint64_t take(unsigned width) {
        if (width == 0) return 0;
        const std::size_t word = at_ / 64, shift = at_ % 64;
        std::uint64_t v = words_[std::min<std::size_t>(word, 7)] >> shift;
        if (shift != 0) v |= words_[std::min<std::size_t>(word + 1, 7)] << (64 - shift);
        at_ += width;
        return width >= 64 ? v : v & ((std::uint64_t{1} << width) - 1);
    }
    bool bit() { return take(1) != 0; }
    /// All fields lie in what was sent, except for whole bytes that only repeat the sign.
    bool fits() const { return sent_ < at_ + 8; }

  private:
    std::array<std::uint64_t, 8> words_;
    std::size_t at_ = 0, sent_;
};

// The same of at most eight bytes, as nearly all packets are: one number, whose sign comes after its bits.
class FewBits {
  public:
    /// REQUIRES: eight bytes may be read from `payload`.
    FewBits(const std::uint8_t* payload, std::size_t size) : sent_(size * 8) {
        std::uint64_t word = 0;
        std::memcpy(&word, payload, sizeof word);
        const unsigned above = 64 - static_cast<unsigned>(sent_);
        rest_ = static_cast<std::int64_t>(word << above) >> above;
    }
    std::uint64_t take(unsigned width) {
        at_ += width;
        const auto v = static_cast<std::uint64_t>(rest_);
        if (width >= 64) {
            rest_ >>= 63;
            return v;
        }
        rest_ >>= width;
        return v & ((std::uint64_t{1} << width) - 1);
    }
    bool bit() { return take(1) != 0; }
    bool fits() const { return sent_ < at_ + 8; }

  private:
    std::int64_t rest_ = 0;
    std::size_t at_ = 0, sent_;
};

std::uint64_t sign_extend(std::uint64_t v, unsigned bits) {
    if (bits == 0 || bits >= 64) return v;
    const std::uint64_t top = std::uint64_t{1} << (bits - 1);
    return (v ^ top) - top;
}

unsigned map_bits(unsigned branches) {
    return branches == 0 ? 31 : branches == 1 ? 1 : branches <= 3 ? 3 : branches <= 7 ? 7 : branches <= 15 ? 15 : 31;
}

}  // namespace

EtraceDecoder::EtraceDecoder(const EtraceParameters& parameters)
    : parameters_(parameters), sources_(parameters.src_id) {
    options_[static_cast<std::size_t>(EtraceParameters::Option::implicit_return)] = parameters.implicit_return;
    options_[static_cast<std::size_t>(EtraceParameters::Option::full_address)] = parameters.full_address;
}

// One packet at the start of `bytes`.
EtraceDecoder::Parse EtraceDecoder::one(std::span<const std::uint8_t> bytes, EtracePacket& p, EtraceDamage& why) const {
    const EtraceParameters& k = parameters_;
    why = EtraceDamage::no_packet;
    if (bytes.empty()) return Parse::need_more;
    const std::size_t size = bytes[0] & 31u;
    if ((bytes[0] & 0xE0) != 0) return Parse::bad;
    if (size == 0) {
        p.length = 1;
        return Parse::idle;
    }
    if (bytes.size() < 1 + size) return Parse::need_more;
    p.length = static_cast<std::uint32_t>(1 + size);
    if (k.src_id_bits > 0) {
        // Of packets of other harts nothing more is asked: their options are their own.
        p.source = static_cast<std::uint16_t>(Bits(bytes.subspan(1, size)).take(k.src_id_bits));
        if (sources_.foreign(p.source)) return Parse::foreign;
    }
    if (size <= 5 && bytes.size() >= 9 && k.src_id_bits == 0) {
        // Nearly all packets: 31 branches and no address (format 1 with none said, 7.5), taken at once.
        std::uint64_t word = 0;
        std::memcpy(&word, bytes.data() + 1, sizeof word);
        if ((word & 0x7F) == 1) {
            const unsigned above = 64 - 8 * static_cast<unsigned>(size);
            word = static_cast<std::uint64_t>(static_cast<std::int64_t>(word << above) >> above);
            p.kind = EtraceKind::branches;
            p.branches = 31;
            p.branch_map = static_cast<std::uint32_t>(word >> 7 & 0x7FFF'FFFF);
            return Parse::packet;
        }
    }
    if (size <= 8 && bytes.size() >= 9) return fields(FewBits(bytes.data() + 1, size), p, why);
    return fields(Bits(bytes.subspan(1, size)), p, why);
}

template <class Payload>
EtraceDecoder::Parse EtraceDecoder::fields(Payload b, EtracePacket& p, EtraceDamage& why) const {
    const EtraceParameters& k = parameters_;
    p.source = static_cast<std::uint16_t>(b.take(k.src_id_bits));
    const unsigned address_bits = k.iaddress_width - k.iaddress_lsb;
    const bool full = options_[static_cast<std::size_t>(EtraceParameters::Option::full_address)];
    const auto take_address = [&](bool difference) {
        const std::uint64_t v = b.take(address_bits);
        p.has_address = true;
        p.address = (difference ? sign_extend(v, address_bits) : v) << k.iaddress_lsb;
    };
    const unsigned stack_bits = k.return_stack_size + (k.return_stack_size > 0 ? 1 : 0) + k.call_counter_size;
    // Each of these is sent as its difference from the bit before it (7.5, 7.6).
    const auto take_ends = [&](bool before) {
        const bool notify = b.bit(), updiscon = b.bit(), irreport = b.bit();
        p.notify = notify != before;
        p.updiscon = updiscon != notify;
        p.irreport = irreport != updiscon;
        p.irdepth = static_cast<std::uint32_t>(b.take(stack_bits));
    };
    const auto address_and_ends = [&] {
        take_address(!full);
        take_ends((p.address >> (k.iaddress_width - 1) & 1) != 0);
    };
    const auto take_map = [&] {
        p.branches = static_cast<std::uint8_t>(b.take(5));
        p.branch_map = static_cast<std::uint32_t>(b.take(map_bits(p.branches)));
        if (p.branches != 0) p.branch_map &= static_cast<std::uint32_t>((std::uint64_t{1} << p.branches) - 1);
    };
    switch (b.take(2)) {
        case 3:
            switch (b.take(2)) {
                case 0:
                    p.kind = EtraceKind::sync;
                    p.branch = b.bit();
                    p.privilege = static_cast<std::uint8_t>(b.take(k.privilege_width));
                    p.time = b.take(k.time_width);
                    p.context = b.take(k.context_width);
                    take_address(false);
                    break;
                case 1:
                    p.kind = EtraceKind::trap;
                    p.branch = b.bit();
                    p.privilege = static_cast<std::uint8_t>(b.take(k.privilege_width));
                    p.time = b.take(k.time_width);
                    p.context = b.take(k.context_width);
                    p.ecause = static_cast<std::uint16_t>(b.take(k.ecause_width));
                    p.interrupt = b.bit();
                    p.thaddr = b.bit();
                    // The implicit exception option leaves the handler's address out (4.2.4).
                    if (!p.thaddr || !options_[static_cast<std::size_t>(EtraceParameters::Option::implicit_exception)])
                        take_address(false);
                    if (!p.interrupt) p.value = b.take(k.iaddress_width);
                    break;
                case 2:
                    p.kind = EtraceKind::context;
                    p.privilege = static_cast<std::uint8_t>(b.take(k.privilege_width));
                    p.time = b.take(k.time_width);
                    p.context = b.take(k.context_width);
                    break;
                default:
                    p.kind = EtraceKind::support;
                    p.enabled = b.bit();
                    if (b.take(k.encoder_mode_width) != 0) {  // branch trace is the only mode there is
                        why = EtraceDamage::reserved;
                        return Parse::bad;
                    }
                    p.qual = static_cast<EtraceQual>(b.take(2));
                    for (const auto option : k.ioptions) p.options[static_cast<std::size_t>(option)] = b.bit();
                    break;
            }
            break;
        case 2:
            p.kind = EtraceKind::address;
            address_and_ends();
            break;
        case 1:
            p.kind = EtraceKind::branches;
            take_map();
            if (p.branches == 0)
                p.branches = 31;
            else
                address_and_ends();
            break;
        default: {
            const auto on = [&](EtraceParameters::Option o) { return options_[static_cast<std::size_t>(o)]; };
            const bool predicts = on(EtraceParameters::Option::branch_prediction),
                       caches = on(EtraceParameters::Option::jump_target_cache);
            if (!predicts && !caches) {
                why = EtraceDamage::reserved;
                return Parse::bad;
            }
            const unsigned width = k.f0s_width != 0 ? k.f0s_width : k.bpred_size > 0 && k.cache_size > 0 ? 1 : 0;
            const std::uint64_t sub = width == 0 ? (predicts ? 0 : 1) : b.take(width);
            if (sub == 0) {
                p.kind = EtraceKind::predicted;
                p.value = b.take(32) + 31;
                const auto form = b.take(2);
                if (form == 1) {
                    why = EtraceDamage::reserved;
                    return Parse::bad;
                }
                p.mispredicted = form != 2;
                if (form != 0) address_and_ends();
            } else {
                p.kind = EtraceKind::cached_target;
                p.index = static_cast<std::uint32_t>(b.take(k.cache_size));
                p.branches = static_cast<std::uint8_t>(b.take(5));
                if (p.branches != 0) p.branch_map = static_cast<std::uint32_t>(b.take(map_bits(p.branches)));
                const bool before = p.branches != 0 && (p.branch_map >> (map_bits(p.branches) - 1) & 1) != 0;
                if (p.branches != 0) p.branch_map &= static_cast<std::uint32_t>((std::uint64_t{1} << p.branches) - 1);
                p.irreport = b.bit() != before;
                p.irdepth = static_cast<std::uint32_t>(b.take(stack_bits));
            }
            break;
        }
    }
    // Nothing stands behind the last field, and whole bytes that only repeat the sign are not sent.
    return b.fits() ? Parse::packet : Parse::bad;
}

// Whether a run of packets begins here: all of them possible, as far as the bytes reach.
bool EtraceDecoder::believable(std::span<const std::uint8_t> bytes, bool last) const {
    std::size_t packets = 0;
    EtraceDamage why{};
    while (packets < kChain) {
        EtracePacket p;
        const Parse result = one(bytes, p, why);
        if (result == Parse::bad) return false;
        if (result == Parse::need_more) return last && bytes.empty() && packets > 0;
        // One of a hart that never sent anything is no sign that packets begin here.
        if (result == Parse::foreign && !sources_.others().contains(p.source)) return false;
        bytes = bytes.subspan(p.length);
        if (result == Parse::packet || result == Parse::foreign) ++packets;
    }
    return true;
}

std::optional<std::size_t> EtraceDecoder::find_entry(std::span<const std::uint8_t> bytes, std::size_t from) {
    constexpr std::size_t kPackets = 48;
    EtraceDamage why{};
    std::size_t at = 0;
    const auto pass = [&](std::size_t size) {
        EtracePacket p;
        if (size > 0 && at + 1 < bytes.size() && parameters_.src_id_bits == 0 && (bytes[at + 1] & 15) == 15 &&
            one(bytes.subspan(at), p, why) == Parse::packet && p.kind == EtraceKind::support)
            options_ = p.options;
        at += 1 + size;
    };
    while (at < from && at < bytes.size() && bytes[at] <= kMostPayload) pass(bytes[at]);
    const bool in_step = at >= from;
    at = std::max(at, from);
    while (at < bytes.size()) {
        EtracePacket p;
        if (one(bytes.subspan(at), p, why) != Parse::packet || p.kind != EtraceKind::sync) {
            pass(in_step && bytes[at] <= kMostPayload ? bytes[at] : 0);
            continue;
        }
        std::size_t packets = 0, next = at;
        while (packets < kPackets) {
            EtracePacket q;
            const Parse result = one(bytes.subspan(next), q, why);
            if (result == Parse::bad || result == Parse::need_more) break;
            next += q.length;
            ++packets;
        }
        if (packets == kPackets) return at;
        pass(0);
    }
    return std::nullopt;
}

// Returns the bytes used; what is left may be the start of a packet.
std::size_t EtraceDecoder::parse(std::span<const std::uint8_t> bytes, std::uint64_t offset, bool last,
                                 std::vector<EtracePacket>& out, const std::function<void()>& full) {
    constexpr std::size_t kMany = 128;  // few enough to stay in the nearest cache
    std::size_t at = 0;
    const auto give_up = [&](EtraceDamage why) {
        hunting_ = true;
        damage_at_ = offset + at;
        reason_ = why;
        ++at;
    };
    while (at < bytes.size()) {
        if (hunting_) {
            // A chain of packets takes at most so many bytes: wait for them.
            if (!last && bytes.size() - at < (kMostPayload + 1) * kChain) break;
            if (!believable(bytes.subspan(at), last)) {
                ++at;
                continue;
            }
            hunting_ = false;
            EtracePacket damage;
            damage.offset = damage_at_;
            damage.length = static_cast<std::uint32_t>(std::min<std::uint64_t>(offset + at - damage_at_, 0xFFFF'FFFF));
            damage.value = static_cast<std::uint64_t>(reason_);
            out.push_back(damage);
        }
        EtracePacket& p = out.emplace_back();
        EtraceDamage why{};
        const Parse result = one(bytes.subspan(at), p, why);
        const std::size_t length = p.length;
        const unsigned source = p.source;
        if (result != Parse::packet) out.pop_back();
        if (result == Parse::need_more) break;
        if (result == Parse::bad) {
            give_up(why);
            continue;
        }
        if (result == Parse::foreign) {
            (void)sources_.take(source, length);
        } else if (result == Parse::packet) {
            if (parameters_.src_id_bits > 0) (void)sources_.take(source, length);
            p.offset = offset + at;
            if (p.kind == EtraceKind::support) options_ = p.options;
        }
        at += length;
        if (full && out.size() >= kMany) full();
    }
    return at;
}

void EtraceDecoder::feed(std::span<const std::uint8_t> bytes, std::vector<EtracePacket>& out,
                         const std::function<void()>& full) {
    std::vector<std::uint8_t> joined;
    std::span<const std::uint8_t> all = bytes;
    std::uint64_t offset = position_;
    if (!held_.empty()) {
        joined.swap(held_);
        offset -= joined.size();
        joined.insert(joined.end(), bytes.begin(), bytes.end());
        all = joined;
    }
    const std::size_t used = parse(all, offset, false, out, full);
    held_.assign(all.begin() + static_cast<std::ptrdiff_t>(used), all.end());
    position_ += bytes.size();
}

void EtraceDecoder::finish(std::vector<EtracePacket>& out) {
    std::vector<std::uint8_t> rest;
    rest.swap(held_);
    const std::uint64_t offset = position_ - rest.size();
    const std::size_t used = parse(rest, offset, true, out, {});
    if (!hunting_ && used == rest.size()) return;
    EtracePacket damage;
    damage.offset = hunting_ ? damage_at_ : offset + used;
    damage.length = static_cast<std::uint32_t>(std::min<std::uint64_t>(position_ - damage.offset, 0xFFFF'FFFF));
    damage.value = static_cast<std::uint64_t>(hunting_ ? reason_ : EtraceDamage::cut_short);
    hunting_ = false;
    out.push_back(damage);
}

void EtraceDecoder::lose_source(std::vector<EtracePacket>&) {
    if (!hunting_) {
        damage_at_ = position_ - held_.size();
        reason_ = EtraceDamage::not_received;
    }
    hunting_ = true;
    held_.clear();
}

std::string_view etrace_kind_name(EtraceKind kind) {
    constexpr std::array<std::string_view, kEtraceKinds> names = {
        "sync", "trap", "context", "support", "address", "branches", "predicted", "cached_target", "damage"};
    return names[static_cast<std::size_t>(kind)];
}

std::string_view etrace_damage_text(EtraceDamage reason) {
    constexpr std::array<std::string_view, 4> texts = {"no packet begins here", "reserved packet",
                                                       "packet cut short by the end of the stream",
                                                       "bytes missing in the source"};
    return texts[static_cast<std::size_t>(reason)];
}

std::string etrace_detail(const EtracePacket& p) {
    const auto map = [&] {
        std::string s = plural(p.branches, "branch", "branches") + " ";
        for (unsigned i = 0; i < p.branches; ++i) s += (p.branch_map >> i & 1) != 0 ? '-' : 'T';
        return s;
    };
    const auto ends = [&] {
        return std::string(p.updiscon ? ", discontinuity before an exception or resync" : "") +
               (p.notify ? ", notification" : "") +
               (p.irreport ? ", return stack depth " + std::to_string(p.irdepth) : "");
    };
    const std::string address = p.has_address ? hex_text(p.address) : std::string();
    switch (p.kind) {
        case EtraceKind::sync:
            return "at " + address + ", privilege " + std::to_string(p.privilege);
        case EtraceKind::trap:
            return std::string(p.interrupt ? "interrupt " : "exception ") + std::to_string(p.ecause) +
                   (p.thaddr ? ", handler at " : ", from ") + address;
        case EtraceKind::context:
            return "privilege " + std::to_string(p.privilege) + ", context " + std::to_string(p.context);
        case EtraceKind::support: {
            constexpr std::array<std::string_view, 4> quals = {"", ", ended after a packet for it", ", packets lost",
                                                               ", ended"};
            return std::string(p.enabled ? "on" : "off") + std::string(quals[static_cast<std::size_t>(p.qual)]);
        }
        case EtraceKind::address:
            return "to " + address + ends();
        case EtraceKind::branches:
            return map() + (p.has_address ? ", to " + address + ends() : "");
        case EtraceKind::predicted:
            return std::to_string(p.value) + " predicted" + (p.mispredicted ? ", then one not" : "") +
                   (p.has_address ? ", to " + address + ends() : "");
        case EtraceKind::cached_target:
            return "target " + std::to_string(p.index) + (p.branches > 0 ? ", " + map() : "");
        case EtraceKind::damage:
            return plural(p.length, "byte", "bytes") +
                   " given up: " + std::string(etrace_damage_text(static_cast<EtraceDamage>(p.value)));
    }
    return {};
}

}  // namespace mt
