#include "base/read_file.h"
#include "target/orti.h"

#include <cctype>
#include <charconv>
#include <optional>
#include <vector>

namespace mt {
namespace {

struct Token {
    enum class Kind : std::uint8_t { word, text, sign, end } kind = Kind::end;
    std::string text;
    unsigned line = 0;
};

// Words, quoted texts and single signs; comments as in C (ISO 17356-6, lexical conventions).
Result<std::vector<Token>> tokens_of(std::string_view s, const std::string& path) {
    std::vector<Token> out;
    unsigned line = 1;
    const auto word_sign = [](char c) {
        return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_' || c == '.' || c == '-' || c == '+';
    };
    for (std::size_t i = 0; i < s.size();) {
        const char c = s[i];
        if (c == '\n') ++line;
        if (std::isspace(static_cast<unsigned char>(c)) != 0) {
            ++i;
        } else if (s.substr(i, 2) == "//") {
            while (i < s.size() && s[i] != '\n') ++i;
        } else if (s.substr(i, 2) == "/*") {
            const auto end = s.find("*/", i + 2);
            if (end == std::string_view::npos)
                return failure("a comment has no end", path + ":" + std::to_string(line), "close it with */");
            for (; i < end + 2; ++i) line += s[i] == '\n' ? 1 : 0;
        } else if (c == '"') {
            Token t{Token::Kind::text, "", line};
            for (++i; i < s.size() && s[i] != '"'; ++i) {
                if (s[i] == '\\' && i + 1 < s.size()) ++i;
                if (s[i] == '\n') ++line;
                t.text += s[i];
            }
            if (i >= s.size())
                return failure("a text has no end", path + ":" + std::to_string(t.line), "close it with a quote");
            ++i;
            out.push_back(std::move(t));
        } else if (word_sign(c)) {
            Token t{Token::Kind::word, "", line};
            while (i < s.size() && word_sign(s[i])) t.text += s[i++];
            out.push_back(std::move(t));
        } else {
            out.push_back({Token::Kind::sign, std::string(1, c), line});
            ++i;
        }
    }
    out.push_back({Token::Kind::end, "", line});
    return out;
}

std::optional<std::uint64_t> number_of(std::string_view s) {
    int base = 10;
    if (s.substr(0, 2) == "0x" || s.substr(0, 2) == "0X") {
        base = 16;
        s.remove_prefix(2);
    }
    std::uint64_t v = 0;
    const auto [end, ec] = std::from_chars(s.data(), s.data() + s.size(), v, base);
    return ec == std::errc() && end == s.data() + s.size() && !s.empty() ? std::optional(v) : std::nullopt;
}

// A number, or the address of a symbol, perhaps in parentheses.
std::optional<std::uint64_t> value_of(std::string_view s, const Image* image) {
    while (!s.empty() && (s.front() == ' ' || s.front() == '(')) s.remove_prefix(1);
    while (!s.empty() && (s.back() == ' ' || s.back() == ')')) s.remove_suffix(1);
    if (const auto n = number_of(s)) return n;
    if (s.empty() || s.front() != '&' || image == nullptr) return std::nullopt;
    s.remove_prefix(1);
    std::uint64_t offset = 0;
    std::string_view name = s;
    std::optional<std::uint64_t> index;
    if (const auto bracket = s.find('['); bracket != std::string_view::npos && s.back() == ']') {
        name = s.substr(0, bracket);
        index = number_of(s.substr(bracket + 1, s.size() - bracket - 2));
        if (!index) return std::nullopt;
    }
    const Symbol* symbol = image->symbol_named(name);
    if (symbol == nullptr) return std::nullopt;
    if (index && *index > 0) return std::nullopt;  // the size of an element is not in the symbol
    return symbol->address + offset;
}

class Parser {
  public:
    Parser(const std::vector<Token>& tokens, const std::string& path, const Image* image)
        : tokens_(tokens), path_(path), image_(image) {}

    Result<OrtiNames> parse() {
        bool any = false;
        for (; now().kind != Token::Kind::end; ++at_) {
            // In the declaration: ENUM "type" [ "name" = value, … ] RUNNINGTASK, "…";
            if (now().kind == Token::Kind::word && now().text == "ENUM") {
                const std::size_t from = at_;
                if (auto read = read_enum(); !read) return tl::make_unexpected(read.error());
                any = any || !names_.tasks.empty();
                if (at_ <= from) at_ = from;
            }
            // In the information: RUNNINGTASK = "expression";
            if (now().kind == Token::Kind::word && now().text == "RUNNINGTASK" && at_ + 2 < tokens_.size() &&
                tokens_[at_ + 1].text == "=" && tokens_[at_ + 2].kind == Token::Kind::text)
                names_.running_task = tokens_[at_ + 2].text;
        }
        if (!any)
            return failure("no task is named for RUNNINGTASK", path_,
                           unresolved_ > 0 ? "its values are addresses of symbols: give the image that runs"
                                           : "its OS object needs ENUM [ \"name\" = value, … ] RUNNINGTASK");
        return names_;
    }

  private:
    const Token& now() const { return tokens_[std::min(at_, tokens_.size() - 1)]; }
    bool sign(const char* s) {
        if (now().kind != Token::Kind::sign || now().text != s) return false;
        ++at_;
        return true;
    }
    Result<void> read_enum() {
        const unsigned line = now().line;
        ++at_;
        if (now().kind == Token::Kind::text) ++at_;  // the C type
        if (!sign("[")) return {};
        std::vector<std::pair<std::string, std::string>> entries;
        while (!sign("]")) {
            if (now().kind == Token::Kind::end)
                return failure("a list of names has no end", path_ + ":" + std::to_string(line), "close it with ]");
            if (now().kind != Token::Kind::text) {
                ++at_;
                continue;
            }
            std::pair<std::string, std::string> entry{now().text, ""};
            ++at_;
            if (sign(":")) ++at_;  // a description, or the link to another object
            if (!sign("=")) continue;
            if (now().kind == Token::Kind::text) {
                entry.second = now().text;
                ++at_;
            } else {
                while (now().kind == Token::Kind::word || (now().kind == Token::Kind::sign && now().text == "&")) {
                    entry.second += now().text;
                    ++at_;
                }
            }
            entries.push_back(std::move(entry));
        }
        if (now().text != "RUNNINGTASK") return {};
        for (const auto& [name, value] : entries) {
            if (name == "NO_TASK" || name == "INVALID_TASK") names_.no_task = name;
            if (const auto v = value_of(value, image_))
                names_.tasks.emplace(*v, name);
            else
                ++unresolved_;
        }
        return {};
    }

    const std::vector<Token>& tokens_;
    const std::string& path_;
    const Image* image_;
    std::size_t at_ = 0, unresolved_ = 0;
    OrtiNames names_;
};

}  // namespace

Result<OrtiNames> parse_orti(std::string_view text, const std::string& path, const Image* image) {
    auto tokens = tokens_of(text, path);
    if (!tokens) return tl::make_unexpected(tokens.error());
    return Parser(*tokens, path, image).parse();
}

Result<OrtiNames> read_orti(const std::string& path, const Image* image) {
    const auto text = read_small_file(path, 64'000'000, "ORTI file");
    if (!text) return tl::make_unexpected(text.error());
    return parse_orti(*text, path, image);
}

}  // namespace mt
