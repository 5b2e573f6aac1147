#include "base/plain_text.h"

#include <cstdint>

namespace mt {

std::string plain_text(std::string_view text) {
    std::string out;
    out.reserve(text.size());
    const auto show = [&out](unsigned char c) {
        constexpr char digits[] = "0123456789abcdef";
        out += "\\x";
        out += digits[c >> 4];
        out += digits[c & 15];
    };
    for (std::size_t i = 0; i < text.size(); ++i) {
        const auto c = static_cast<unsigned char>(text[i]);
        const auto next = i + 1 < text.size() ? static_cast<unsigned char>(text[i + 1]) : std::uint8_t{0};
        if ((c < 0x20 && c != '\n' && c != '\t') || c == 0x7F) {
            show(c);
        } else if (c == 0xC2 && next >= 0x80 && next < 0xA0) {
            show(next);
            ++i;
        } else if (c >= 0x80 && c < 0xA0 && (i == 0 || static_cast<unsigned char>(text[i - 1]) < 0x80)) {
            show(c);  // no UTF-8: terminals of old take it for a control character
        } else {
            out += text[i];
        }
    }
    return out;
}

}  // namespace mt
