// The blocks of an MDF 4 file: found by their links, never read beyond the file.
#pragma once

#include <cstdint>
#include <set>
#include <span>
#include <string>
#include <vector>

#include "base/problem.h"

namespace mt {

/// A block as it stands in the file (ASAM MDF 4.1, "general block structure"): 24 bytes of header, links, data.
struct MdfBlock {
    std::string id;  ///< without "##": "CN"
    std::uint64_t at = 0;
    std::vector<std::uint64_t> links;
    std::span<const std::uint8_t> data;

    std::uint64_t link(std::size_t n) const { return n < links.size() ? links[n] : 0; }
    /// Little endian; 0 where the data is too short.
    std::uint64_t number(std::size_t offset, std::size_t bytes) const;
    double real(std::size_t offset) const;
};

class MdfBlocks {
  public:
    explicit MdfBlocks(std::span<const std::uint8_t> bytes) : bytes_(bytes) {}

    /// The block at an offset; `id` is what it must be, or empty. A Problem with the offset otherwise.
    Result<MdfBlock> block(std::uint64_t at, const char* id = "") const;
    /// The text of a TX block, or of the <TX> element of an MD block; empty for 0 and for what is neither.
    std::string text(std::uint64_t at) const;
    /// The bytes of a data block: DT, SD, RD, DZ, or a DL or HL that lists such. Pieces that cannot be read end it,
    /// with `trouble`. At most `most` bytes.
    std::vector<std::uint8_t> data(std::uint64_t at, std::uint64_t most, std::string& trouble) const;

  private:
    bool append(const MdfBlock& block, std::vector<std::uint8_t>& out, std::uint64_t most, std::string& trouble) const;
    std::span<const std::uint8_t> bytes_;
};

}  // namespace mt
