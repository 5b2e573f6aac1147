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

}  // namespace mt
