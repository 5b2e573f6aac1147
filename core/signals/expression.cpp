#include "signals/expression.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <cstdlib>
#include <optional>
#include <string_view>

namespace mt {

using Does = SignalExpression::Does;

namespace {

struct Callable {
    std::string_view name;
    Does does;
    unsigned least, most;  ///< arguments
    bool time = false;     ///< the last is a length of time
};
constexpr Callable kCallables[] = {
    {"abs", Does::absolute, 1, 1},   {"sqrt", Does::root, 1, 1},
    {"floor", Does::floor, 1, 1},    {"bit", Does::bit, 2, 2},
    {"rate", Does::rate, 1, 1},      {"integral", Does::integral, 1, 1},
    {"mean", Does::mean_of_time, 2, 2, true},
    {"min", Does::least_of_time, 2, 2, true},
    {"max", Does::greatest_of_time, 2, 2, true},
    {"min", Does::least, 2, 16},     {"max", Does::greatest, 2, 16},
};

struct SignOf {
    std::string_view sign;
    unsigned binds;  ///< the tighter, the more
    Does does;
};
// Longer signs before those that they begin with.
constexpr SignOf kSignsOf[] = {
    {"||", 1, Does::either},      {"&&", 2, Does::both},          {"==", 6, Does::equal}, {"!=", 6, Does::not_equal},
    {"<<", 8, Does::left},        {">>", 8, Does::right},         {"<=", 7, Does::less_equal},
    {">=", 7, Does::greater_equal}, {"<", 7, Does::less},         {">", 7, Does::greater}, {"|", 3, Does::bits_or},
    {"^", 4, Does::bits_xor},     {"&", 5, Does::bits_and},       {"+", 9, Does::plus},   {"-", 9, Does::minus},
    {"*", 10, Does::times},       {"/", 10, Does::over},          {"%", 10, Does::modulo},
};
constexpr std::pair<std::string_view, double> kTimes[] = {
    {"ns", 1e-9}, {"us", 1e-6}, {"µs", 1e-6}, {"ms", 1e-3}, {"min", 60}, {"s", 1}};

bool is_letter(char c) { return std::isalpha(static_cast<unsigned char>(c)) != 0 || c == '_' || (c & 0x80) != 0; }
bool is_digit(char c) { return std::isdigit(static_cast<unsigned char>(c)) != 0; }

}  // namespace

class ExpressionParser {
  public:
    explicit ExpressionParser(SignalExpression& out) : out_(out), text_(out.text_) {}

    Result<void> read() {
        if (text_.size() > SignalExpression::kLongest)
            return failure("a formula has at most " + std::to_string(SignalExpression::kLongest) + " characters");
        const auto whole = choice(0);
        if (!whole) return tl::make_unexpected(*problem_);
        skip();
        if (at_ != text_.size()) (void)fail("something unexpected stands");
        if (!problem_ && times_[*whole]) (void)fail("a length of time alone is no signal");
        if (!problem_ && out_.signals_.empty()) (void)fail("no signal is named");
        if (problem_) return tl::make_unexpected(*problem_);
        return {};
    }

  private:
    using Index = std::optional<std::uint32_t>;

    std::nullopt_t fail(const std::string& what) {
        if (!problem_)
            problem_ = failure("'" + text_ + "' is no formula: " + what + " at column " + std::to_string(at_ + 1), "",
                               "write it as in C; names with blanks between ` signs: `board current` * 3.3")
                           .value();
        return std::nullopt;
    }
    void skip() {
        while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_])) != 0) ++at_;
    }
    bool take(std::string_view sign) {
        skip();
        if (text_.compare(at_, sign.size(), sign) != 0) return false;
        at_ += sign.size();
        return true;
    }
    std::uint32_t add(SignalExpression::Node node, bool time = false) {
        out_.nodes_.push_back(std::move(node));
        times_.push_back(time);
        return static_cast<std::uint32_t>(out_.nodes_.size() - 1);
    }
    std::uint32_t add(Does does, std::vector<std::uint32_t> of) {
        SignalExpression::Node n;
        n.does = does;
        n.of = std::move(of);
        if (does == Does::rate || does == Does::integral || does >= Does::mean_of_time) n.window = out_.windows_++;
        return add(std::move(n));
    }

    // condition ? one : other
    Index choice(std::size_t depth) {
        const Index condition = binary(0, depth);
        if (!condition || !take("?")) return condition;
        if (depth > SignalExpression::kDeepest) return fail("it is nested too deep");
        const Index one = choice(depth + 1);
        if (!one) return one;
        if (!take(":")) return fail("':' is missing");
        const Index other = choice(depth + 1);
        if (!other) return other;
        return add(Does::choose, {*condition, *one, *other});
    }

    const SignOf* next_operator() {
        skip();
        for (const SignOf& o : kSignsOf)
            if (text_.compare(at_, o.sign.size(), o.sign) == 0) return &o;
        return nullptr;
    }
    Index binary(unsigned least, std::size_t depth) {
        Index left = unary(depth);
        while (left) {
            const SignOf* o = next_operator();
            if (o == nullptr || o->binds <= least) break;
            at_ += o->sign.size();
            if (depth > SignalExpression::kDeepest) return fail("it is nested too deep");
            const Index right = binary(o->binds, depth + 1);
            if (!right) return right;
            if (times_[*left] || times_[*right]) return fail("a length of time stands where a value is expected before");
            left = add(o->does, {*left, *right});
        }
        return left;
    }
    Index unary(std::size_t depth) {
        if (depth > SignalExpression::kDeepest) return fail("it is nested too deep");
        for (const auto& [sign, does] : {std::pair{"-", Does::negate}, {"!", Does::is_not}, {"~", Does::complement}})
            if (take(sign)) {
                const Index of = unary(depth + 1);
                return of ? Index(add(does, {*of})) : of;
            }
        if (take("+")) return unary(depth + 1);
        return primary(depth);
    }

    Index primary(std::size_t depth) {
        skip();
        if (at_ >= text_.size()) return fail("a value is missing");
        if (take("(")) {
            const Index inner = choice(depth + 1);
            if (inner && !take(")")) return fail("')' is missing");
            return inner;
        }
        const char c = text_[at_];
        if (is_digit(c) || (c == '.' && at_ + 1 < text_.size() && is_digit(text_[at_ + 1]))) return number();
        if (c == '`') {
            const auto end = text_.find('`', at_ + 1);
            if (end == std::string::npos) return fail("the second ` is missing for the one");
            const std::string name = text_.substr(at_ + 1, end - at_ - 1);
            if (name.empty()) return fail("a name is missing");
            at_ = end + 1;
            return signal(name);
        }
        if (!is_letter(c)) return fail("a value is missing");
        const std::size_t from = at_;
        std::string name = word();
        if (take("(")) return call(name, from, depth);
        return signal(name);
    }
    // Members, elements and bits are part of a name: axis[1].error, guide::state, LIMIT[3:0].
    std::string word() {
        const std::size_t from = at_;
        while (at_ < text_.size()) {
            const char c = text_[at_];
            const bool inside = is_letter(c) || is_digit(c) || c == '.' || c == '$' ||
                                (c == ':' && (text_.compare(at_, 2, "::") == 0 || (at_ > from && text_[at_ - 1] == ':')));
            if (c == '[') {
                const auto close = text_.find(']', at_);
                if (close == std::string::npos || close - at_ > 12) break;
                at_ = close + 1;
                continue;
            }
            if (!inside) break;
            ++at_;
        }
        return text_.substr(from, at_ - from);
    }
    Index signal(const std::string& name) {
        const auto known = std::find(out_.signals_.begin(), out_.signals_.end(), name);
        SignalExpression::Node n;
        n.does = Does::signal;
        n.signal = static_cast<std::uint32_t>(known - out_.signals_.begin());
        if (known == out_.signals_.end()) out_.signals_.push_back(name);
        return add(std::move(n));
    }
    // 3.3, 0x1F, 1e-3; with a unit of time behind it a length of time: 10 ms.
    Index number() {
        char* end = nullptr;
        const char* from = text_.c_str() + at_;
        const bool hex = text_.compare(at_, 2, "0x") == 0 || text_.compare(at_, 2, "0X") == 0;
        SignalExpression::Node n;
        n.number = hex ? static_cast<double>(std::strtoull(from, &end, 16)) : std::strtod(from, &end);
        if (end == from) return fail("a number is missing");
        at_ += static_cast<std::size_t>(end - from);
        const std::size_t behind = at_;
        skip();
        for (const auto& [unit, seconds] : kTimes) {
            if (text_.compare(at_, unit.size(), unit) != 0) continue;
            const std::size_t after = at_ + unit.size();
            if (after < text_.size() && (is_letter(text_[after]) || is_digit(text_[after]) || text_[after] == '(')) continue;
            at_ = after;
            n.number *= seconds;
            return add(std::move(n), true);
        }
        at_ = behind;
        return add(std::move(n));
    }
    Index call(const std::string& name, std::size_t from, std::size_t depth) {
        if (depth > SignalExpression::kDeepest) return fail("it is nested too deep");
        std::vector<std::uint32_t> of;
        if (!take(")"))
            for (;;) {
                const Index one = choice(depth + 1);
                if (!one) return one;
                of.push_back(*one);
                if (take(")")) break;
                if (!take(",")) return fail("',' or ')' is missing");
            }
        const bool time = !of.empty() && times_[of.back()];
        for (std::size_t i = 0; i + 1 < of.size(); ++i)
            if (times_[of[i]]) return fail("a length of time stands where a value is expected before");
        bool known = false;
        for (const Callable& f : kCallables) {
            if (f.name != name) continue;
            known = true;
            if (f.time != time || of.size() < f.least || of.size() > f.most) continue;
            if (time && !(out_.nodes_[of.back()].number > 0)) return fail("a length of time of nothing stands before");
            return add(f.does, std::move(of));
        }
        at_ = from;
        if (known) return fail(name + " takes something else");
        return fail("'" + name + "' is no function");
    }

    SignalExpression& out_;
    const std::string& text_;
    std::vector<bool> times_;  ///< which nodes are lengths of time
    std::size_t at_ = 0;
    std::optional<Problem> problem_;
};

Result<SignalExpression> SignalExpression::read(const std::string& text) {
    SignalExpression e;
    e.text_ = text;
    if (auto ok = ExpressionParser(e).read(); !ok) return tl::make_unexpected(ok.error());
    return e;
}

}  // namespace mt
