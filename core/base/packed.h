// Files as people pass them on: compressed by gzip, xz or zstd, and folders packed as tar.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/problem.h"
#include "base/scratch.h"

namespace mt {

/// What the bytes are compressed with, as far as their beginning tells: "gzip" (RFC 1952, 2.3), "xz" (.xz file format
/// 1.1, 2.1.1) or "zstd" (RFC 8878, 3.1.1); empty if with none of them.
std::string_view packing_of(std::span<const std::uint8_t> bytes);

struct Unpacked {
    int file = -1;            ///< without a name, to be closed by the caller
    std::uint64_t bytes = 0;  ///< in it
    std::string trouble;      ///< why there are no more: damage, or the end of the file; empty if all is there
};

/// Unpacks a compressed file, as far as it can be read; one that was split afterwards by the names of its parts in
/// order. A Problem if nothing comes out of it, if it comes to more than kMostUnpacked, or if the disk is full.
/// REQUIRES: at least one path.
Result<Unpacked> unpack_file(const std::vector<std::string>& paths);

/// Whether a file is a tar archive, compressed or not.
bool is_tar(const std::string& path);
/// Unpacks one into a folder of its own: files and folders only, none of them outside of it, at most kMostUnpacked.
Result<ScratchFolder> unpack_tar(const std::string& path);

inline constexpr std::uint64_t kMostUnpacked = std::uint64_t{16} << 30;

}  // namespace mt
