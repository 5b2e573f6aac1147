#include "target/build_attributes.h"

#include <algorithm>
#include <optional>
#include <string_view>

namespace mt {
namespace {

constexpr unsigned kFile = 1;  // Tag_File: attributes of the whole file

// Reads what a section says bit by bit; at its end, or where it makes no sense, everything is 0 or empty.
class Reader {
  public:
    explicit Reader(std::span<const std::uint8_t> bytes) : bytes_(bytes) {}
    bool done() const { return at_ >= bytes_.size(); }
    std::size_t at() const { return at_; }
    std::uint64_t uleb() {
        std::uint64_t value = 0;
        for (unsigned shift = 0; !done(); shift += 7) {
            const std::uint8_t b = bytes_[at_++];
            if (shift < 64) value |= std::uint64_t{b & 0x7Fu} << shift;
            if ((b & 0x80) == 0) break;
        }
        return value;
    }
    std::uint32_t word() {
        std::uint32_t value = 0;
        for (unsigned i = 0; i < 4 && !done(); ++i) value |= std::uint32_t{bytes_[at_++]} << (8 * i);
        return value;
    }
    std::string text() {
        std::string s;
        while (!done() && bytes_[at_] != 0) s.push_back(static_cast<char>(bytes_[at_++]));
        ++at_;
        return s;
    }
    Reader part(std::size_t size) {
        const std::size_t n = std::min(size, done() ? 0 : bytes_.size() - at_);
        Reader r(bytes_.subspan(at_, n));
        at_ += n;
        return r;
    }

  private:
    std::span<const std::uint8_t> bytes_;
    std::size_t at_ = 0;
};

// The attributes of the file in the vendor's part of a section: 'A', then parts of [size, vendor, sub-parts].
std::optional<Reader> file_attributes(std::span<const std::uint8_t> section, std::string_view vendor) {
    if (section.empty() || section[0] != 'A') return std::nullopt;
    Reader all(section.subspan(1));
    while (!all.done()) {
        const std::uint32_t size = all.word();
        if (size < 5) return std::nullopt;
        Reader part = all.part(size - 4);
        if (part.text() != vendor) continue;
        while (!part.done()) {
            const std::size_t from = part.at();
            const std::uint64_t tag = part.uleb();
            const std::uint32_t length = part.word();
            const std::size_t head = part.at() - from;
            if (length < head) return std::nullopt;
            Reader inside = part.part(length - head);
            if (tag == kFile) return inside;
        }
    }
    return std::nullopt;
}

}  // namespace

std::string arm_isa(std::span<const std::uint8_t> section) {
    constexpr unsigned kRawName = 4, kName = 5, kArch = 6, kProfile = 7, kCompatibility = 32;
    auto attributes = file_attributes(section, "aeabi");
    if (!attributes) return {};
    std::uint64_t arch = 0, profile = 0;
    while (!attributes->done()) {
        const std::uint64_t tag = attributes->uleb();
        if (tag == kCompatibility) {
            attributes->uleb();
            attributes->text();
        } else if (tag == kRawName || tag == kName || (tag > kCompatibility && tag % 2 == 1)) {
            attributes->text();
        } else {
            const std::uint64_t value = attributes->uleb();
            if (tag == kArch) arch = value;
            if (tag == kProfile) profile = value;
        }
    }
    switch (arch) {
        case 10:
            return profile == 'M' ? "armv7-m" : profile == 'R' ? "armv7-r" : profile == 'A' ? "armv7-a" : "";
        case 11:
        case 12:
            return "armv6-m";
        case 13:
            return "armv7e-m";
        case 14:
            return "armv8-a32";
        case 16:
            return "armv8-m.base";
        case 17:
            return "armv8-m.main";
        case 21:
            return "armv8.1-m.main";
        default:
            return {};
    }
}

std::string riscv_isa(std::span<const std::uint8_t> section) {
    constexpr unsigned kArch = 5;
    auto attributes = file_attributes(section, "riscv");
    if (!attributes) return {};
    while (!attributes->done()) {
        const std::uint64_t tag = attributes->uleb();
        if (tag % 2 == 0) {
            attributes->uleb();
            continue;
        }
        const std::string text = attributes->text();
        if (tag != kArch || text.size() < 5 || !text.starts_with("rv")) continue;
        // rv32i2p1_m2p0_c2p0_zicsr2p0: parts that begin with one letter and go on with a version.
        std::string isa = text.substr(0, 4);
        std::size_t at = 4;
        while (at < text.size()) {
            const std::size_t end = std::min(text.find('_', at), text.size());
            const char letter = text[at];
            const bool alone = at + 1 == end || (text[at + 1] >= '0' && text[at + 1] <= '9');
            if (letter >= 'a' && letter <= 'z' && alone) isa.push_back(letter);
            at = end + 1;
        }
        return isa;
    }
    return {};
}

}  // namespace mt
