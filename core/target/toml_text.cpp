#include "target/toml_text.h"

namespace mt {

std::optional<Problem> check_toml_text(std::string_view text, const std::string& path) {
    if (text.substr(0, 3) == "\xEF\xBB\xBF") text.remove_prefix(3);  // a byte-order mark is allowed
    unsigned line = 1;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const char c = text[i];
        if (c == '\n') ++line;
        if (c == '#') {
            while (i + 1 < text.size() && text[i + 1] != '\n') ++i;
        } else if (c == '"' || c == '\'') {
            const std::string_view three(c == '"' ? "\"\"\"" : "\'\'\'");
            const bool many_lines = text.substr(i, 3) == three;
            for (i += many_lines ? 3 : 1; i < text.size(); ++i) {
                if (text[i] == '\n') {
                    if (!many_lines) {
                        --i;
                        break;
                    }  // not closed: the parser will say so
                    ++line;
                }
                if (text[i] == '\\' && c == '"') {
                    i += 1;
                    continue;
                }
                if (many_lines ? text.substr(i, 3) == three : text[i] == c) {
                    i += many_lines ? 2 : 0;
                    break;
                }
            }
        } else if (static_cast<unsigned char>(c) >= 0x80) {
            return Problem{"not valid TOML: a character beyond ASCII outside quotes", path + ":" + std::to_string(line),
                           "put the text in quotes, or remove the character"};
        }
    }
    return std::nullopt;
}

Result<toml::table> parse_toml(std::string_view text, const std::string& path) {
    if (auto bad = check_toml_text(text, path)) return tl::make_unexpected(*bad);
    try {
        return toml::parse(text, path);
    } catch (const toml::parse_error& e) {
        return failure(std::string("not valid TOML: ") + std::string(e.description()),
                       path + ":" + std::to_string(e.source().begin.line), "correct this line");
    }
}

}  // namespace mt
