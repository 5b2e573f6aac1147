// Trace in the target's own memory, read through its debug server: a ring buffer that is emptied while the
// target runs, and a plain dump. The ring's header is described in docs/formats/ring-buffer.md.
#pragma once

#include <cstdint>
#include <memory>
#include <vector>

#include "capture/source.h"
#include "control/debug_server.h"

namespace mt {

/// The header in the target's memory, little-endian, kBytes long.
struct RingHeader {
    static constexpr std::size_t kBytes = 32;
    static constexpr std::uint32_t kMagic = 0x4252544D;  ///< "MTRB"
    static constexpr std::uint32_t kMostBytes = 64u << 20;
    std::uint16_t version = 1, flags = 0;
    std::uint32_t data = 0;     ///< address of the first byte of the buffer
    std::uint32_t size = 0;     ///< bytes in the buffer
    std::uint32_t written = 0;  ///< bytes ever written, modulo 2^32
    std::uint32_t taken = 0;    ///< bytes ever taken by the reader, modulo 2^32; the reader writes it
    std::uint32_t lost = 0;     ///< bytes that the writer had to drop
    bool keeps_newest() const { return (flags & 1) != 0; }
};

/// Checks magic, version and ranges.
Result<RingHeader> parse_ring_header(std::span<const std::uint8_t> bytes, std::uint64_t address);

/// A ring at `address`. `server` must outlive it and is used only inside `read`.
std::unique_ptr<Source> ring_source(DebugServer& server, std::uint64_t address);
/// `size` bytes from `address`, in pieces; exhausted afterwards.
std::unique_ptr<Source> dump_source(DebugServer& server, std::uint64_t address, std::uint64_t size);

}  // namespace mt
