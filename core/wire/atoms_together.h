// Packets of atoms that stand one behind the other, a byte each, told as one.
#pragma once

#include <algorithm>
#include <cstdint>
#include <span>

namespace mt {

/// What one packet tells: bit 0 first. None: it is no packet of atoms.
struct Atoms {
    std::uint8_t count = 0;
    std::uint32_t bits = 0;
};

/// How many atoms each packet has; kept in the packet's `value`.
struct AtomSizes {
    static constexpr unsigned kMostTogether = 12, kBits = 5;
    /// Which of the packets holds an atom.
    static std::uint64_t packet_of(std::uint64_t sizes, std::uint32_t atom) {
        std::uint64_t packet = 0;
        for (std::uint32_t end = 0; (end += sizes & ((1u << kBits) - 1)) <= atom && sizes != 0; ++packet) sizes >>= kBits;
        return packet;
    }
};

/// Takes packets from the begin of `bytes`, at most 64 atoms, into `p`: atoms, count, value and length. `atoms_of(byte)`
/// gives Atoms. Gives the bytes used; 0 if there stands none.
template <class Packet, class AtomsOf>
std::uint32_t take_together(std::span<const std::uint8_t> bytes, Packet& p, AtomsOf atoms_of) {
    std::uint64_t bits = 0, sizes = 0;
    std::uint32_t count = 0, n = 0;
    const auto most = static_cast<std::uint32_t>(std::min<std::size_t>(bytes.size(), AtomSizes::kMostTogether));
    for (; n < most; ++n) {
        const Atoms more = atoms_of(bytes[n]);
        if (more.count == 0 || count + more.count > 64) break;
        bits |= std::uint64_t{more.bits} << count;
        sizes |= std::uint64_t{more.count} << AtomSizes::kBits * n;
        count += more.count;
    }
    p.atoms = bits;
    p.value = sizes;
    p.count = static_cast<decltype(p.count)>(count);
    p.length = n;
    return n;
}

}  // namespace mt
