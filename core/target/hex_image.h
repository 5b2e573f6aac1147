// Program images as text: Intel HEX and Motorola S-records. Bytes at addresses, no names.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/problem.h"

namespace mt {

struct HexImage {
    std::map<std::uint64_t, std::vector<std::uint8_t>> pieces;  ///< by address; no two touch or overlap
    std::optional<std::uint64_t> entry;
};

/// Whether a file's beginning looks like one of the two.
bool is_hex_image(std::string_view begin);

/// Reads Intel HEX (records 00 to 05; Intel Hexadecimal Object File Format, revision A) or S-records (S0 to S9). Sums
/// are checked; a Problem names the line. Where two records give the same address, the later one counts.
Result<HexImage> read_hex_image(std::string_view text, const std::string& path);

}  // namespace mt
