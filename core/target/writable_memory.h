// Where an image says that its program may write, also where the file has nothing to put.
#pragma once

#include <cstdint>
#include <string>
#include <utility>
#include <vector>

namespace mt {

/// Stretches [first, second) of the writable segments of an ELF file, as long as they are in memory (gABI, "Program Header":
/// p_memsz); none of other files. Segments of more than 256 MiB are left out.
std::vector<std::pair<std::uint64_t, std::uint64_t>> writable_memory(const std::string& path);

}  // namespace mt
