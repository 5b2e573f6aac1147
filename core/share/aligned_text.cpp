#include "share/aligned_text.h"

#include <algorithm>

namespace mt {

std::size_t shown_length(const std::string& text) {
    return static_cast<std::size_t>(
        std::count_if(text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0) != 0x80; }));
}

std::string aligned_text(const std::vector<std::vector<std::string>>& rows, const std::vector<bool>& left) {
    std::vector<std::size_t> width(left.size());
    for (const auto& row : rows)
        for (std::size_t c = 0; c < row.size(); ++c) width[c] = std::max(width[c], shown_length(row[c]));
    std::string out;
    for (const auto& row : rows) {
        std::string text;
        for (std::size_t c = 0; c < row.size(); ++c) {
            const std::string blank(width[c] - shown_length(row[c]), ' ');
            text += (c == 0 ? "" : "  ") + (left[c] ? row[c] + blank : blank + row[c]);
        }
        text.erase(text.find_last_not_of(' ') + 1);
        out += text + "\n";
    }
    return out;
}

}  // namespace mt
