// Damages a stream as a bad line, a full buffer or a torn copy would: the same way each time for a seed.
#pragma once

#include <algorithm>
#include <cstdint>
#include <random>
#include <vector>

namespace mt::hostile {

enum class Damage : std::uint8_t { few_bytes, burst, missing, extra, bits, repeated };
inline constexpr int kDamages = 6;

inline const char* damage_name(Damage d) {
    constexpr const char* names[] = {"1 to 4 bytes changed", "a burst overwritten", "bytes missing",
                                     "bytes too many",       "bits turned",         "a piece twice"};
    return names[static_cast<int>(d)];
}

/// Within the middle nine tenths, so that something is left on both sides.
inline void damage(std::vector<std::uint8_t>& bytes, Damage how, std::mt19937_64& random) {
    const std::size_t n = bytes.size();
    if (n < 64) return;
    const auto any = [&](std::size_t below) { return static_cast<std::size_t>(random() % below); };
    const std::size_t from = n / 20 + any(n - n / 10), room = n - from;
    const auto at = [&](std::size_t i) { return bytes.begin() + static_cast<std::ptrdiff_t>(i); };
    switch (how) {
        case Damage::few_bytes:
            for (std::size_t k = 1 + any(4); k > 0; --k)
                bytes[from + any(std::min<std::size_t>(room, 16))] = static_cast<std::uint8_t>(random());
            break;
        case Damage::burst:
            for (std::size_t i = 0, k = 8 + any(120); i < k && from + i < n; ++i)
                bytes[from + i] = static_cast<std::uint8_t>(random());
            break;
        case Damage::missing:
            bytes.erase(at(from), at(from + std::min(room, 1 + any(200))));
            break;
        case Damage::extra: {
            std::vector<std::uint8_t> more(1 + any(40));
            for (auto& b : more) b = static_cast<std::uint8_t>(random());
            bytes.insert(at(from), more.begin(), more.end());
            break;
        }
        case Damage::bits:
            for (std::size_t k = 1 + any(3); k > 0; --k)
                bytes[from + any(std::min<std::size_t>(room, 64))] ^= static_cast<std::uint8_t>(1u << any(8));
            break;
        case Damage::repeated: {
            const std::vector<std::uint8_t> piece(at(from), at(from + std::min(room, 16 + any(500))));
            bytes.insert(at(from), piece.begin(), piece.end());
            break;
        }
    }
}

}  // namespace mt::hostile
