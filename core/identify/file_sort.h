// What sort of file some bytes are, where that is no trace.
#pragma once

#include <cstdint>
#include <span>
#include <string>

namespace mt {

/// "a PNG picture", "text", "nothing but zeros", "an ELF file for x86-64": by what files begin with and by what bytes
/// they hold. Empty: nothing that is known, so it may be a trace.
std::string file_sort(std::span<const std::uint8_t> bytes);

}  // namespace mt
