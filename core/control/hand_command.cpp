#include "control/hand_command.h"

#include <algorithm>
#include <charconv>
#include <cstdlib>

#include "base/near_names.h"

namespace mt {
namespace {

using Kind = HandCommand::Kind;

constexpr std::uint64_t kMostMemory = 1 << 20, kMostRange = 64 << 20, kMostTimes = 1'000'000'000;
constexpr double kMostSeconds = 86'400;
constexpr std::pair<const char*, Kind> kVerbs[] = {
    {"go", Kind::go},         {"halt", Kind::halt},     {"reset", Kind::reset},         {"wait", Kind::wait},
    {"step", Kind::step},     {"run", Kind::run_to},    {"break", Kind::break_at},      {"watch", Kind::watch},
    {"clear", Kind::clear},   {"points", Kind::points}, {"registers", Kind::registers}, {"read", Kind::read},
    {"memory", Kind::memory}, {"write", Kind::write},   {"set", Kind::set},             {"where", Kind::where},
    {"undo", Kind::undo},     {"fill", Kind::fill},     {"search", Kind::search},       {"compare", Kind::compare},
    {"save", Kind::save},     {"load", Kind::load},     {"together", Kind::together},   {"apart", Kind::apart},
    {"put", Kind::put},       {"locals", Kind::locals}, {"type", Kind::type}};

std::vector<std::string> words_of(const std::string& text) {
    std::vector<std::string> words;
    std::string word;
    for (const char c : text + " ") {
        if (c != ' ' && c != '\t') {
            word += c;
        } else if (!word.empty()) {
            words.push_back(std::move(word));
            word.clear();
        }
    }
    return words;
}

std::optional<std::int64_t> number_of(const std::string& text) {
    if (text.empty()) return std::nullopt;
    const bool minus = text[0] == '-';
    const std::string digits = text.substr(minus ? 1 : 0);
    const bool hex = digits.rfind("0x", 0) == 0;
    std::uint64_t v = 0;
    const char *from = digits.data() + (hex ? 2 : 0), *end = digits.data() + digits.size();
    const auto read = std::from_chars(from, end, v, hex ? 16 : 10);
    if (read.ec != std::errc() || read.ptr != end || from == end) return std::nullopt;
    return static_cast<std::int64_t>(minus ? ~v + 1 : v);
}

// A hexadecimal number as the target stores it, as many bytes as it has digits for; anything else as it is written.
std::vector<std::uint8_t> bytes_of(const std::vector<std::string>& words) {
    std::string text;
    for (const std::string& w : words) text += (text.empty() ? "" : " ") + w;
    const std::size_t digits = text.size() - 2;
    const auto number = text.rfind("0x", 0) == 0 && digits <= 16 ? number_of(text) : std::nullopt;
    std::vector<std::uint8_t> bytes(text.begin(), text.end());
    if (number) {
        bytes.clear();
        for (std::size_t i = 0; i < (digits + 1) / 2; ++i) bytes.push_back(static_cast<std::uint8_t>(static_cast<std::uint64_t>(*number) >> 8 * i));
    }
    return bytes;
}

std::optional<double> seconds_of(const std::string& text) {
    char* end = nullptr;
    const double v = std::strtod(text.c_str(), &end);
    if (text.empty() || *end != 0 || !(v > 0) || v > kMostSeconds) return std::nullopt;
    return v;
}

}  // namespace

std::vector<std::string> joined_hand_commands(const std::vector<std::string>& words) {
    std::vector<std::string> all;
    bool open = false, named = false;  // a command may go on; nothing but its core is there yet
    for (const std::string& word : words) {
        const bool whole = word.find(' ') != std::string::npos, core = word.size() > 1 && word.back() == ':';
        const bool verb = std::any_of(std::begin(kVerbs), std::end(kVerbs), [&](const auto& v) { return word == v.first; });
        if (!open || whole || core || (verb && !named))
            all.push_back(word);
        else
            all.back() += " " + word;
        open = !whole;
        named = core && !whole;
    }
    return all;
}

std::vector<std::pair<std::string, std::string>> hand_commands() {
    return {{"go", "let the core run"},
            {"halt", "stop it"},
            {"reset", "reset it with the recipe's command; it stands still then"},
            {"wait [SECONDS]", "until it stops by itself, at most so long (10)"},
            {"step [N]", "execute N instructions (1)"},
            {"step line", "up to another source line, into calls"},
            {"step over", "the same, not into calls"},
            {"step out", "up to the return from this function"},
            {"run PLACE [SECONDS]", "let it run up to a function, a line (axis.c:41) or an address"},
            {"break PLACE [hardware] [if VALUE OP NUMBER] [count N] [say TEXT]",
             "stop there: if the value is so, at the Nth time; or say the text and go on. In hardware where memory does not take it, or if asked for"},
            {"watch VALUE [read|write|access] [if …] [count N] [say TEXT]",
             "the same where a variable is accessed, or anything of FIRST..LAST, as 0x20000000..0x200000ff"},
            {"clear [PLACE]", "take this breakpoint or watchpoint away, or all"},
            {"points", "those that are set, with how often they were hit"},
            {"registers [NAME …]", "these registers, or all"},
            {"read VALUE …", "variables, also of the function where it stands, members, registers of the SVD file"},
            {"locals", "arguments and local variables of the functions on the stack"},
            {"memory ADDRESS LENGTH", "bytes"},
            {"write VALUE NUMBER", "change a variable; needs --allow-writing"},
            {"set REGISTER NUMBER", "change a register; needs --allow-writing"},
            {"type TEXT", "the target reads this line from its console"},
            {"fill ADDRESS LENGTH BYTE", "fill memory; needs --allow-writing"},
            {"load ADDRESS FILE", "write a file's bytes into memory; needs --allow-writing"},
            {"put RECORDING N", "registers and memory as they are known before its instruction N; needs --allow-writing"},
            {"undo", "take the last of these changes back, and so on"},
            {"save ADDRESS LENGTH FILE", "memory into a new file"},
            {"search ADDRESS LENGTH WHAT", "where these bytes stand: 0x0a4011f8 (as the target stores it), or text"},
            {"compare [ADDRESS LENGTH]", "memory with what the image puts there: all that is not written, or this range"},
            {"together CORE …", "what one of these does, the others do: go, halt, reset, step; one stops, all stop"},
            {"apart", "each core for itself again"},
            {"where", "where the core stands"}};
}

Result<HandCommand> parse_hand_command(const std::string& text) {
    HandCommand c;
    c.text = text;
    std::vector<std::string> words = words_of(text);
    const auto wrong = [&text](const std::string& what, const std::string& advice) {
        return failure(what, "“" + text.substr(0, 200) + "”", advice);
    };
    if (!words.empty() && words[0].size() > 1 && words[0].back() == ':') {
        c.core = words[0].substr(0, words[0].size() - 1);
        words.erase(words.begin());
    }
    if (words.empty()) return wrong("the command is empty", "write what to do: halt, go, step, read …");
    const std::string verb = words[0];
    words.erase(words.begin());
    const auto* known = std::find_if(std::begin(kVerbs), std::end(kVerbs), [&](const auto& v) { return verb == v.first; });
    if (known == std::end(kVerbs)) {
        std::vector<std::string> all;
        for (const auto& v : kVerbs) all.emplace_back(v.first);
        return wrong("'" + verb + "' is no command", near_names_text(verb, all, "mtrail control --help lists those that there are"));
    }
    c.kind = known->second;
    const auto too_many = [&](std::size_t most) { return words.size() > most; };
    const auto extra = [&] { return wrong("'" + words.back() + "' is too much", "mtrail control --help lists what each takes"); };
    // if VALUE OP NUMBER, count N, say TEXT, in any order but the text last
    const auto options = [&](std::size_t from) -> Result<void> {
        for (std::size_t i = from; i < words.size();) {
            if (words[i] == "count" && i + 1 < words.size()) {
                const auto n = number_of(words[i + 1]);
                if (!n || *n < 1 || static_cast<std::uint64_t>(*n) > kMostTimes)
                    return wrong("'" + words[i + 1] + "' is no count", "a number from 1 on");
                c.times = static_cast<std::uint64_t>(*n);
                i += 2;
            } else if (words[i] == "say" && i + 1 < words.size()) {
                std::string said;
                for (++i; i < words.size(); ++i) said += (said.empty() ? "" : " ") + words[i];
                c.message = said;
            } else if (words[i] == "if" && i + 3 < words.size()) {
                using Is = HandCommand::Condition::Is;
                constexpr std::pair<const char*, Is> kIs[] = {{"==", Is::equal}, {"!=", Is::unequal}, {"<", Is::less},
                                                              {">", Is::more},   {"<=", Is::at_most}, {">=", Is::at_least}};
                const auto* is = std::find_if(std::begin(kIs), std::end(kIs), [&](const auto& k) { return words[i + 2] == k.first; });
                const auto than = number_of(words[i + 3]);
                if (is == std::end(kIs)) return wrong("'" + words[i + 2] + "' compares nothing", "one of == != < > <= >=");
                if (!than) return wrong("'" + words[i + 3] + "' is no number", "as 100, -5 or 0x1f");
                c.condition = HandCommand::Condition{words[i + 1], is->second, *than};
                i += 4;
            } else {
                return wrong("'" + words[i] + "' is not understood here", "if VALUE OP NUMBER, count N, say TEXT");
            }
        }
        return {};
    };
    const auto range = [&](std::uint64_t most) {
        const auto address = number_of(words[0]), length = number_of(words[1]);
        if (!address || !length || *length < 1 || static_cast<std::uint64_t>(*length) > most) return false;
        c.address = static_cast<std::uint64_t>(*address);
        c.length = static_cast<std::uint64_t>(*length);
        return c.length <= ~c.address;
    };
    switch (c.kind) {
        case Kind::go:
        case Kind::halt:
        case Kind::reset:
        case Kind::points:
        case Kind::locals:
        case Kind::undo:
        case Kind::apart:
        case Kind::where:
            if (too_many(0)) return extra();
            break;
        case Kind::clear:
            if (too_many(1)) return extra();
            if (!words.empty()) c.place = words[0];
            break;
        case Kind::together:
            if (words.size() < 2) return wrong("fewer than two cores are named", "together main cop");
            c.names = words;
            break;
        case Kind::wait:
            if (too_many(1)) return extra();
            if (!words.empty()) {
                const auto s = seconds_of(words[0]);
                if (!s) return wrong("'" + words[0] + "' is no time", "seconds, as 2.5");
                c.seconds = *s;
            }
            break;
        case Kind::step: {
            if (too_many(1)) return extra();
            if (words.empty()) break;
            if (words[0] == "line" || words[0] == "over" || words[0] == "out") {
                c.kind = words[0] == "line" ? Kind::step_line : words[0] == "over" ? Kind::step_over : Kind::step_out;
                break;
            }
            const auto n = number_of(words[0]);
            if (!n || *n < 1 || *n > 1'000'000) return wrong("'" + words[0] + "' is no number of steps", "1 to 1000000, line, over or out");
            c.times = static_cast<std::uint64_t>(*n);
            break;
        }
        case Kind::run_to:
            if (words.empty()) return wrong("where to is not said", "a function, a line such as axis.c:41, or an address");
            if (too_many(2)) return extra();
            c.place = words[0];
            if (words.size() > 1) {
                const auto s = seconds_of(words[1]);
                if (!s) return wrong("'" + words[1] + "' is no time", "seconds, as 2.5");
                c.seconds = *s;
            }
            break;
        case Kind::break_at:
        case Kind::watch: {
            if (words.empty())
                return wrong("what is not said", c.kind == Kind::watch ? "a variable" : "a function, a line such as axis.c:41, or an address");
            c.place = words[0];
            std::size_t from = 1;
            if (c.kind == Kind::watch && words.size() > 1 && (words[1] == "read" || words[1] == "write" || words[1] == "access")) {
                c.on_read = words[1] != "write";
                c.on_write = words[1] != "read";
                from = 2;
            }
            if (c.kind == Kind::break_at && words.size() > 1 && words[1] == "hardware") {
                c.hardware = true;
                from = 2;
            }
            if (const auto dots = c.place.find(".."); c.kind == Kind::watch && dots != std::string::npos) {
                const auto first = number_of(c.place.substr(0, dots)), last = number_of(c.place.substr(dots + 2));
                if (!first || !last || *first < 0 || *last < *first || static_cast<std::uint64_t>(*last - *first) >= HandCommand::kMostWatched)
                    return wrong("'" + c.place + "' is no range", "the first and the last address, as 0x20000000..0x200000ff, of at most 64 KiB");
                c.address = static_cast<std::uint64_t>(*first);
                c.length = static_cast<std::uint64_t>(*last - *first) + 1;
            }
            if (auto ok = options(from); !ok) return tl::make_unexpected(ok.error());
            break;
        }
        case Kind::registers:
            c.names = words;
            break;
        case Kind::type: {
            if (words.empty()) return wrong("what to type is not said", "type park now");
            const auto begin = text.find("type", c.core.empty() ? 0 : text.find(':'));
            c.place = text.substr(std::min(text.size(), begin + 5)) + "\n";
            break;
        }
        case Kind::read:
            if (words.empty()) return wrong("what to read is not said", "variables: read axis_error guide.state");
            c.names = words;
            break;
        case Kind::memory:
            if (words.size() != 2) return wrong("an address and a length are needed", "memory 0x20000000 64");
            if (!range(kMostMemory)) return wrong("that is no address and length", "at most 1048576 bytes: memory 0x20000000 64");
            break;
        case Kind::compare:
            if (words.empty()) break;
            if (words.size() != 2 || !range(kMostRange)) return wrong("that is no address and length", "compare, or compare 0x8000000 0x1000");
            break;
        case Kind::fill: {
            const auto byte = words.size() == 3 ? number_of(words[2]) : std::nullopt;
            if (!byte || *byte < 0 || *byte > 0xFF || !range(kMostMemory))
                return wrong("an address, a length and a byte are needed", "at most 1048576 bytes: fill 0x20000000 64 0xff");
            c.value = *byte;
            break;
        }
        case Kind::save:
            if (words.size() != 3 || !range(kMostRange))
                return wrong("an address, a length and a file are needed", "at most 67108864 bytes: save 0x20000000 4096 ram.bin");
            c.place = words[2];
            break;
        case Kind::load: {
            const auto address = words.size() == 2 ? number_of(words[0]) : std::nullopt;
            if (!address) return wrong("an address and a file are needed", "load 0x20000000 ram.bin");
            c.address = static_cast<std::uint64_t>(*address);
            c.place = words[1];
            break;
        }
        case Kind::put: {
            const auto step = words.size() == 2 ? number_of(words[1]) : std::nullopt;
            if (!step || *step < 0) return wrong("a recording and an instruction's number are needed", "put night.mtrail 2869249");
            c.place = words[0];
            c.address = static_cast<std::uint64_t>(*step);
            break;
        }
        case Kind::search:
            if (words.size() < 3 || !range(kMostRange))
                return wrong("an address, a length and what to look for are needed", "search 0x20000000 4096 0x0a4011f8");
            c.bytes = bytes_of({words.begin() + 2, words.end()});
            break;
        case Kind::write:
        case Kind::set: {
            if (words.size() != 2) return wrong("what, and which number, are needed", "write axis_error 0; set r0 0x10");
            const auto value = number_of(words[1]);
            if (!value) return wrong("'" + words[1] + "' is no number", "as 100, -5 or 0x1f");
            c.place = words[0];
            c.value = *value;
            break;
        }
        default:
            break;
    }
    return c;
}

}  // namespace mt
