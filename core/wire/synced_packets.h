// Finds packets in the bytes of one trace unit whose streams are synchronised by a row of zeros and 0x80: PFT and ETMv3
// (IHI 0035B 4.2, IHI 0014Q 7.3: at least five zeros).
#pragma once

#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <string_view>
#include <type_traits>
#include <vector>

#include "wire/atoms_together.h"

namespace mt {

inline constexpr std::size_t kMostStamp = 9;  ///< bytes of a timestamp, header not counted

enum class SyncedDamage : std::uint8_t { no_sync_yet, reserved, cut_short, not_received };
std::string_view synced_damage_text(SyncedDamage reason);

/// Seven bits a byte while bit 7 says that more follows; at most `most` bytes, of which the last has eight bits if `whole`.
/// Gives the bytes used; 0 if there are not enough. `bits`: so many were sent.
std::size_t take_continued(std::span<const std::uint8_t> bytes, std::size_t at, std::size_t most, bool whole, std::uint64_t& value,
                           unsigned& bits);

/// Instruction set, as packets tell it.
enum class SentSet : std::uint8_t { arm, thumb, jazelle };

/// An address of which only the lowest bits are sent where the others stand as before: up to five bytes, of which the first
/// has six bits, and the fifth tells the instruction set (IHI 0035B 4.3.4, IHI 0014Q 7.4.3).
struct PartialAddress {
    std::size_t used = 0;      ///< bytes; 0: there are not enough
    std::uint32_t value = 0;   ///< shifted to where it belongs
    std::uint32_t mask = 0;    ///< bits that were sent
    SentSet set = SentSet::arm;
    bool information = false;  ///< more follows: bit 6 of the last byte, if it is not the first, says so
    std::uint8_t fifth = 0;    ///< as sent; 0: there is none
    bool good = true;          ///< false: the fifth tells no instruction set
    bool whole() const { return mask == 0xFFFF'FFFF; }
    std::uint32_t over(std::uint32_t before) const { return (before & ~mask) | value; }
};
/// `set`: if it is not told. `bit6`: whether bit 6 of the last one of two to four bytes says what follows; else it is one of the
/// address.
inline PartialAddress take_address(std::span<const std::uint8_t> bytes, std::size_t at, SentSet set, bool bit6) {
    constexpr std::size_t kMost = 5;
    const auto b = bytes.subspan(std::min(at, bytes.size()));
    PartialAddress a;
    a.set = set;
    std::size_t n = 0;
    while (n < b.size() && n + 1 < kMost && (b[n] & 0x80) != 0) ++n;
    if (n == b.size()) return a;
    a.used = n + 1;
    a.value = b[0] >> 1 & 0x3Fu;
    unsigned bits = 6;
    for (std::size_t i = 1; i <= n && i + 1 < kMost; ++i, bits += 7) a.value |= (b[i] & 0x7Fu) << bits;
    if (n + 1 < kMost) {
        if (n > 0 && bit6) {
            a.information = (b[n] & 0x40) != 0;
            --bits;
            a.value &= (1u << bits) - 1;
        }
    } else {
        a.fifth = b[n];
        a.information = (a.fifth & 0x40) != 0;
        // Bit 7 is the first encoding of exceptions, in A32 alone.
        const bool arm = (a.fifth & 0x38) == 0x08 || (a.fifth & 0x80) != 0, thumb = !arm && (a.fifth & 0x30) == 0x10;
        a.set = arm ? SentSet::arm : thumb ? SentSet::thumb : SentSet::jazelle;
        a.good = arm || thumb || (a.fifth & 0x20) != 0;
        const unsigned width = arm ? 3 : thumb ? 4 : 5;
        a.value |= (a.fifth & ((1u << width) - 1)) << bits;
        bits += width;
    }
    const unsigned lowest = a.set == SentSet::arm ? 2 : a.set == SentSet::thumb ? 1 : 0;
    a.mask = bits + lowest >= 32 ? 0xFFFF'FFFFu : (1u << (bits + lowest)) - 1;
    a.value = a.value << lowest & a.mask;
    return a;
}

/// A timestamp of which only the lowest bits are sent where the others stand as before.
class PartialStamp {
  public:
    void put(std::uint64_t value, unsigned bits) {
        const std::uint64_t mask = bits >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << bits) - 1;
        at_ = (at_ & ~mask) | (value & mask);
        stamped_ |= mask;
        assumed_ &= ~mask;
    }
    std::uint64_t at() const { return at_; }
    /// Bits that nobody told.
    std::uint64_t assumed() const { return assumed_; }
    void entered() { assumed_ = ~std::uint64_t{0} & ~stamped_; }
    bool agrees(const PartialStamp& o) const { return ((at_ ^ o.at_) & ~o.assumed_) == 0; }
    void continue_from(const PartialStamp& before) {
        at_ |= before.at_ & assumed_;
        assumed_ &= before.assumed_;
    }

  private:
    std::uint64_t at_ = 0, assumed_ = 0, stamped_ = 0;
};

/// `Packet` has offset, length, value, atoms, count and a kind with `async`, `atoms` and `damage`. `Own` has
/// `std::size_t one(bytes, packet)`, which takes the packet at the begin of `bytes` and gives its length, kNeedMore or kBad;
/// `Atoms plain(byte)`, what a packet of atoms and nothing else tells; and `void synced()`. Copyable: a copy is a
/// checkpoint. One thread at a time.
template <class Own, class Packet>
class SyncedPackets {
  public:
    static constexpr std::size_t kNeedMore = 0, kBad = ~std::size_t{0}, kZeros = 5, kLongest = 64;

    /// Takes bytes that follow those before; appends whole packets to `out`.
    void feed(std::span<const std::uint8_t> bytes, std::vector<Packet>& out) {
        feed(bytes, out, nullptr);
    }
    /// Calls `full` now and then, which may take away what is in `out`; packets of atoms are told together where they
    /// follow each other.
    template <class Full>
    void feed(std::span<const std::uint8_t> bytes, std::vector<Packet>& out, Full full) {
        std::size_t skip = 0;
        if (!held_.empty()) {  // only the packet that was cut in two is put together
            std::vector<std::uint8_t> joined;
            joined.swap(held_);
            const std::size_t held = joined.size(), fresh = std::min(bytes.size(), kLongest);
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
    void finish(std::vector<Packet>& out) {
        const std::uint64_t from = hunting_ ? damage_at_ : position_ - held_.size();
        if (from < position_) tell_damage(from, position_, hunting_ ? reason_ : SyncedDamage::cut_short, out);
        held_.clear();
        hunting_ = true;
        damage_at_ = position_;
    }
    /// Bytes are missing in the source at this place.
    void lose_source(std::vector<Packet>&) {
        if (!hunting_) {
            damage_at_ = position_ - held_.size();
            reason_ = SyncedDamage::not_received;
        }
        held_.clear();
        hunting_ = true;
        zeros_ = 0;
    }
    std::uint64_t position() const { return position_; }
    /// Where the next synchronisation from `from` on begins.
    std::optional<std::size_t> find_entry(std::span<const std::uint8_t> bytes, std::size_t from) const {
        std::size_t zeros = 0;
        for (std::size_t i = from; i < bytes.size(); ++i) {
            if (bytes[i] == 0x80 && zeros >= kZeros) return i - zeros;
            zeros = bytes[i] == 0 ? zeros + 1 : 0;
        }
        return std::nullopt;
    }
    /// So many bytes came before. REQUIRES: nothing was fed yet.
    void begin_at(std::uint64_t position) { position_ = damage_at_ = position; }

  protected:
    bool stands_as(const SyncedPackets& o) const {
        return position_ == o.position_ && !hunting_ && !o.hunting_ && held_.empty() && o.held_.empty();
    }

  private:
    template <class Full>
    std::size_t parse(std::span<const std::uint8_t> bytes, std::uint64_t offset, std::vector<Packet>& out, Full full) {
        constexpr std::size_t kMany = 256;  // few enough to stay in the nearest cache
        constexpr bool together = !std::is_same_v<Full, std::nullptr_t>;
        std::size_t at = 0;
        while (at < bytes.size()) {
            if (hunting_) {
                const std::uint8_t b = bytes[at++];
                if (b == 0x80 && zeros_ >= kZeros) {
                    const std::uint64_t sync_at = offset + at - zeros_ - 1;
                    if (sync_at > damage_at_) tell_damage(damage_at_, sync_at, reason_, out);
                    tell_sync(sync_at, zeros_ + 1, out);
                    hunting_ = false;
                }
                zeros_ = b == 0 ? zeros_ + 1 : 0;
                continue;
            }
            if (bytes[at] == 0) {
                std::size_t end = at;
                while (end < bytes.size() && bytes[end] == 0) ++end;
                if (end == bytes.size() && end - at < kMostZeros) break;  // the rest is still to come
                if (end < bytes.size() && bytes[end] == 0x80 && end - at >= kZeros) {
                    tell_sync(offset + at, end - at + 1, out);
                    at = end + 1;
                    continue;
                }
                give_up(offset + at);
                continue;
            }
            if constexpr (together) {
                if (out.size() >= kMany) full();
                const Own& own = *static_cast<const Own*>(this);
                if (own.plain(bytes[at]).count > 0) {
                    Packet& p = out.emplace_back();
                    p.kind = decltype(p.kind)::atoms;
                    p.offset = offset + at;
                    at += take_together(bytes.subspan(at), p, [&own](std::uint8_t h) { return own.plain(h); });
                    continue;
                }
            }
            Packet& p = out.emplace_back();
            const std::size_t used = static_cast<Own*>(this)->one(bytes.subspan(at), p);
            if (used == kNeedMore || used == kBad) out.pop_back();
            if (used == kNeedMore) break;
            if (used == kBad) {
                give_up(offset + at);
                continue;
            }
            p.offset = offset + at;
            p.length = static_cast<std::uint32_t>(used);
            at += used;
        }
        return at;
    }
    void give_up(std::uint64_t at) {
        hunting_ = true;
        zeros_ = 0;
        damage_at_ = at;
        reason_ = SyncedDamage::reserved;
    }
    void tell_sync(std::uint64_t at, std::size_t length, std::vector<Packet>& out) {
        Packet& p = out.emplace_back();
        p.kind = decltype(p.kind)::async;
        p.offset = at;
        p.length = static_cast<std::uint32_t>(length);
        static_cast<Own*>(this)->synced();
    }
    void tell_damage(std::uint64_t from, std::uint64_t to, SyncedDamage reason, std::vector<Packet>& out) {
        Packet& p = out.emplace_back();
        p.kind = decltype(p.kind)::damage;
        p.offset = from;
        p.length = static_cast<std::uint32_t>(std::min<std::uint64_t>(to - from, 0xFFFF'FFFF));
        p.value = static_cast<std::uint64_t>(reason);
    }
    static constexpr std::size_t kMostZeros = 4096;  // more of them are no synchronisation that is still to end

    std::vector<std::uint8_t> held_;
    std::uint64_t position_ = 0;
    bool hunting_ = true;
    std::size_t zeros_ = 0;  ///< while hunting
    std::uint64_t damage_at_ = 0;
    SyncedDamage reason_ = SyncedDamage::no_sync_yet;
};

}  // namespace mt
