// CTF 1.8 metadata: its declaration language (CTF 1.8.3, section 7 and appendix C).
#include <algorithm>
#include <cctype>

#include "wire/ctf_metadata.h"

namespace mt {
namespace {

struct Token {
    enum class Kind : std::uint8_t { name, number, text, sign, end };
    Kind kind = Kind::end;
    std::string text;
    std::uint64_t value = 0;
    std::size_t at = 0;
};

struct WrongText {
    std::string what;
    std::size_t at = 0;
};

std::vector<Token> tokens_of(std::string_view s) {
    std::vector<Token> all;
    std::size_t i = 0;
    const auto rest_is = [&](std::string_view w) { return s.substr(i, w.size()) == w; };
    while (i < s.size()) {
        const char c = s[i];
        if (std::isspace(static_cast<unsigned char>(c)) != 0) {
            ++i;
        } else if (rest_is("/*")) {
            const auto end = s.find("*/", i + 2);
            if (end == std::string_view::npos) throw WrongText{"a comment has no end", i};
            i = end + 2;
        } else if (rest_is("//")) {
            i = std::min(s.find('\n', i), s.size());
        } else if (std::isalpha(static_cast<unsigned char>(c)) != 0 || c == '_') {
            Token t{Token::Kind::name, {}, 0, i};
            while (i < s.size() && (std::isalnum(static_cast<unsigned char>(s[i])) != 0 || s[i] == '_'))
                t.text += s[i++];
            all.push_back(std::move(t));
        } else if (std::isdigit(static_cast<unsigned char>(c)) != 0) {
            Token t{Token::Kind::number, {}, 0, i};
            while (i < s.size() && std::isalnum(static_cast<unsigned char>(s[i])) != 0) t.text += s[i++];
            std::string digits = t.text;
            while (!digits.empty() &&
                   (digits.back() == 'u' || digits.back() == 'U' || digits.back() == 'l' || digits.back() == 'L'))
                digits.pop_back();
            std::size_t used = 0;
            try {
                t.value = std::stoull(digits, &used, 0);
            } catch (const std::exception&) {
                used = 0;
            }
            if (used == 0 || used != digits.size()) throw WrongText{"'" + t.text + "' is no number", t.at};
            all.push_back(std::move(t));
        } else if (c == '"' || c == '\'') {
            Token t{Token::Kind::text, {}, 0, i++};
            while (i < s.size() && s[i] != c) {
                if (s[i] == '\\' && i + 1 < s.size()) {
                    ++i;
                    const char e = s[i++];
                    t.text += e == 'n' ? '\n' : e == 't' ? '\t' : e;
                } else {
                    t.text += s[i++];
                }
            }
            if (i >= s.size()) throw WrongText{"a text has no closing quote", t.at};
            ++i;
            all.push_back(std::move(t));
        } else {
            static const char* const signs[] = {"...", ":=", "->", "{", "}", "[", "]", "<", ">", "(",
                                                ")",   ";",  "=",  ",", ":", ".", "-", "+", "*"};
            Token t{Token::Kind::sign, {}, 0, i};
            for (const char* sign : signs)
                if (rest_is(sign)) {
                    t.text = sign;
                    break;
                }
            if (t.text.empty()) throw WrongText{std::string("the character '") + c + "' does not belong here", i};
            i += t.text.size();
            all.push_back(std::move(t));
        }
    }
    all.push_back({Token::Kind::end, "the end of the metadata", 0, s.size()});
    return all;
}

class TextMetadata {
  public:
    explicit TextMetadata(std::string_view text) : tokens_(tokens_of(text)) {
        scopes_.emplace_back();
        m.packet_header.kind = CtfType::Kind::structure;
        find_byte_order();
    }
    CtfMetadata m;

    void run() {
        while (peek().kind != Token::Kind::end) top();
        finish();
    }

  private:
    using Types = std::map<std::string, CtfType>;

    const Token& peek(std::size_t ahead = 0) const { return tokens_[std::min(at_ + ahead, tokens_.size() - 1)]; }
    Token take() { return tokens_[at_ < tokens_.size() - 1 ? at_++ : at_]; }
    [[noreturn]] void fail(const std::string& what) const { throw WrongText{what, peek().at}; }
    bool is(std::string_view text, std::size_t ahead = 0) const {
        const Token& t = peek(ahead);
        return (t.kind == Token::Kind::name || t.kind == Token::Kind::sign) && t.text == text;
    }
    bool accept(std::string_view text) {
        if (!is(text)) return false;
        ++at_;
        return true;
    }
    void expect(std::string_view text) {
        if (!accept(text)) fail("'" + std::string(text) + "' is expected, not '" + peek().text + "'");
    }
    std::string name() {
        if (peek().kind != Token::Kind::name) fail("a name is expected, not '" + peek().text + "'");
        return take().text;
    }
    std::int64_t integer() {
        const bool minus = accept("-");
        if (!minus) (void)accept("+");
        if (peek().kind != Token::Kind::number) fail("a number is expected, not '" + peek().text + "'");
        const std::uint64_t v = take().value;
        return static_cast<std::int64_t>(minus ? 0 - v : v);
    }

    // The trace's byte order holds for types declared before it too.
    void find_byte_order() {
        for (std::size_t i = 0; i + 2 < tokens_.size(); ++i)
            if (tokens_[i].text == "trace" && tokens_[i + 1].text == "{") {
                unsigned depth = 0;
                for (std::size_t k = i + 1; k + 2 < tokens_.size(); ++k) {
                    if (tokens_[k].text == "{") ++depth;
                    if (tokens_[k].text == "}" && --depth == 0) break;
                    if (depth == 1 && tokens_[k].text == "byte_order" && tokens_[k + 1].text == "=")
                        m.big_endian = order(tokens_[k + 2]);
                }
            }
    }
    bool order(const Token& t) const {
        if (t.text == "be" || t.text == "network") return true;
        if (t.text == "le") return false;
        if (t.text == "native") return m.big_endian;
        throw WrongText{"'" + t.text + "' is no byte order: be, le, network or native", t.at};
    }

    const CtfType* lookup(const std::string& key) const {
        for (auto s = scopes_.rbegin(); s != scopes_.rend(); ++s)
            if (const auto found = s->find(key); found != s->end()) return &found->second;
        return nullptr;
    }

    void top() {
        if (accept(";")) return;
        if (declared()) return;
        if (is("trace") && is("{", 1)) return trace();
        if (is("env") && is("{", 1)) return environment();
        if (is("clock") && is("{", 1)) return clock();
        if (is("stream") && is("{", 1)) return stream();
        if (is("event") && is("{", 1)) return event();
        if (is("callsite") && is("{", 1)) return skip_block();
        if (is("struct") || is("enum") || is("variant")) {
            (void)type(0);
            expect(";");
            return;
        }
        fail("'" + peek().text + "' begins nothing that is known here");
    }

    void skip_block() {
        (void)take();
        expect("{");
        for (unsigned depth = 1; depth > 0;) {
            if (peek().kind == Token::Kind::end) fail("a block is not closed");
            if (is("{")) ++depth;
            if (is("}")) --depth;
            (void)take();
        }
        (void)accept(";");
    }

    // A type's own name of several words: "unsigned int", "struct packet".
    std::string alias_name() {
        std::string all;
        while (peek().kind == Token::Kind::name || is("*")) {
            all += (all.empty() ? "" : " ") + take().text;
        }
        if (all.empty()) fail("the new type needs a name");
        return all;
    }
    /// A new name for a type, if one is declared here.
    bool declared() {
        if (is("typealias"))
            typealias();
        else if (is("typedef"))
            type_definition();
        else
            return false;
        return true;
    }
    void typealias() {
        expect("typealias");
        CtfType t = type(0);
        expect(":=");
        scopes_.back()[alias_name()] = std::move(t);
        expect(";");
    }
    void type_definition() {
        expect("typedef");
        const CtfType base = type(0);
        do {
            std::string new_name;
            CtfType t = declarator(base, new_name);
            scopes_.back()[new_name] = std::move(t);
        } while (accept(","));
        expect(";");
    }

    // Name with [length]s behind it.
    CtfType declarator(const CtfType& base, std::string& declared) {
        declared = name();
        struct Bound {
            std::uint64_t count = 0;
            std::vector<std::string> path;
        };
        std::vector<Bound> bounds;
        while (accept("[")) {
            Bound b;
            if (peek().kind == Token::Kind::number)
                b.count = take().value;
            else
                b.path = dotted();
            expect("]");
            bounds.push_back(std::move(b));
            if (bounds.size() > kCtfDeepest) fail("too many dimensions");
        }
        CtfType t = base;
        for (auto b = bounds.rbegin(); b != bounds.rend(); ++b) {
            CtfType outer;
            outer.kind = b->path.empty() ? CtfType::Kind::array : CtfType::Kind::sequence;
            outer.count = b->count;
            place_path(b->path, outer);
            outer.text = t.kind == CtfType::Kind::integer && t.text && t.length == 8;
            t.text = false;
            outer.fields.push_back({"", {}, std::move(t)});
            t = std::move(outer);
        }
        return t;
    }
    std::vector<std::string> dotted() {
        std::vector<std::string> path{name()};
        while (accept(".")) path.push_back(name());
        return path;
    }
    // Absolute names begin with a scope (CTF 1.8.3, 7.3.2).
    static void place_path(std::vector<std::string> path, CtfType& t) {
        struct Scope {
            std::vector<std::string> words;
            const char* origin;
        };
        static const Scope scopes[] = {{{"trace", "packet", "header"}, "packet-header"},
                                       {{"stream", "packet", "context"}, "packet-context"},
                                       {{"stream", "event", "header"}, "event-record-header"},
                                       {{"stream", "event", "context"}, "event-record-common-context"},
                                       {{"event", "context"}, "event-record-specific-context"},
                                       {{"event", "fields"}, "event-record-payload"}};
        for (const auto& s : scopes)
            if (path.size() > s.words.size() && std::equal(s.words.begin(), s.words.end(), path.begin())) {
                t.origin = s.origin;
                path.erase(path.begin(), path.begin() + static_cast<std::ptrdiff_t>(s.words.size()));
                break;
            }
        t.path = std::move(path);
    }

    // A few names that stand for each other many times would fill any memory.
    void count_copy(const CtfType& t) {
        copied_ += ctf_type_size(t);
        if (copied_ > kMostCtfCopies)
            fail("types repeat others too often: more than " + std::to_string(kMostCtfCopies) + " fields in all");
    }

    CtfType type(unsigned depth) {
        if (depth > kCtfDeepest) fail("types are nested too deep");
        if (is("integer")) return integer_type();
        if (is("floating_point")) return real_type();
        if (is("string")) return string_type();
        if (is("struct")) return structure(depth);
        if (is("variant")) return variant(depth);
        if (is("enum")) return enumeration(depth);
        // The longest known name of several words.
        std::string longest, words;
        std::size_t count = 0;
        for (std::size_t n = 0; n < 5 && peek(n).kind == Token::Kind::name; ++n) {
            words += (n == 0 ? "" : " ") + peek(n).text;
            if (lookup(words) != nullptr) {
                longest = words;
                count = n + 1;
            }
        }
        if (count == 0) fail("the type '" + peek().text + "' is not defined");
        at_ += count;
        const CtfType& alias = *lookup(longest);
        count_copy(alias);
        return alias;
    }

    unsigned power_of_two(std::uint64_t v) const {
        if (v == 0 || v > 4096 || (v & (v - 1)) != 0) fail("an alignment must be a power of two up to 4096");
        return static_cast<unsigned>(v);
    }

    CtfType integer_type() {
        expect("integer");
        CtfType t;
        t.big_endian = m.big_endian;
        t.length = 0;
        unsigned align = 0;
        expect("{");
        while (!accept("}")) {
            const std::string key = name();
            expect("=");
            if (key == "size") {
                const std::int64_t size = integer();
                if (size < 1 || size > 64) fail("an integer has 1 to 64 bits");
                t.length = static_cast<unsigned>(size);
            } else if (key == "align") {
                align = power_of_two(static_cast<std::uint64_t>(integer()));
            } else if (key == "signed") {
                t.is_signed = truth();
            } else if (key == "byte_order") {
                t.big_endian = order(take());
            } else if (key == "base") {
                const Token b = take();
                t.base = b.text == "16" || b.text == "hex" || b.text == "hexadecimal" || b.text == "x" ||
                                 b.text == "X" || b.text == "p"
                             ? 16
                         : b.text == "2" || b.text == "b" || b.text == "bin" || b.text == "binary" ? 2
                         : b.text == "8" || b.text == "o" || b.text == "oct" || b.text == "octal"  ? 8
                                                                                                   : 10;
            } else if (key == "encoding") {
                t.text = take().text != "none";
            } else if (key == "map") {
                t.clock = mapped_clock();
            } else {
                fail("an integer has no attribute '" + key + "'");
            }
            expect(";");
        }
        if (t.length == 0) fail("an integer needs a size");
        t.align = align != 0 ? align : t.length % 8 == 0 ? 8 : 1;
        return t;
    }
    int mapped_clock() {
        const auto path = dotted();
        if (path.size() < 2 || path[0] != "clock") fail("'map' must name clock.NAME.value");
        for (std::size_t i = 0; i < m.clocks.size(); ++i)
            if (m.clocks[i].name == path[1]) return static_cast<int>(i);
        fail("the clock '" + path[1] + "' is not defined");
    }
    bool truth() {
        const Token t = take();
        return t.text == "true" || t.text == "TRUE" || (t.kind == Token::Kind::number && t.value != 0);
    }

    CtfType real_type() {
        expect("floating_point");
        CtfType t;
        t.kind = CtfType::Kind::real;
        t.big_endian = m.big_endian;
        std::int64_t exponent = 8, mantissa = 24;
        unsigned align = 0;
        expect("{");
        while (!accept("}")) {
            const std::string key = name();
            expect("=");
            if (key == "exp_dig")
                exponent = integer();
            else if (key == "mant_dig")
                mantissa = integer();
            else if (key == "byte_order")
                t.big_endian = order(take());
            else if (key == "align")
                align = power_of_two(static_cast<std::uint64_t>(integer()));
            else
                fail("a floating point number has no attribute '" + key + "'");
            expect(";");
        }
        if (!(exponent == 8 && mantissa == 24) && !(exponent == 11 && mantissa == 53) &&
            !(exponent == 5 && mantissa == 11))
            fail("only IEEE 754 numbers of 16, 32 and 64 bits are read");
        t.length = static_cast<unsigned>(exponent + mantissa);
        t.align = align != 0 ? align : 8;
        return t;
    }

    CtfType string_type() {
        expect("string");
        CtfType t;
        t.kind = CtfType::Kind::string;
        t.align = 8;
        if (accept("{")) {
            while (!accept("}")) {
                (void)name();
                expect("=");
                (void)take();
                expect(";");
            }
        }
        return t;
    }

    // Members up to the closing brace, each with its own scope of types.
    void members(std::vector<CtfField>& out, unsigned depth) {
        scopes_.emplace_back();
        while (!accept("}")) {
            if (declared()) continue;
            const CtfType base = type(depth + 1);
            do {
                CtfField f;
                if (!out.empty()) count_copy(base);
                f.type = declarator(base, f.name);
                // Names may begin with an underscore to keep clear of reserved words (7.3.2).
                out.push_back(std::move(f));
                if (out.size() > 65536) fail("too many members");
            } while (accept(","));
            expect(";");
        }
        scopes_.pop_back();
    }

    CtfType structure(unsigned depth) {
        expect("struct");
        std::string own;
        if (peek().kind == Token::Kind::name && !is("align")) own = "struct " + take().text;
        CtfType t;
        if (accept("{")) {
            t.kind = CtfType::Kind::structure;
            t.align = 1;
            members(t.fields, depth);
            if (is("align") && is("(", 1)) {
                at_ += 2;
                t.align = power_of_two(static_cast<std::uint64_t>(integer()));
                expect(")");
            }
            if (!own.empty()) scopes_.back()[own] = t;
            return t;
        }
        const CtfType* known = own.empty() ? nullptr : lookup(own);
        if (known == nullptr) fail(own.empty() ? "a structure needs members" : "'" + own + "' is not defined");
        return *known;
    }

    CtfType variant(unsigned depth) {
        expect("variant");
        std::string own;
        CtfType t;
        t.kind = CtfType::Kind::variant;
        t.align = 1;
        if (peek().kind == Token::Kind::name) own = "variant " + take().text;
        std::vector<std::string> tag;
        if (accept("<")) {
            tag = dotted();
            expect(">");
        }
        if (accept("{")) {
            members(t.fields, depth);
            if (!own.empty()) scopes_.back()[own] = t;
        } else {
            const CtfType* known = own.empty() ? nullptr : lookup(own);
            if (known == nullptr) fail(own.empty() ? "a variant needs options" : "'" + own + "' is not defined");
            t = *known;
        }
        if (!tag.empty()) place_path(tag, t);
        return t;
    }

    CtfType enumeration(unsigned depth) {
        expect("enum");
        std::string own;
        if (peek().kind == Token::Kind::name && !is(":")) own = "enum " + take().text;
        CtfType t;
        if (accept(":"))
            t = type(depth + 1);
        else if (is("{"))
            t = lookup("int") != nullptr ? *lookup("int") : CtfType{};
        if (t.kind != CtfType::Kind::integer) fail("an enumeration needs an integer");
        if (!accept("{")) {
            const CtfType* known = own.empty() ? nullptr : lookup(own);
            if (known == nullptr) fail(own.empty() ? "an enumeration needs labels" : "'" + own + "' is not defined");
            return *known;
        }
        std::int64_t next = 0;
        while (!accept("}")) {
            if (peek().kind != Token::Kind::name && peek().kind != Token::Kind::text)
                fail("a label is expected, not '" + peek().text + "'");
            CtfType::Label label{take().text, {}};
            CtfType::Range r{next, next};
            if (accept("=")) {
                r.low = r.high = integer();
                if (accept("...")) r.high = integer();
            }
            next = static_cast<std::int64_t>(static_cast<std::uint64_t>(r.high) + 1);
            const auto same = std::find_if(t.labels.begin(), t.labels.end(),
                                           [&](const CtfType::Label& l) { return l.name == label.name; });
            if (same != t.labels.end())
                same->ranges.push_back(r);
            else {
                label.ranges.push_back(r);
                t.labels.push_back(std::move(label));
            }
            if (!accept(",") && !is("}")) fail("',' or '}' is expected, not '" + peek().text + "'");
        }
        if (!own.empty()) scopes_.back()[own] = t;
        return t;
    }

    /// key = value; or key := type; of a block. `on_value` and `on_type` take what they know.
    template <class OnValue, class OnType>
    void block(OnValue on_value, OnType on_type) {
        (void)take();
        expect("{");
        scopes_.emplace_back();
        while (!accept("}")) {
            if (declared()) continue;
            if ((is("struct") || is("enum") || is("variant")) && !is(".", 1) && !is("=", 1) && !is(":=", 1)) {
                (void)type(0);
                expect(";");
                continue;
            }
            const std::vector<std::string> path = dotted();
            std::string key;
            for (const auto& p : path) key += (key.empty() ? "" : ".") + p;
            if (accept(":=")) {
                on_type(key, type(0));
            } else {
                expect("=");
                on_value(key);
            }
            expect(";");
        }
        scopes_.pop_back();
        (void)accept(";");
    }
    // The words of a value, up to the semicolon.
    std::string value() {
        std::string all;
        while (!is(";")) {
            if (peek().kind == Token::Kind::end) fail("';' is missing");
            all += (all.empty() || is(".") || (!all.empty() && all.back() == '.') ? "" : " ") + take().text;
        }
        return all;
    }

    void trace() {
        block(
            [&](const std::string& key) {
                if (key == "major" || key == "minor") {
                    const std::int64_t v = integer();
                    if (key == "major" && v != 1) fail("this is text metadata of another version than 1.8");
                } else if (key == "uuid") {
                    uuid(value());
                } else {
                    (void)value();
                }
            },
            [&](const std::string& key, CtfType t) {
                if (key == "packet.header") m.packet_header = std::move(t);
            });
    }
    void uuid(const std::string& text) {
        std::string digits;
        for (const char c : text)
            if (std::isxdigit(static_cast<unsigned char>(c)) != 0) digits += c;
        if (digits.size() != 32) fail("the uuid has not 32 hexadecimal digits");
        for (std::size_t i = 0; i < 16; ++i)
            m.uuid[i] = static_cast<std::uint8_t>(std::stoul(digits.substr(2 * i, 2), nullptr, 16));
        m.has_uuid = true;
    }
    void environment() {
        block([&](const std::string& key) { m.environment[key] = value(); }, [](const std::string&, const CtfType&) {});
    }
    void clock() {
        CtfClock c;
        block(
            [&](const std::string& key) {
                if (key == "name")
                    c.name = value();
                else if (key == "description")
                    c.description = value();
                else if (key == "freq") {
                    const std::int64_t hz = integer();
                    if (hz <= 0) fail("a clock's frequency must be above zero");
                    c.hz = static_cast<std::uint64_t>(hz);
                } else if (key == "offset_s")
                    c.offset_seconds = integer();
                else if (key == "offset")
                    c.offset_cycles = static_cast<std::uint64_t>(integer());
                else
                    (void)value();
            },
            [](const std::string&, const CtfType&) {});
        m.clocks.push_back(std::move(c));
    }
    void stream() {
        CtfStreamClass s;
        for (CtfType* t : {&s.packet_context, &s.event_header, &s.event_context}) t->kind = CtfType::Kind::structure;
        block(
            [&](const std::string& key) {
                if (key == "id")
                    s.id = static_cast<std::uint64_t>(integer());
                else
                    (void)value();
            },
            [&](const std::string& key, CtfType t) {
                if (key == "packet.context")
                    s.packet_context = std::move(t);
                else if (key == "event.header")
                    s.event_header = std::move(t);
                else if (key == "event.context")
                    s.event_context = std::move(t);
            });
        if (m.stream(s.id) != nullptr) fail("stream " + std::to_string(s.id) + " is defined twice");
        m.streams.push_back(std::move(s));
    }
    void event() {
        CtfEventClass e;
        e.context.kind = e.payload.kind = CtfType::Kind::structure;
        block(
            [&](const std::string& key) {
                if (key == "name")
                    e.name = value();
                else if (key == "id")
                    e.id = static_cast<std::uint64_t>(integer());
                else if (key == "stream_id")
                    e.stream_class = static_cast<std::uint64_t>(integer());
                else
                    (void)value();
            },
            [&](const std::string& key, CtfType t) {
                if (key == "context")
                    e.context = std::move(t);
                else if (key == "fields")
                    e.payload = std::move(t);
            });
        if (e.name.empty()) e.name = "event " + std::to_string(e.id);
        m.events.push_back(std::move(e));
    }

    // Roles go by the fields' names (CTF 1.8.3, sections 5.2, 6.1).
    static void give_roles(CtfType& t, std::initializer_list<std::pair<const char*, std::uint16_t>> names) {
        for (auto& f : t.fields) {
            for (const auto& [field, role] : names)
                if (f.name == field && (f.type.kind == CtfType::Kind::integer || f.type.kind == CtfType::Kind::array))
                    f.type.roles |= role;
            if (f.type.kind == CtfType::Kind::structure || f.type.kind == CtfType::Kind::variant)
                give_roles(f.type, names);
        }
    }
    static int clock_in(const CtfType& t) {
        if (t.clock >= 0) return t.clock;
        for (const auto& f : t.fields)
            if (const int c = clock_in(f.type); c >= 0) return c;
        return -1;
    }
    void finish() {
        give_roles(m.packet_header, {{"magic", ctf_role::packet_magic},
                                     {"uuid", ctf_role::trace_uuid},
                                     {"stream_id", ctf_role::stream_class_id},
                                     {"stream_instance_id", ctf_role::stream_id}});
        if (m.streams.empty() && !m.events.empty()) {
            m.streams.emplace_back();
            for (CtfType* t : {&m.streams[0].packet_context, &m.streams[0].event_header, &m.streams[0].event_context})
                t->kind = CtfType::Kind::structure;
        }
        for (auto& s : m.streams) {
            give_roles(s.packet_context, {{"timestamp_begin", ctf_role::timestamp},
                                          {"timestamp_end", ctf_role::packet_end_timestamp},
                                          {"content_size", ctf_role::packet_content_length},
                                          {"packet_size", ctf_role::packet_total_length},
                                          {"events_discarded", ctf_role::discarded_events},
                                          {"packet_seq_num", ctf_role::packet_sequence}});
            give_roles(s.event_header, {{"id", ctf_role::event_class_id}, {"timestamp", ctf_role::timestamp}});
            s.clock = clock_in(s.event_header);
            if (s.clock < 0) s.clock = clock_in(s.packet_context);
            if (s.clock < 0 && m.clocks.size() == 1) s.clock = 0;
        }
    }

    std::vector<Token> tokens_;
    std::size_t copied_ = 0;  ///< types, by aliases
    std::size_t at_ = 0;
    std::vector<Types> scopes_;
};

}  // namespace

Result<CtfMetadata> parse_ctf_text(std::string_view text, const std::string& path) {
    try {
        TextMetadata reader(text);
        reader.run();
        return std::move(reader.m);
    } catch (const WrongText& e) {
        const std::size_t at = std::min(e.at, text.size());
        const auto line = std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(at), '\n') + 1;
        const auto before = at == 0 ? std::string_view::npos : text.rfind('\n', at - 1);
        const std::size_t column = before == std::string_view::npos ? at + 1 : at - before;
        return failure(e.what, path + ":" + std::to_string(line) + ":" + std::to_string(column),
                       "correct the metadata, or make it anew");
    }
}

}  // namespace mt
