#include "identify/file_sort.h"

#include <algorithm>
#include <array>
#include <string_view>

namespace mt {
namespace {

struct Magic {
    std::string_view begin;
    const char* what;
};
using namespace std::string_view_literals;
constexpr Magic kMagics[] = {
    {"\x89PNG\r\n\x1a\n"sv, "a PNG picture"},
    {"\xFF\xD8\xFF"sv, "a JPEG picture"},
    {"GIF8"sv, "a GIF picture"},
    {"BM"sv, "a bitmap picture"},
    {"%PDF"sv, "a PDF document"},
    {"PK\x03\x04"sv, "a ZIP archive"},
    {"\x1F\x8B"sv, "compressed by gzip"},
    {"\xFD"
     "7zXZ\0"sv,
     "compressed by xz"},
    {"\x28\xB5\x2F\xFD"sv, "compressed by zstd"},
    {"BZh"sv, "compressed by bzip2"},
    {"MDF     "sv, "a file of measured data (MDF)"},
    {"SQLite format 3\0"sv, "a database"},
};

std::string elf_text(std::span<const std::uint8_t> bytes) {
    if (bytes.size() < 20) return "an ELF file that is cut";
    const unsigned machine = bytes[5] == 2 ? bytes[18] << 8 | bytes[19] : bytes[19] << 8 | bytes[18];
    switch (machine) {
        case 40:
            return "an ELF file for Arm: an image, not a trace";
        case 183:
            return "an ELF file for AArch64: an image, not a trace";
        case 243:
            return "an ELF file for RISC-V: an image, not a trace";
        case 62:
            return "an ELF file for x86-64: a program of this computer";
        default:
            return "an ELF file: an image, not a trace";
    }
}

}  // namespace

std::string file_sort(std::span<const std::uint8_t> bytes) {
    if (bytes.empty()) return "an empty file";
    const std::string_view all(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    if (all.starts_with("\x7F"
                        "ELF"))
        return elf_text(bytes);
    for (const Magic& m : kMagics)
        if (all.starts_with(m.begin) && bytes.size() > 16) return m.what;
    if (bytes.size() > 262 && all.substr(257, 5) == "ustar") return "a tar archive";
    const std::uint8_t first = bytes[0];
    if (std::all_of(bytes.begin(), bytes.end(), [first](std::uint8_t b) { return b == first; }))
        return first == 0      ? "nothing but zeros"
               : first == 0xFF ? "nothing but ones, as erased flash"
                               : "one byte over and over";
    const auto printable = static_cast<std::size_t>(std::count_if(bytes.begin(), bytes.end(), [](std::uint8_t b) {
        return (b >= 0x20 && b < 0x7F) || b == '\n' || b == '\r' || b == '\t';
    }));
    if (printable * 100 >= bytes.size() * 98) {
        if (first == ':' && bytes.size() > 10) return "text: an image in Intel HEX";
        if (first == 'S' && bytes.size() > 4 && bytes[1] >= '0' && bytes[1] <= '9')
            return "text: an image in S-records";
        return "text";
    }
    return {};
}

}  // namespace mt
