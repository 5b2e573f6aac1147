// Value change dumps: IEEE Std 1364-2005, clause 18.2 (four-state VCD).
#include <array>
#include <charconv>
#include <cmath>
#include <cstring>
#include <limits>
#include <unordered_map>

#include "base/digits.h"
#include "base/text.h"
#include "signals/signal_file.h"

namespace mt {
namespace {

constexpr std::size_t kMostNamedValues = 65'536;

/// What a character is: white space, or the value of a scalar (18.2.1; those of VHDL dumps too).
enum Sign : std::uint8_t { kOther, kSpace, kZero, kOne, kUndefined, kUndriven };
constexpr std::array<Sign, 256> kSigns = [] {
    std::array<Sign, 256> all{};
    for (const char c : {' ', '\t', '\n', '\r', '\f', '\v'}) all[static_cast<unsigned char>(c)] = kSpace;
    for (const char c : {'0', 'l', 'L'}) all[static_cast<unsigned char>(c)] = kZero;
    for (const char c : {'1', 'h', 'H'}) all[static_cast<unsigned char>(c)] = kOne;
    for (const char c : {'x', 'X', 'u', 'U', 'w', 'W', '-'}) all[static_cast<unsigned char>(c)] = kUndefined;
    for (const char c : {'z', 'Z'}) all[static_cast<unsigned char>(c)] = kUndriven;
    return all;
}();
Sign sign_of(char c) { return kSigns[static_cast<unsigned char>(c)]; }
bool is_space(char c) { return sign_of(c) == kSpace; }

/// One variable as it is declared (18.2.3.8).
struct Variable {
    std::string scope, name;
    enum class Sort : std::uint8_t { line, vector, integer, real, text } sort = Sort::line;
    unsigned width = 1;
};

/// What the identifier code stands for: several variables may share one.
struct Code {
    std::vector<std::size_t> variables;  ///< indices
    std::size_t lane = 0;                ///< of the first
    std::unordered_map<std::string, std::uint64_t> named;
    bool told_full = false;
};

class VcdReader {
  public:
    VcdReader(std::span<const std::uint8_t> bytes, const std::string& path, const SignalChoice& choice,
              Progress* progress)
        : at_(reinterpret_cast<const char*>(bytes.data())),
          begin_(at_),
          end_(at_ + bytes.size()),
          path_(path),
          choice_(choice),
          progress_(progress) {}

    Result<SignalFile> read() {
        out_.format = "VCD";
        if (auto ok = declarations(); !ok) return tl::make_unexpected(ok.error());
        if (codes_.empty())
            return failure(seen_ == 0 ? "the file declares no signals" : "none of the selected signals is in the file",
                           path_, seen_ == 0 ? "is it whole?" : "the names stand in its $var lines");
        changes();
        if (progress_ != nullptr && progress_->cancelled()) return failure("reading was cancelled", path_);
        return finish();
    }

  private:
    std::string_view word() {
        while (at_ < end_ && is_space(*at_)) ++at_;
        const char* first = at_;
        while (at_ < end_ && !is_space(*at_)) ++at_;
        return {first, static_cast<std::size_t>(at_ - first)};
    }
    std::string place() const { return path_ + ":" + std::to_string(line_at(at_)); }
    std::size_t line_at(const char* at) const {
        return 1 + static_cast<std::size_t>(std::count(begin_, std::min(at, end_), '\n'));
    }
    void warn(const std::string& text) {
        if (out_.warnings.size() < 20) out_.warnings.push_back(text);
    }
    // Words up to $end.
    std::vector<std::string> section() {
        std::vector<std::string> all;
        for (std::string_view w = word(); !w.empty() && w != "$end"; w = word())
            if (all.size() < 64) all.emplace_back(w.substr(0, 4096));
        return all;
    }

    Result<void> declarations() {
        std::vector<std::string> scopes;
        bool scaled = false;
        for (std::string_view w = word();; w = word()) {
            if (w.empty())
                return failure("the declarations do not end: there is no $enddefinitions", path_, "is it whole?");
            if (w == "$enddefinitions") {
                section();
                break;
            }
            if (w == "$timescale") {
                std::string all;
                for (const auto& part : section()) all += part;
                if (!take_scale(all))
                    return failure("$timescale is '" + all.substr(0, 40) + "'", place(), "it must be like 10 ns");
                scaled = true;
            } else if (w == "$scope") {
                const auto parts = section();
                if (scopes.size() > 200) return failure("scopes are nested more than 200 deep", place());
                scopes.push_back(parts.size() > 1 ? parts[1] : std::string());
            } else if (w == "$upscope") {
                section();
                if (!scopes.empty()) scopes.pop_back();
            } else if (w == "$var") {
                if (auto ok = variable(section(), scopes); !ok) return ok;
            } else if (w[0] == '$') {
                section();
            } else {
                return failure("'" + std::string(w.substr(0, 40)) + "' stands among the declarations", place(),
                               "is it a value change dump?");
            }
        }
        if (!scaled) warn("no $timescale: one nanosecond is taken for its unit of time");
        return {};
    }

    // 18.2.3.7: 1, 10 or 100 of s, ms, us, ns, ps, fs.
    bool take_scale(const std::string& text) {
        std::size_t digits = 0;
        const unsigned long number =
            text.empty() || text[0] < '0' || text[0] > '9' ? 0 : std::stoul(text.substr(0, 4), &digits);
        if (number != 1 && number != 10 && number != 100) return false;
        const std::string unit = text.substr(digits);
        constexpr std::pair<const char*, std::int64_t> units[] = {
            {"s", 1'000'000'000'000}, {"ms", 1'000'000'000}, {"us", 1'000'000}, {"ns", 1'000}, {"ps", 1}};
        for (const auto& [name, ps] : units)
            if (unit == name) {
                ps_ = ps * static_cast<std::int64_t>(number);
                return true;
            }
        if (unit != "fs") return false;
        ps_ = 1;
        divided_ = 1000 / static_cast<std::int64_t>(number);
        return true;
    }

    Result<void> variable(const std::vector<std::string>& parts, const std::vector<std::string>& scopes) {
        if (parts.size() < 4) return failure("a $var is too short", place(), "is it whole?");
        ++seen_;
        Variable v;
        v.name = parts[3];
        for (std::size_t i = 4; i < parts.size(); ++i)
            if (parts[i].find(':') == std::string::npos) v.name += parts[i];  // [2] is a bit of it, [3:0] its range
        for (const auto& s : scopes) v.scope += (v.scope.empty() ? "" : ".") + s;
        if (!is_chosen(choice_, v.scope, v.name)) return {};
        unsigned width = 0;
        const auto read = std::from_chars(parts[1].data(), parts[1].data() + parts[1].size(), width);
        if (read.ec != std::errc() || width == 0 || width > 1'000'000)
            return failure("the width of '" + v.name + "' is '" + parts[1] + "'", place(),
                           "it must be a number of bits");
        v.width = width;
        const std::string& type = parts[0];
        v.sort = type == "real" || type == "realtime" || type == "shortreal" ? Variable::Sort::real
                 : type == "string"                                          ? Variable::Sort::text
                 : type == "integer"                                         ? Variable::Sort::integer
                 : width == 1                                                ? Variable::Sort::line
                                                                             : Variable::Sort::vector;
        if (variables_.size() >= kMostSignals) {
            if (!std::exchange(told_many_, true))
                warn("only the first " + count_text(kMostSignals) + " signals are read: name those you want in select");
            return {};
        }
        variables_.push_back(v);
        const auto [index, fresh] = index_.try_emplace(parts[2], static_cast<std::uint32_t>(codes_.size()));
        if (fresh) {
            codes_.emplace_back();
            const std::size_t place = place_of(parts[2]);
            if (place < kShortCodes) {
                if (short_.empty()) short_.assign(kShortCodes, 0);
                short_[place] = index->second + 1;
            }
        }
        Code& code = codes_[index->second];
        code.variables.push_back(variables_.size() - 1);
        if (!fresh) return {};
        code.lane = out_.lanes.size();
        ValueLane lane;
        lane.core = ValueLane::kNoCore;
        lane.set_usual_origin(measured_origin());
        lane.sort = v.sort == Variable::Sort::line      ? ValueSort::whole
                    : v.sort == Variable::Sort::integer ? ValueSort::signed_whole
                    : v.sort == Variable::Sort::real    ? ValueSort::real
                                                        : ValueSort::whole;
        out_.lanes.push_back(std::move(lane));
        return {};
    }

    // 18.2.1: scalars, vectors and reals, each with the code of its variable.
    void changes() {
        std::uint64_t strange = 0;
        single_.fill(nullptr);
        for (char c = '!'; c <= '~'; ++c)
            if (const Code* code = code_of({&c, 1}); code != nullptr && out_.lanes[code->lane].sort != ValueSort::real)
                single_[static_cast<unsigned char>(c)] = &out_.lanes[code->lane];
        const auto most = static_cast<std::uint64_t>(kFarthestPs / ps_);
        for (std::uint64_t n = 0;; ++n) {
            if (n % 65'536 == 0 && progress_ != nullptr) {
                if (progress_->cancelled()) return;
                progress_->report(static_cast<std::uint64_t>(at_ - begin_), static_cast<std::uint64_t>(end_ - begin_));
            }
            lines();
            if (at_ == end_) return;
            const char* first = at_;
            const char c = *at_++;
            const Sign sign = sign_of(c);
            switch (c) {
                case '#':
                    if (!take_time(most)) return;
                    continue;
                case '$':
                    --at_;
                    keyword();
                    continue;
                case 'b':
                case 'B':
                case 'r':
                case 'R':
                case 's':
                case 'S': {
                    const std::string_view value = rest();
                    const std::string_view code = word();
                    Code* known = code_of(code);
                    if (known != nullptr)
                        c == 'b' || c == 'B'   ? bits(*known, value)
                        : c == 'r' || c == 'R' ? real(*known, value)
                                               : text(*known, value);
                    continue;
                }
                default: {
                    const std::string_view code = rest();
                    if (sign != kOther) {
                        if (const Code* known = code_of(code); known != nullptr) scalar(out_.lanes[known->lane], sign);
                    } else if (++strange == 1) {
                        warn("'" +
                             std::string(first, std::min<std::size_t>(static_cast<std::size_t>(at_ - first), 20)) +
                             "' in line " + std::to_string(line_at(first)) + " is no value change and is left out");
                        if (c == 'p') {
                            warn(
                                "it looks like an extended dump with port values, of which only plain changes are "
                                "read");
                            return;
                        }
                    }
                    continue;
                }
            }
        }
    }
    // Nearly all there is: the value of a line, its code of one character, and the end of the row; and white space.
    void lines() {
        const char *at = at_, *const end = end_;
        for (; at < end; ++at) {
            const Sign sign = sign_of(*at);
            if (sign == kSpace) continue;
            if (sign == kOther || end - at < 3 || !is_space(at[2])) break;
            if (ValueLane* lane = single_[static_cast<unsigned char>(at[1])]; lane != nullptr) scalar(*lane, sign);
            at += 2;
        }
        at_ = at;
    }
    std::string_view rest() {
        const char* first = at_;
        while (at_ < end_ && !is_space(*at_)) ++at_;
        return {first, static_cast<std::size_t>(at_ - first)};
    }

    bool take_time(std::uint64_t most) {
        std::uint64_t number = 0;
        const char* first = at_;
        (void)take_digits(at_, end_, number);
        for (const std::uint64_t tenth = most / 10; at_ < end_ && *at_ >= '0' && *at_ <= '9' && number <= tenth;)
            number = number * 10 + static_cast<std::uint64_t>(*at_++ - '0');
        if (at_ == first || number > most || (at_ < end_ && !is_space(*at_))) {
            warn("the time in line " + std::to_string(line_at(first)) +
                 " is no number that can be: the file is read up to there");
            return false;
        }
        Time t{static_cast<std::int64_t>(number) * ps_};
        if (divided_ != 1) [[unlikely]]
            t.ps /= divided_;
        if (t < now_) {
            if (backwards_++ == 0)
                warn("time runs backwards in line " + std::to_string(line_at(first)) +
                     ": what follows is taken for the time before");
            return true;
        }
        now_ = t;
        out_.end = std::max(out_.end, now_);
        return true;
    }

    // 18.2.3: in the body $dumpoff makes everything unknown up to $dumpon; reals have no value for that.
    void keyword() {
        const std::string_view w = word();
        if (w == "$comment" || w == "$date" || w == "$version") {
            section();
        } else if (w == "$dumpoff" && !off_) {
            off_ = true;
            off_from_ = now_;
        } else if (w == "$dumpon" && off_) {
            off_ = false;
            end_of_hole();
        }
    }
    void end_of_hole() {
        for (auto& lane : out_.lanes)
            if (lane.sort == ValueSort::real || !lane.value_names.empty()) lane.holes.push_back({off_from_, now_});
        warn("nothing was dumped from " + moment_text(off_from_) + " to " + moment_text(now_));
    }

    // Codes of up to three characters stand in a table (18.2.1: printable characters from ! to ~).
    static constexpr std::size_t kBase = 94, kShortCodes = kBase + kBase * kBase + kBase * kBase * kBase;
    static std::size_t place_of(std::string_view code) {
        if (code.empty() || code.size() > 3) return kShortCodes;
        std::size_t place = 0;
        for (const char c : code) {
            if (c < '!' || c > '~') return kShortCodes;
            place = place * kBase + static_cast<std::size_t>(c - '!');
        }
        return place + (code.size() == 1 ? 0 : code.size() == 2 ? kBase : kBase + kBase * kBase);
    }
    Code* code_of(std::string_view code) {
        if (const std::size_t place = place_of(code); place < kShortCodes)
            return short_.empty() || short_[place] == 0 ? nullptr : &codes_[short_[place] - 1];
        scratch_.assign(code);
        const auto found = index_.find(scratch_);
        return found == index_.end() ? nullptr : &codes_[found->second];
    }

    void unknown(ValueLane& lane, bool undriven) {
        ValueOrigin origin = measured_origin();
        origin.worth = undriven ? ValueOrigin::Worth::undriven : ValueOrigin::Worth::undefined;
        lane.append_unknown(now_, origin);
    }
    void scalar(ValueLane& lane, Sign sign) {
        if (lane.sort == ValueSort::real) return;
        if (sign == kZero || sign == kOne)
            lane.append_usual(now_, sign == kOne ? 1 : 0);
        else
            unknown(lane, sign == kUndriven);
    }
    // 18.2.2: shorter values are extended to the left, by 0 or by x and z.
    void bits(Code& code, std::string_view digits) {
        ValueLane& lane = out_.lanes[code.lane];
        const Variable& v = variables_[code.variables[0]];
        if (lane.sort == ValueSort::real || digits.empty()) return;
        std::uint64_t value = 0;
        bool some_x = false, all_z = true;
        std::size_t first = 0;
        for (; digits.size() - first >= 8; first += 8) {  // most of them are nothing but 0 and 1
            std::uint64_t eight;
            std::memcpy(&eight, digits.data() + first, sizeof eight);
            eight ^= 0x3030'3030'3030'3030;
            if ((eight & ~std::uint64_t{0x0101'0101'0101'0101}) != 0) break;
            value = value << 8 | eight * 0x8040'2010'0804'0201 >> 56;  // the first byte becomes the highest bit
            all_z = false;
        }
        for (const char d : digits.substr(first)) {
            const Sign sign = sign_of(d);
            value = value << 1 | (sign == kOne ? 1u : 0u);
            some_x = some_x || (sign != kOne && sign != kZero);
            all_z = all_z && sign == kUndriven;
        }
        if (some_x) {
            unknown(lane, all_z);
        } else if (v.width > 64) {
            text(code, digits);
        } else {
            if (v.sort == Variable::Sort::integer && v.width < 64 && v.width > 0 && (value >> (v.width - 1) & 1) != 0)
                value |= ~std::uint64_t{0} << v.width;
            lane.append_usual(now_, value);
        }
    }
    void real(Code& code, std::string_view number) {
        ValueLane& lane = out_.lanes[code.lane];
        if (lane.sort != ValueSort::real) return;
        double value = 0;
        if (!number.empty() && number[0] == '+') number.remove_prefix(1);
        const auto read = std::from_chars(number.data(), number.data() + number.size(), value);
        if (read.ec == std::errc() && std::isfinite(value))
            lane.append_usual(now_, Value::of(value).bits);
        else
            unknown(lane, false);
    }
    // What is no number: a number of its own for each text.
    void text(Code& code, std::string_view value) {
        ValueLane& lane = out_.lanes[code.lane];
        if (lane.sort == ValueSort::real) return;
        const std::string key(value.substr(0, 256));
        auto found = code.named.find(key);
        if (found == code.named.end()) {
            if (code.named.size() >= kMostNamedValues) {
                if (!std::exchange(code.told_full, true))
                    warn("'" + variables_[code.variables[0]].name + "' has more than " + count_text(kMostNamedValues) +
                         " different values: the others are not known");
                unknown(lane, false);
                return;
            }
            found = code.named.emplace(key, code.named.size()).first;
            lane.value_names[found->second] = key;
        }
        lane.append_usual(now_, found->second);
    }

    SignalFile finish() {
        if (off_) end_of_hole();
        SignalFile all;
        all.format = out_.format;
        all.warnings = std::move(out_.warnings);
        all.end = out_.end;
        std::vector<const Code*> of(variables_.size(), nullptr);
        for (const Code& code : codes_)
            for (const std::size_t v : code.variables) of[v] = &code;
        for (std::size_t v = 0; v < variables_.size(); ++v) {
            if (of[v] == nullptr) continue;
            ValueLane lane = out_.lanes[of[v]->lane];
            lane.name = variables_[v].name;
            lane.source = variables_[v].scope;
            all.lanes.push_back(std::move(lane));
        }
        return all;
    }

    const char *at_, *begin_, *end_;
    const std::string& path_;
    const SignalChoice& choice_;
    Progress* progress_;
    SignalFile out_;
    std::vector<Variable> variables_;
    std::vector<Code> codes_;
    std::unordered_map<std::string, std::uint32_t> index_;  ///< of every code
    std::array<ValueLane*, 256> single_{};                  ///< of each that is one character, if scalars are for it
    std::vector<std::uint32_t> short_;                      ///< the same of short ones, and one; 0: none
    bool told_many_ = false;
    std::size_t seen_ = 0;
    std::int64_t ps_ = 1000, divided_ = 1;
    Time now_, off_from_;
    bool off_ = false;
    std::uint64_t backwards_ = 0;
    std::string scratch_;
};

}  // namespace

Result<SignalFile> read_vcd(std::span<const std::uint8_t> bytes, const std::string& path, const SignalChoice& choice,
                            Progress* progress) {
    return VcdReader(bytes, path, choice, progress).read();
}

}  // namespace mt
