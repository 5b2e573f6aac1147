#include "target/toml_text.h"

#include <vector>

namespace mt {

namespace {

/// Follows the text as far as strings and comments go, and where in a `key = value` it stands. It need be right
/// only up to the first error in the text: the parser goes no further than that.
class TomlScan {
  public:
    TomlScan(std::string_view text, const std::string& path) : text_(text), path_(path) {}

    std::optional<Problem> run() {
        if (text_.substr(0, 3) == "\xEF\xBB\xBF") i_ = 3;  // a byte-order mark is allowed
        while (i_ < text_.size()) {
            const char c = text_[i_];
            if (static_cast<unsigned char>(c) >= 0x80)
                return bad("a character beyond ASCII outside quotes",
                           "put the text in quotes, or remove the character");
            if (c == '"' || c == '\'') {
                if (at_ == At::BareValue || at_ == At::AfterValue)
                    return bad("a quote in the middle of a value", "put the whole value in quotes, one value a line");
                skip_string(c);
                if (at_ == At::Value) at_ = At::AfterValue;
            } else if (c == '#') {
                while (i_ < text_.size() && text_[i_] != '\n') ++i_;
            } else {
                step(c);
                if (too_deep_) return bad("tables or lists nested too deeply", "no setting is nested like this");
                ++i_;
            }
        }
        return std::nullopt;
    }

  private:
    enum class At { Key, Value, BareValue, AfterValue };

    std::optional<Problem> bad(const std::string& what, const std::string& next) const {
        return Problem{"not valid TOML: " + what, path_ + ":" + std::to_string(line_), next};
    }

    /// Tables within tables beyond this, and lists, are no settings: the parser goes one call deeper for each.
    static constexpr std::size_t kDeepest = 40;

    void step(char c) {
        if (at_ == At::Key && (c == '.' || c == '[')) too_deep_ = too_deep_ || ++dots_ > kDeepest;
        if (c == '\n' || c == '=' || c == ',') dots_ = 0;
        if (open_.size() > kDeepest) too_deep_ = true;
        if (c == '\n') {
            ++line_;
            if (at_ == At::BareValue) at_ = At::AfterValue;
            if (open_.empty()) at_ = At::Key;
            return;
        }
        const bool key = at_ == At::Key;
        if (c == '=' && key) {
            at_ = At::Value;
        } else if (at_ == At::Value && (c == '[' || c == '{')) {
            open_.push_back(c);
            at_ = c == '[' ? At::Value : At::Key;
        } else if (!open_.empty() && (c == ']' || c == '}')) {
            open_.pop_back();
            at_ = At::AfterValue;
        } else if (!open_.empty() && c == ',') {
            at_ = open_.back() == '[' ? At::Value : At::Key;
        } else if (c == ' ' || c == '\t' || c == '\r') {
            if (at_ == At::BareValue) at_ = At::AfterValue;
        } else if (!key) {
            at_ = At::BareValue;
        }
    }

    /// From the opening quote past the closing one, or past what the parser reads of a string that is not closed.
    void skip_string(char quote) {
        const std::string three(3, quote);
        const bool many_lines = text_.substr(i_, 3) == three;
        for (i_ += many_lines ? 3 : 1; i_ < text_.size(); ++i_) {
            if (text_[i_] == '\n') {
                if (!many_lines) return;
                ++line_;
            } else if (text_[i_] == '\\' && quote == '"') {
                if (i_ + 1 < text_.size() && text_[i_ + 1] != '\n') ++i_;
            } else if (many_lines ? text_.substr(i_, 3) == three : text_[i_] == quote) {
                i_ += many_lines ? 3 : 1;
                for (int more = 0; many_lines && more < 2 && i_ < text_.size() && text_[i_] == quote; ++more) ++i_;
                return;
            }
        }
    }

    std::string_view text_;
    const std::string& path_;
    std::size_t i_ = 0;
    unsigned line_ = 1;
    std::size_t dots_ = 0;  ///< of the key that is read
    bool too_deep_ = false;
    At at_ = At::Key;
    std::vector<char> open_;  ///< arrays and inline tables that the place is in
};

}  // namespace

std::optional<Problem> check_toml_text(std::string_view text, const std::string& path) {
    return TomlScan(text, path).run();
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
