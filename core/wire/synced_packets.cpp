#include "wire/synced_packets.h"

#include <array>

namespace mt {

std::string_view synced_damage_text(SyncedDamage reason) {
    constexpr std::array<std::string_view, 4> texts = {"no synchronisation yet", "bytes that are no packet",
                                                       "packet cut short by the end of the stream", "bytes missing in the source"};
    return texts[static_cast<std::size_t>(reason)];
}

std::size_t take_continued(std::span<const std::uint8_t> b, std::size_t at, std::size_t most, bool whole, std::uint64_t& value,
                           unsigned& bits) {
    value = 0;
    bits = 0;
    for (std::size_t i = 0; i < most; ++i) {
        if (at + i >= b.size()) return 0;
        const bool last = i + 1 == most;
        value |= std::uint64_t{last && whole ? b[at + i] : b[at + i] & 0x7Fu} << bits;
        bits += last && whole ? 8 : 7;
        if (last || (b[at + i] & 0x80) == 0) return i + 1;
    }
    return 0;
}

PartialAddress take_address(std::span<const std::uint8_t> b, std::size_t at, SentSet set, bool bit6) {
    constexpr std::size_t kMost = 5;
    PartialAddress a;
    a.set = set;
    unsigned bits = 0;
    std::size_t n = 0;
    const auto take = [&](unsigned byte, unsigned width) {
        a.value |= static_cast<std::uint32_t>(byte & ((1u << width) - 1)) << bits;
        bits += width;
    };
    for (bool more = true; more;) {
        if (at + n >= b.size()) return {};
        const std::uint8_t byte = b[at + n++];
        more = n < kMost && (byte & 0x80) != 0;
        if (n == 1) {
            take(byte >> 1u, 6);
        } else if (n < kMost) {
            take(byte, !more && bit6 ? 6 : 7);
            a.information = !more && bit6 && (byte & 0x40) != 0;
        } else {
            a.fifth = byte;
            a.information = (byte & 0x40) != 0;
            // Bit 7 is the first encoding of exceptions, in A32 alone.
            const bool arm = (byte & 0x38) == 0x08 || (byte & 0x80) != 0, thumb = !arm && (byte & 0x30) == 0x10;
            a.set = arm ? SentSet::arm : thumb ? SentSet::thumb : SentSet::jazelle;
            a.good = arm || thumb || (byte & 0x20) != 0;
            take(byte, arm ? 3 : thumb ? 4 : 5);
        }
    }
    a.used = n;
    const unsigned lowest = a.set == SentSet::arm ? 2 : a.set == SentSet::thumb ? 1 : 0;
    a.mask = bits + lowest >= 32 ? 0xFFFF'FFFFu : (1u << (bits + lowest)) - 1;
    a.value = a.value << lowest & a.mask;
    return a;
}

}  // namespace mt
