// Tables of samples: CSV and TSV with any separator, decimal point or comma, and units in the head.
#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <cstring>
#include <optional>
#include <unordered_map>

#include "base/digits.h"
#include "base/text.h"
#include "signals/signal_file.h"

namespace mt {
namespace {

constexpr std::size_t kMostColumns = 1024, kLookedAt = 256 * 1024, kMostCsvTexts = 65'536;

// A character that is cut at the end is none that is wrong.
bool is_utf8(std::span<const std::uint8_t> bytes) {
    for (std::size_t i = 0; i < bytes.size();) {
        const std::uint8_t c = bytes[i];
        const std::size_t more = c < 0x80                ? 0
                                 : c >= 0xC2 && c < 0xE0 ? 1
                                 : c >= 0xE0 && c < 0xF0 ? 2
                                 : c >= 0xF0 && c < 0xF5 ? 3
                                                         : 9;
        if (more == 9) return false;
        for (std::size_t k = 1; k <= more; ++k) {
            if (i + k >= bytes.size()) return true;
            if ((bytes[i + k] & 0xC0) != 0x80) return false;
        }
        i += 1 + more;
    }
    return true;
}

// UTF-16 and Latin-1 as UTF-8; nothing if it is UTF-8 already.
std::optional<std::string> as_utf8(std::span<const std::uint8_t> bytes) {
    std::string out;
    const auto put = [&](std::uint32_t c) {
        if (c < 0x80) {
            out += static_cast<char>(c);
        } else if (c < 0x800) {
            out += static_cast<char>(0xC0 | c >> 6);
            out += static_cast<char>(0x80 | (c & 0x3F));
        } else if (c < 0x10000) {
            out += static_cast<char>(0xE0 | c >> 12);
            out += static_cast<char>(0x80 | (c >> 6 & 0x3F));
            out += static_cast<char>(0x80 | (c & 0x3F));
        } else {
            out += static_cast<char>(0xF0 | c >> 18);
            out += static_cast<char>(0x80 | (c >> 12 & 0x3F));
            out += static_cast<char>(0x80 | (c >> 6 & 0x3F));
            out += static_cast<char>(0x80 | (c & 0x3F));
        }
    };
    const bool little = bytes.size() >= 2 && bytes[0] == 0xFF && bytes[1] == 0xFE;
    if (little || (bytes.size() >= 2 && bytes[0] == 0xFE && bytes[1] == 0xFF)) {
        out.reserve(bytes.size() / 2);
        for (std::size_t i = 2; i + 1 < bytes.size(); i += 2) {
            const auto unit = [&](std::size_t k) {
                return static_cast<std::uint32_t>(little ? bytes[k] | bytes[k + 1] << 8 : bytes[k] << 8 | bytes[k + 1]);
            };
            std::uint32_t c = unit(i);
            if (c >= 0xD800 && c < 0xDC00 && i + 3 < bytes.size() && unit(i + 2) >= 0xDC00 && unit(i + 2) < 0xE000) {
                c = 0x10000 + ((c - 0xD800) << 10) + (unit(i + 2) - 0xDC00);
                i += 2;
            }
            put(c);
        }
        return out;
    }
    if (is_utf8(bytes.first(std::min(bytes.size(), kLookedAt)))) return std::nullopt;
    out.reserve(bytes.size() + bytes.size() / 8);
    for (const std::uint8_t c : bytes) put(c);
    return out;
}

/// Reads a plain decimal number, "-12.5", and leaves `at` behind it. Of up to fifteen digits it is the quotient of two
/// numbers that a double holds exactly, so that one division rounds it as it must be. Nothing, and `at` anywhere, for
/// what else may stand there, a number still.
std::optional<double> plain_number(const char*& at, const char* end, char point) {
    constexpr double kPowers[] = {1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15};
    const bool minus = at < end && *at == '-';
    at += minus ? 1 : 0;
    std::uint64_t digits = 0;
    const unsigned before = take_digits(at, end, digits);
    if (before == 0 || before > 15) return std::nullopt;
    unsigned behind = 0;
    if (at < end && *at == point) {
        ++at;
        behind = take_digits(at, end, digits);
        if (before + behind > 15) return std::nullopt;
    }
    const double value = static_cast<double>(static_cast<std::int64_t>(digits)) / kPowers[behind];
    return minus ? -value : value;
}

/// How the columns are told apart.
struct Dialect {
    char separator = ',';
    bool comma = false;  ///< the decimal sign is a comma
};

/// One row's cells, taken apart in place; quoted ones keep their inside (RFC 4180).
class Rows {
  public:
    Rows(std::string_view text, Dialect dialect) : text_(text), dialect_(dialect) {}

    // Cells of the next row that is not empty and no remark; false at the end.
    bool next(std::vector<std::string_view>& cells) {
        for (;;) {
            cells.clear();
            if (at_ >= text_.size()) return false;
            begin_ = at_;
            if (text_[at_] == '\n' || text_[at_] == '\r') {
                ++at_;
                continue;
            }
            row(cells);
            if (cells.size() == 1 && trimmed(cells[0]).empty()) continue;
            return true;
        }
    }
    /// The numbers of the next row, if it holds nothing but plain ones; else false, and the row is still the next.
    bool next_plain(std::vector<double>& numbers) {
        numbers.clear();
        const char *const begin = text_.data(), *const end = begin + text_.size();
        const char point = dialect_.comma ? ',' : '.';
        for (const char* at = begin + at_;;) {
            const auto number = plain_number(at, end, point);
            if (!number || at == end) return false;
            numbers.push_back(*number);
            if (*at == dialect_.separator && numbers.size() <= kMostColumns) {
                ++at;
                continue;
            }
            if (*at == '\r' && end - at > 1) ++at;
            if (*at != '\n') return false;
            begin_ = at_;
            at_ = static_cast<std::size_t>(at + 1 - begin);
            return true;
        }
    }
    std::size_t position() const { return at_; }
    std::size_t begin() const { return begin_; }

    static std::string_view trimmed(std::string_view s) {
        while (!s.empty() && (s.front() == ' ' || s.front() == '\t')) s.remove_prefix(1);
        while (!s.empty() && (s.back() == ' ' || s.back() == '\t' || s.back() == '\r')) s.remove_suffix(1);
        return s;
    }

  private:
    void row(std::vector<std::string_view>& cells) {
        const bool blanks = dialect_.separator == ' ';
        const char separator = dialect_.separator;
        const char *const begin = text_.data(), *const end = begin + text_.size();
        for (;;) {
            if (blanks)
                while (at_ < text_.size() && text_[at_] == ' ') ++at_;
            std::size_t first = at_;
            if (at_ < text_.size() && text_[at_] == '"') {
                first = ++at_;
                while (at_ < text_.size() && !(text_[at_] == '"' && (at_ + 1 >= text_.size() || text_[at_ + 1] != '"')))
                    at_ += text_[at_] == '"' ? 2 : 1;
                at_ = std::min(at_, text_.size());
                cells.push_back(text_.substr(first, at_ - first));
                while (at_ < text_.size() && text_[at_] != dialect_.separator && text_[at_] != '\n' &&
                       text_[at_] != '\r')
                    ++at_;
            } else {
                const char* at = begin + at_;
                while (at < end && *at != separator && *at != '\n' && *at != '\r') ++at;
                at_ = static_cast<std::size_t>(at - begin);
                cells.push_back({begin + first, at_ - first});
            }
            if (at_ >= text_.size()) return;
            const char c = text_[at_++];
            if (c == '\r' && at_ < text_.size() && text_[at_] == '\n') ++at_;
            if (c == '\n' || c == '\r' || cells.size() > kMostColumns) {
                if (c != '\n' && c != '\r')
                    while (at_ < text_.size() && text_[at_] != '\n') ++at_;
                return;
            }
        }
    }

    std::string_view text_;
    Dialect dialect_;
    std::size_t at_ = 0, begin_ = 0;
};

std::optional<double> number_in(std::string_view cell, bool comma) {
    cell = Rows::trimmed(cell);
    if (cell.empty()) return std::nullopt;
    if (cell.front() == '+') cell.remove_prefix(1);
    std::array<char, 64> copy;
    if (comma) {
        if (cell.size() > copy.size()) return std::nullopt;
        bool any = false;
        for (std::size_t i = 0; i < cell.size(); ++i) {
            if (cell[i] == '.' || (cell[i] == ',' && any)) return std::nullopt;
            any = any || cell[i] == ',';
            copy[i] = cell[i] == ',' ? '.' : cell[i];
        }
        cell = {copy.data(), cell.size()};
    }
    double value = 0;
    const auto read = std::from_chars(cell.data(), cell.data() + cell.size(), value);
    if (read.ec != std::errc() || read.ptr != cell.data() + cell.size()) return std::nullopt;
    return value;
}

// The way of taking it apart in which most rows have the same number of columns, above one, and the most numbers.
Dialect dialect_of(std::string_view text) {
    Dialect best;
    double best_score = -1;
    for (const char separator : {'\t', ';', ',', '|', ' '})
        for (const bool comma : {false, true}) {
            if (comma && separator == ',') continue;
            Rows rows(text, {separator, comma});
            std::vector<std::string_view> cells;
            std::unordered_map<std::size_t, std::size_t> counts;
            std::size_t numbers = 0, all = 0;
            for (int n = 0; n < 200 && rows.next(cells); ++n) {
                ++counts[cells.size()];
                for (const auto& cell : cells) numbers += number_in(cell, comma) ? 1 : 0;
                all += cells.size();
            }
            std::size_t usual = 0, times = 0;
            for (const auto& [size, count] : counts)
                if (count > times) usual = size, times = count;
            if (usual < 2 || all == 0) continue;
            const double score =
                static_cast<double>(numbers) / static_cast<double>(all) + (comma ? 0 : 0.001) +
                0.2 * static_cast<double>(times) / static_cast<double>(std::max<std::size_t>(1, counts.size()) * 200);
            if (score > best_score) {
                best_score = score;
                best = {separator, comma};
            }
        }
    return best;
}

/// "supply current [mA]" or "t (s)", taken apart.
struct Head {
    std::string name, unit;
};
Head head_of(std::string_view cell) {
    cell = Rows::trimmed(cell);
    Head h{std::string(cell), ""};
    for (const auto& [open, close] : {std::pair{'[', ']'}, std::pair{'(', ')'}}) {
        const auto from = cell.rfind(open);
        if (cell.empty() || cell.back() != close || from == std::string_view::npos || from == 0) continue;
        h.unit = std::string(Rows::trimmed(cell.substr(from + 1, cell.size() - from - 2)));
        h.name = std::string(Rows::trimmed(cell.substr(0, from)));
        if (h.unit == "1" || h.unit == "-") h.unit.clear();
        return h;
    }
    if (const auto slash = cell.rfind(" / "); slash != std::string_view::npos && slash > 0) {
        h.unit = std::string(Rows::trimmed(cell.substr(slash + 3)));
        h.name = std::string(Rows::trimmed(cell.substr(0, slash)));
        return h;
    }
    // "current_mA": the unit behind the last underscore, and the name as it is.
    constexpr std::string_view units[] = {"s",  "ms",  "us", "ns", "ps", "V",   "mV",  "uV",  "A",
                                          "mA", "uA",  "nA", "W",  "mW", "Hz",  "kHz", "MHz", "C",
                                          "K",  "Ohm", "N",  "Nm", "g",  "rpm", "deg"};
    if (const auto line = cell.rfind('_'); line != std::string_view::npos && line > 0)
        if (std::find(std::begin(units), std::end(units), cell.substr(line + 1)) != std::end(units))
            h.unit = std::string(cell.substr(line + 1));
    return h;
}

// Picoseconds in a unit of time; 0 for what is none.
double ps_of_unit(std::string unit) {
    for (char& c : unit) c = static_cast<char>(c >= 'A' && c <= 'Z' ? c + 32 : c);
    if (unit == "s" || unit == "sec" || unit == "seconds" || unit == "second") return 1e12;
    if (unit == "ms") return 1e9;
    if (unit == "us" || unit == "µs" || unit == "μs") return 1e6;
    if (unit == "ns") return 1e3;
    if (unit == "ps") return 1;
    return 0;
}

/// One column that is read.
struct CsvColumn {
    std::size_t index = 0;
    ValueLane lane;
    bool whole = true;  ///< all its numbers were so far
    bool text = false;
    std::unordered_map<std::string, std::uint64_t> named;
};

// What was whole so far gets a fraction: the samples again, as reals.
void make_real(CsvColumn& c) {
    c.whole = false;
    ValueLane real;
    real.sort = ValueSort::real;
    real.set_usual_origin(measured_origin());
    for (std::size_t i = 0; i < c.lane.samples.size(); ++i) {
        const ValueOrigin origin = c.lane.origin(i);
        if (origin.worth != ValueOrigin::Worth::known)
            real.append_unknown(c.lane.samples.time(i), origin);
        else
            real.append(c.lane.samples.time(i), Value::of(c.lane.value(i).number()).bits, origin);
    }
    real.name = c.lane.name;
    real.unit = c.lane.unit;
    real.core = c.lane.core;
    c.lane = std::move(real);
}

void make_text(CsvColumn& c) {
    c.text = true;
    ValueLane named;
    named.sort = ValueSort::whole;
    named.name = c.lane.name;
    named.core = c.lane.core;
    named.set_usual_origin(measured_origin());
    for (std::size_t i = 0; i < c.lane.samples.size(); ++i) {
        const std::string text = c.lane.text(i);
        const auto found = c.named.try_emplace(text, c.named.size()).first;
        named.value_names[found->second] = text;
        named.append(c.lane.samples.time(i), found->second, c.lane.origin(i));
    }
    c.lane = std::move(named);
}

}  // namespace

Result<SignalFile> read_csv_signals(std::span<const std::uint8_t> bytes, const std::string& path,
                                    const SignalChoice& choice, Progress* progress) {
    const auto converted = as_utf8(bytes);
    std::string_view text = converted ? std::string_view(*converted)
                                      : std::string_view(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    if (text.substr(0, 3) == "\xEF\xBB\xBF") text.remove_prefix(3);
    SignalFile out;
    out.format = "CSV";
    const Dialect dialect = dialect_of(text.substr(0, kLookedAt));
    const auto line_at = [&](std::size_t at) {
        return 1 +
               static_cast<std::size_t>(std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(at), '\n'));
    };
    const auto warn = [&](const std::string& what) {
        if (out.warnings.size() < 20) out.warnings.push_back(what);
    };

    // The head is what stands before the first row whose first cell, and most others, are numbers.
    Rows rows(text, dialect);
    std::vector<std::string_view> cells, head, units, before;
    bool any = false;
    while (rows.next(cells)) {
        std::size_t numbers = 0;
        for (const auto& cell : cells) numbers += number_in(cell, dialect.comma) ? 1 : 0;
        if (cells.size() > 1 && numbers > 0 && number_in(cells[0], dialect.comma)) {
            any = true;
            break;
        }
        if (cells.size() > 1) {
            before = std::exchange(head, cells);
        }
        if (rows.position() > kLookedAt) break;
    }
    if (!any)
        return failure("the file has no rows of numbers with more than one column", path,
                       "the first column must be the time, and a separator stand between the columns");
    // Units on a line of their own below the names: "s; mA".
    std::vector<Head> heads;
    const bool own_units =
        !before.empty() && before.size() == head.size() && ps_of_unit(std::string(Rows::trimmed(head[0]))) > 0;
    for (std::size_t i = 0; i < std::min(cells.size(), kMostColumns); ++i) {
        Head h = i < (own_units ? before : head).size() ? head_of((own_units ? before : head)[i]) : Head{};
        if (own_units) h.unit = head_of(head[i]).name;
        if (h.name.empty()) h.name = i == 0 ? "time" : "column " + std::to_string(i + 1);
        heads.push_back(h);
    }
    const auto is_time = [&](const Head& h) {
        std::string name = h.name;
        for (char& c : name) c = static_cast<char>(c >= 'A' && c <= 'Z' ? c + 32 : c);
        if (const auto unit = name.rfind('_'); unit != std::string::npos && ps_of_unit(name.substr(unit + 1)) > 0)
            name.resize(unit);
        return name == "time" || name == "t" || name == "timestamp" || name == "zeit";
    };
    std::size_t time = 0;
    for (std::size_t i = heads.size(); i-- > 0;)
        if (is_time(heads[i])) time = i;
    double scale = ps_of_unit(heads[time].unit);
    if (scale == 0) {
        scale = 1e12;
        if (!heads[time].unit.empty())
            warn("'" + heads[time].unit + "' is no unit of time: seconds are taken for column '" + heads[time].name +
                 "'");
        else
            warn("column '" + heads[time].name + "' has no unit: seconds are taken");
    }

    std::vector<CsvColumn> columns;
    for (std::size_t i = 0; i < heads.size(); ++i) {
        if (i == time || !is_chosen(choice, "", heads[i].name)) continue;
        CsvColumn c;
        c.index = i;
        c.lane.name = heads[i].name;
        c.lane.unit = heads[i].unit;
        c.lane.core = ValueLane::kNoCore;
        c.lane.set_usual_origin(measured_origin());
        c.lane.sort = ValueSort::signed_whole;
        columns.push_back(std::move(c));
    }
    if (columns.empty())
        return failure("none of the selected signals is in the file", path, "the names stand in its head");

    const ValueOrigin measured = measured_origin();
    std::uint64_t bad_time = 0, backwards = 0, n = 0, short_rows = 0;
    bool some_text = false;
    std::optional<Time> last;
    const auto time_of = [&](std::optional<double> at) -> std::optional<Time> {
        if (!at || !(std::abs(*at) * scale < static_cast<double>(kFarthestPs))) {
            if (bad_time++ == 0)
                warn("the time in line " + std::to_string(line_at(rows.begin())) +
                     " is no number: such rows are left out");
            return std::nullopt;
        }
        const long double ps = static_cast<long double>(*at) * static_cast<long double>(scale);
        const Time t{static_cast<std::int64_t>(ps + (ps < 0 ? -0.5L : 0.5L))};  // llround takes far longer
        if (last && t < *last) {
            if (backwards++ == 0)
                warn("time runs backwards in line " + std::to_string(line_at(rows.begin())) +
                     ": such rows are left out");
            return std::nullopt;
        }
        last = t;
        return t;
    };
    const auto take_number = [&](CsvColumn& c, Time t, double number) {
        if (c.whole && (!(std::abs(number) <= 9e15) ||
                        number != static_cast<double>(static_cast<std::int64_t>(number))))
            make_real(c);
        if (!std::isfinite(number)) {
            ValueOrigin none = measured;
            none.worth = ValueOrigin::Worth::invalid;
            c.lane.append_unknown(t, none);
        } else {
            c.lane.append_usual(
                t, c.whole ? static_cast<std::uint64_t>(static_cast<std::int64_t>(number)) : Value::of(number).bits);
        }
    };
    const auto too_short = [&] {
        if (short_rows++ == 0)
            warn("line " + std::to_string(line_at(rows.begin())) + " has fewer columns than the head");
    };
    const auto take_cells = [&] {
        const auto at = time_of(time < cells.size() ? number_in(cells[time], dialect.comma) : std::nullopt);
        if (!at) return;
        const Time t = *at;
        for (CsvColumn& c : columns) {
            if (c.index >= cells.size()) {
                too_short();
                continue;
            }
            const std::string_view cell = cells[c.index];
            if (!c.text) {
                if (const auto number = number_in(cell, dialect.comma)) {
                    take_number(c, t, *number);
                    continue;
                }
                const std::string_view word = Rows::trimmed(cell);
                if (word.empty()) continue;  // missing: what was before holds on
                // A column that begins with numbers stays one; words in it are samples that are not known.
                if (!c.lane.samples.empty()) {
                    ValueOrigin none = measured;
                    none.worth = ValueOrigin::Worth::invalid;
                    c.lane.append_unknown(t, none);
                    continue;
                }
                make_text(c);
                some_text = true;
            }
            const std::string key(Rows::trimmed(cell).substr(0, 256));
            if (key.empty()) continue;
            auto found = c.named.find(key);
            if (found == c.named.end()) {
                if (c.named.size() >= kMostCsvTexts) continue;
                found = c.named.emplace(key, c.named.size()).first;
                c.lane.value_names[found->second] = key;
                if (c.named.size() == kMostCsvTexts)
                    warn("'" + c.lane.name + "' has more than " + count_text(kMostCsvTexts) +
                         " different texts: further ones are left out");
            }
            c.lane.append_usual(t, found->second);
        }
    };
    take_cells();
    // Most rows are plain numbers, which are taken as they are read.
    std::vector<double> numbers;
    for (;;) {
        if (++n % 16'384 == 0 && progress != nullptr) {
            if (progress->cancelled()) return failure("reading was cancelled", path);
            progress->report(rows.position(), text.size());
        }
        if (!some_text && rows.next_plain(numbers)) {
            const auto at = time_of(time < numbers.size() ? std::optional(numbers[time]) : std::nullopt);
            if (!at) continue;
            for (CsvColumn& c : columns) {
                if (c.index < numbers.size())
                    take_number(c, *at, numbers[c.index]);
                else
                    too_short();
            }
            continue;
        }
        if (!rows.next(cells)) break;
        take_cells();
    }
    if (!last) return failure("no row of the file has a time", path, "the first column must be the time");
    if (bad_time > 1) warn(count_text(bad_time) + " rows have no time and are left out");
    if (backwards > 1) warn(count_text(backwards) + " rows run backwards in time and are left out");
    out.end = *last;
    for (CsvColumn& c : columns) out.lanes.push_back(std::move(c.lane));
    return out;
}

}  // namespace mt
