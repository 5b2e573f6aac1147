// Measurement data: ASAM MDF 4.0 to 4.2, sorted and unsorted, packed and not.
#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <map>
#include <optional>
#include <set>
#include <unordered_map>

#include "base/plain_text.h"
#include "base/text.h"
#include "signals/mdf_blocks.h"
#include "signals/signal_file.h"

namespace mt {
namespace {

constexpr std::uint64_t kMostData = std::uint64_t{8} << 30;
constexpr std::size_t kMostTexts = 65'536, kMostBlocks = 1'000'000;

/// CNBLOCK, as far as it is needed.
struct Channel {
    std::string name, unit;
    unsigned type = 0, sync = 0, data_type = 0, bit_offset = 0, flags = 0;
    std::uint32_t byte_offset = 0, bits = 0, invalid_bit = 0;
    std::uint64_t conversion = 0, signal_data = 0, at = 0;
    bool is_text() const { return data_type >= 6 && data_type <= 9; }
    bool is_master() const { return (type == 2 || type == 3) && (sync == 1 || sync == 0); }
};

/// CGBLOCK with its channels.
struct Group {
    std::string name;
    std::uint64_t record_id = 0, cycles = 0, at = 0;
    unsigned flags = 0;
    std::uint32_t bytes = 0, invalid_bytes = 0;
    std::vector<Channel> channels;
    bool variable() const { return (flags & 1) != 0; }
};

/// CCBLOCK: a raw value becomes a physical one, or a text.
class Conversion {
  public:
    enum class Kind : std::uint8_t {
        none = 0,
        linear = 1,
        rational = 2,
        algebraic = 3,
        table = 4,
        steps = 5,
        ranges = 6,
        texts = 7,
        range_texts = 8,
        text_values = 9,
        text_texts = 10
    };

    static Conversion of(const MdfBlocks& blocks, std::uint64_t at, int depth = 0) {
        Conversion c;
        if (at == 0 || depth > 4) return c;
        const auto b = blocks.block(at, "CC");
        if (!b) return c;
        c.unit_ = blocks.text(b->link(1));
        const auto type = b->number(0, 1);
        if (type > 10) {
            c.unknown_ = true;
            return c;
        }
        c.kind_ = static_cast<Kind>(type);
        const std::size_t values =
            std::min<std::size_t>(b->number(6, 2), b->data.size() < 24 ? 0 : (b->data.size() - 24) / 8);
        for (std::size_t i = 0; i < values; ++i) {
            c.values_.push_back(b->real(24 + 8 * i));
            c.bits_.push_back(b->number(24 + 8 * i, 8));
        }
        const std::size_t refs = std::min<std::size_t>(b->number(4, 2), b->links.size() < 4 ? 0 : b->links.size() - 4);
        for (std::size_t i = 0; i < refs; ++i) {
            const std::uint64_t to = b->link(4 + i);
            c.texts_.push_back(blocks.text(to));
            // A reference may lead to another conversion: a scale for the values that are numbers.
            const auto inner = to == 0 ? failure("none") : Result<void>();
            std::shared_ptr<const Conversion> scaled;
            if (inner) {
                const auto block = blocks.block(to);
                if (block && block->id == "CC") scaled = std::make_shared<const Conversion>(of(blocks, to, depth + 1));
            }
            c.scales_.push_back(std::move(scaled));
        }
        return c;
    }

    const std::string& unit() const { return unit_; }
    bool unknown() const { return unknown_; }
    bool algebraic() const { return kind_ == Kind::algebraic; }
    /// Whether whole numbers stay what they are.
    bool keeps() const { return kind_ == Kind::none || kind_ == Kind::texts || kind_ == Kind::range_texts; }
    bool gives_texts() const { return kind_ == Kind::texts || kind_ == Kind::range_texts; }

    double number(double raw) const {
        if (kind_ == Kind::none) return raw;
        switch (kind_) {
            case Kind::linear:
                return values_.size() >= 2 ? values_[0] + values_[1] * raw : raw;
            case Kind::rational: {
                if (values_.size() < 6) return raw;
                const double below = values_[3] * raw * raw + values_[4] * raw + values_[5];
                return (values_[0] * raw * raw + values_[1] * raw + values_[2]) / below;
            }
            case Kind::table:
            case Kind::steps:
                return of_table(raw);
            case Kind::ranges:
                for (std::size_t i = 0; i + 2 < values_.size(); i += 3)
                    if (raw >= values_[i] && raw <= values_[i + 1]) return values_[i + 2];
                return values_.size() % 3 == 1 ? values_.back() : raw;
            default:
                return raw;
        }
    }

    /// The text that stands for a raw value; nothing if it stays a number, which `scaled` then is.
    std::optional<std::string> text(double raw, double& scaled) const {
        std::size_t index = texts_.empty() ? 0 : texts_.size() - 1;  // the default stands last
        bool found = false;
        if (kind_ == Kind::texts) {
            for (std::size_t i = 0; i < values_.size() && i < texts_.size(); ++i)
                if (values_[i] == raw) index = i, found = true;
            if (!found && texts_.size() <= values_.size()) return std::nullopt;
        } else {
            for (std::size_t i = 0; 2 * i + 1 < values_.size() && i < texts_.size(); ++i)
                if (!found && raw >= values_[2 * i] && raw <= values_[2 * i + 1]) index = i, found = true;
            if (!found && 2 * texts_.size() <= values_.size()) return std::nullopt;
        }
        if (index >= texts_.size()) return std::nullopt;
        if (scales_[index] != nullptr) {
            scaled = scales_[index]->number(raw);
            return std::nullopt;
        }
        if (!found && texts_[index].empty()) return std::nullopt;
        return texts_[index];
    }

    /// Of a text: another, or a number written out.
    std::string of_text(const std::string& raw) const {
        if (kind_ == Kind::text_texts)
            for (std::size_t i = 0; 2 * i + 1 < texts_.size(); ++i)
                if (texts_[2 * i] == raw) return texts_[2 * i + 1];
        return raw;
    }

  private:
    double of_table(double raw) const {
        const std::size_t n = values_.size() / 2;
        if (n == 0) return raw;
        if (raw <= values_[0]) return values_[1];
        for (std::size_t i = 1; i < n; ++i) {
            const double x0 = values_[2 * i - 2], y0 = values_[2 * i - 1], x1 = values_[2 * i], y1 = values_[2 * i + 1];
            if (raw > x1) continue;
            if (kind_ == Kind::table) return x1 == x0 ? y1 : y0 + (y1 - y0) * (raw - x0) / (x1 - x0);
            return raw - x0 <= x1 - raw ? y0 : y1;  // the nearer; the lower one in the middle
        }
        return values_[2 * n - 1];
    }

    Kind kind_ = Kind::none;
    bool unknown_ = false;
    std::vector<double> values_;
    std::vector<std::uint64_t> bits_;
    std::vector<std::string> texts_;
    std::vector<std::shared_ptr<const Conversion>> scales_;
    std::string unit_;
};

std::string utf8_of_utf16(std::span<const std::uint8_t> bytes, bool big) {
    std::string out;
    for (std::size_t i = 0; i + 1 < bytes.size(); i += 2) {
        const auto c = static_cast<std::uint32_t>(big ? bytes[i] << 8 | bytes[i + 1] : bytes[i] | bytes[i + 1] << 8);
        if (c == 0) break;
        if (c < 0x80) {
            out += static_cast<char>(c);
        } else if (c < 0x800) {
            out += static_cast<char>(0xC0 | c >> 6);
            out += static_cast<char>(0x80 | (c & 0x3F));
        } else {
            out += static_cast<char>(0xE0 | c >> 12);
            out += static_cast<char>(0x80 | (c >> 6 & 0x3F));
            out += static_cast<char>(0x80 | (c & 0x3F));
        }
    }
    return out;
}

std::string text_of(std::span<const std::uint8_t> bytes, unsigned data_type) {
    if (data_type == 8 || data_type == 9) return utf8_of_utf16(bytes, data_type == 9);
    const auto end = std::find(bytes.begin(), bytes.end(), std::uint8_t{0});
    std::string out;
    for (auto c = bytes.begin(); c != end; ++c) {
        if (data_type == 6 && *c >= 0x80) {  // Latin-1
            out += static_cast<char>(0xC0 | *c >> 6);
            out += static_cast<char>(0x80 | (*c & 0x3F));
        } else {
            out += static_cast<char>(*c);
        }
    }
    return out;
}

/// A channel that becomes a lane.
struct Target {
    const Channel* channel = nullptr;
    Conversion conversion;
    ValueLane lane;
    bool whole = false, named = false;
    std::unordered_map<std::string, std::uint64_t> texts;
    std::vector<std::uint8_t> signal_data;
    bool full = false;
};

class MdfReader {
  public:
    MdfReader(std::span<const std::uint8_t> bytes, const std::string& path, const SignalChoice& choice,
              Progress* progress)
        : bytes_(bytes), blocks_(bytes), path_(path), choice_(choice), progress_(progress) {}

    Result<SignalFile> read() {
        out_.format = "MDF";
        if (bytes_.size() < 64)
            return failure("the file is shorter than the head of an MDF file", path_, "is it whole?");
        const auto version = static_cast<unsigned>(bytes_[28] | bytes_[29] << 8);
        if (version < 400 || version >= 500)
            return failure("the file is of MDF " + std::to_string(version / 100) + "." + std::to_string(version % 100),
                           path_, "only MDF 4 is read: convert it");
        if (std::memcmp(bytes_.data(), "UnFinMF", 7) == 0)
            warn("the recording was not finished: counts in it may be too low");
        unfinished_ = bytes_[0] == 'U';
        const auto head = blocks_.block(64, "HD");
        if (!head) return at_place(head.error());
        std::set<std::uint64_t> seen;
        const auto cancelled = [this] { return progress_ != nullptr && progress_->cancelled(); };
        each_linked(head->link(0), "DG", "the groups of data", seen, [&](const MdfBlock& dg) {
            data_group(dg);
            return !cancelled();
        });
        if (cancelled()) return failure("reading was cancelled", path_);
        if (out_.lanes.empty())
            return failure(any_channel_ ? "none of the selected signals is in the file" : "the file holds no signals",
                           path_, any_channel_ ? "look at the names of its channels" : "is it whole?");
        return std::move(out_);
    }

  private:
    tl::unexpected<Problem> at_place(const Problem& p) const {
        return tl::make_unexpected(Problem{p.what, path_ + ", " + p.where, p.advice});
    }
    void warn(const std::string& text) {
        if (out_.warnings.size() < 20) out_.warnings.push_back(text);
    }

    // Blocks that are chained by their first link, up to a circle or to one that cannot be read.
    template <class Take>
    void each_linked(std::uint64_t first, const char* id, const std::string& what, std::set<std::uint64_t>& seen,
                     Take take) {
        for (std::uint64_t at = first; at != 0;) {
            if (!seen.insert(at).second || seen.size() > kMostBlocks) return warn(what + " lead in a circle");
            const auto b = blocks_.block(at, id);
            if (!b) return warn(b.error().what + " (" + b.error().where + "): " + what + " behind it are not read");
            if (!take(*b)) return;
            at = b->link(0);
        }
    }

    std::vector<Channel> channels_of(std::uint64_t first, std::set<std::uint64_t>& seen, int depth = 0) {
        std::vector<Channel> all;
        each_linked(first, "CN", "the channels", seen, [&](const MdfBlock& b) {
            Channel c;
            c.at = b.at;
            c.name = blocks_.text(b.link(2));
            c.conversion = b.link(4);
            c.signal_data = b.link(5);
            c.unit = blocks_.text(b.link(6));
            c.type = static_cast<unsigned>(b.number(0, 1));
            c.sync = static_cast<unsigned>(b.number(1, 1));
            c.data_type = static_cast<unsigned>(b.number(2, 1));
            c.bit_offset = static_cast<unsigned>(b.number(3, 1)) & 7;
            c.byte_offset = static_cast<std::uint32_t>(b.number(4, 4));
            c.bits = static_cast<std::uint32_t>(b.number(8, 4));
            c.flags = static_cast<unsigned>(b.number(12, 4));
            c.invalid_bit = static_cast<std::uint32_t>(b.number(16, 4));
            if (const std::uint64_t inner = b.link(1); inner != 0 && depth < 8) {  // a structure: its members
                const auto kind = blocks_.block(inner);
                if (kind && kind->id == "CN")
                    for (Channel& member : channels_of(inner, seen, depth + 1)) {
                        member.name = c.name + "." + member.name;
                        all.push_back(std::move(member));
                    }
            }
            all.push_back(std::move(c));
            return true;
        });
        return all;
    }

    void data_group(const MdfBlock& dg) {
        const auto id_bytes = static_cast<std::size_t>(dg.number(0, 1));
        if (id_bytes != 0 && id_bytes != 1 && id_bytes != 2 && id_bytes != 4 && id_bytes != 8) {
            warn("a group has record IDs of " + std::to_string(id_bytes) + " bytes and is left out");
            return;
        }
        std::vector<Group> groups;
        std::set<std::uint64_t> seen, seen_channels;
        each_linked(dg.link(1), "CG", "the groups of channels", seen, [&](const MdfBlock& b) {
            Group g;
            g.at = b.at;
            g.name = blocks_.text(b.link(2));
            g.record_id = b.number(0, 8);
            g.cycles = b.number(8, 8);
            g.flags = static_cast<unsigned>(b.number(16, 2));
            g.bytes = static_cast<std::uint32_t>(b.number(24, 4));
            g.invalid_bytes = static_cast<std::uint32_t>(b.number(28, 4));
            if (!g.variable()) g.channels = channels_of(b.link(1), seen_channels);
            groups.push_back(std::move(g));
            return true;
        });
        if (groups.empty()) return;
        if (id_bytes == 0 && groups.size() > 1) {
            warn("a group without record IDs has several groups of channels: only the first is read");
            groups.resize(1);
        }
        std::string trouble;
        std::vector<std::uint8_t> unpacked;
        std::span<const std::uint8_t> data;
        if (const auto one = blocks_.block(dg.link(2)); dg.link(2) != 0 && one && one->id == "DT") {
            data = one->data;
        } else if (dg.link(2) != 0) {
            unpacked = blocks_.data(dg.link(2), kMostData, trouble);
            data = unpacked;
        }
        if (!trouble.empty()) warn("of group '" + plain_text(groups[0].name) + "': " + trouble);
        if (id_bytes == 0) {
            read_records(groups[0], data, {});
            return;
        }
        unsorted(groups, data, id_bytes);
    }

    // Records of several groups among each other, each with its ID before it.
    void unsorted(const std::vector<Group>& groups, std::span<const std::uint8_t> data, std::size_t id_bytes) {
        std::map<std::uint64_t, std::size_t> of_id;
        for (std::size_t i = 0; i < groups.size(); ++i) of_id[groups[i].record_id] = i;
        std::vector<std::vector<std::uint8_t>> records(groups.size());
        std::size_t at = 0;
        const auto number = [&](std::size_t bytes) {
            std::uint64_t value = 0;
            for (std::size_t i = 0; i < bytes; ++i) value |= std::uint64_t{data[at + i]} << (8 * i);
            at += bytes;
            return value;
        };
        while (data.size() - at >= id_bytes) {
            const std::size_t from = at;
            const auto found = of_id.find(number(id_bytes));
            if (found == of_id.end()) {
                warn("a record has an ID that no group has, at byte " + count_text(from) +
                     " of the data: it is read up to there");
                break;
            }
            const Group& g = groups[found->second];
            std::uint64_t length = std::uint64_t{g.bytes} + g.invalid_bytes;
            auto& to = records[found->second];
            if (g.variable()) {
                if (data.size() - at < 4) break;
                const std::size_t head = at;
                length = number(4);
                if (length > data.size() - at) break;
                to.insert(to.end(), data.begin() + static_cast<std::ptrdiff_t>(head),
                          data.begin() + static_cast<std::ptrdiff_t>(at));
            }
            if (length > data.size() - at) break;
            to.insert(to.end(), data.begin() + static_cast<std::ptrdiff_t>(at),
                      data.begin() + static_cast<std::ptrdiff_t>(at + length));
            at += length;
        }
        std::map<std::uint64_t, const std::vector<std::uint8_t>*> variable;
        for (std::size_t i = 0; i < groups.size(); ++i)
            if (groups[i].variable()) variable[groups[i].at] = &records[i];
        for (std::size_t i = 0; i < groups.size(); ++i)
            if (!groups[i].variable()) read_records(groups[i], records[i], variable);
    }

    using Variable = std::map<std::uint64_t, const std::vector<std::uint8_t>*>;

    /// A record that has a time; its bytes are as many as those of its group.
    struct Row {
        Time at;
        const std::uint8_t* bytes;
    };
    static constexpr std::uint64_t kRowsAtOnce = 2048;  // so few that they stay near while channel after channel is read

    void read_records(const Group& g, std::span<const std::uint8_t> data, const Variable& variable) {
        const std::size_t record = std::size_t{g.bytes} + g.invalid_bytes;
        const Channel* master = nullptr;
        for (const Channel& c : g.channels)
            if (c.is_master() && master == nullptr) master = &c;
        any_channel_ = any_channel_ || !g.channels.empty();
        if (g.channels.empty()) return;
        if (record == 0) return;
        if (master == nullptr) {
            warn("group '" + plain_text(g.name) + "' has no time and is left out");
            return;
        }
        std::uint64_t count = data.size() / record;
        if (!unfinished_ && count > g.cycles) count = g.cycles;
        if (count < g.cycles)
            warn("group '" + plain_text(g.name) + "' has " + count_text(count) + " of the " + count_text(g.cycles) +
                 " records that it says");
        const Conversion of_time = Conversion::of(blocks_, master->conversion);
        std::vector<Target> targets;
        for (const Channel& c : g.channels) {
            if (c.is_master() || c.type == 4 || c.type == 6) continue;
            if (!is_chosen(choice_, g.name, c.name)) continue;
            if (out_.lanes.size() + targets.size() >= kMostSignals) {
                if (!std::exchange(told_many_, true))
                    warn("only the first " + count_text(kMostSignals) +
                         " signals are read: name those you want in select");
                break;
            }
            Target t;
            t.channel = &c;
            t.conversion = Conversion::of(blocks_, c.conversion);
            const bool fixed = c.type == 0 || c.type == 5;
            if (t.conversion.unknown() || t.conversion.algebraic()) {
                warn("'" + plain_text(c.name) + "' has a conversion that is not known: its raw values are shown");
                t.conversion = {};
            }
            if (c.data_type > 9 || (c.type == 1 && !c.is_text()) || (!fixed && c.type != 1) ||
                (fixed && !c.is_text() && (c.bits == 0 || c.bits > 64)) ||
                std::uint64_t{c.byte_offset} + (c.bit_offset + std::uint64_t{c.bits} + 7) / 8 > g.bytes) {
                warn("'" + plain_text(c.name) + "' is of a kind that is not read and is left out");
                continue;
            }
            t.lane.name = plain_text(c.name);
            t.lane.unit = plain_text(!c.unit.empty() ? c.unit : t.conversion.unit());
            t.lane.source = plain_text(g.name);
            t.lane.core = ValueLane::kNoCore;
            t.lane.set_usual_origin(measured_origin());
            t.named = c.is_text() || t.conversion.gives_texts();
            t.whole = !t.named && c.data_type <= 3 && t.conversion.keeps();
            t.lane.sort = t.named            ? ValueSort::whole
                          : !t.whole         ? ValueSort::real
                          : c.data_type <= 1 ? ValueSort::whole
                                             : ValueSort::signed_whole;
            if (c.type == 1 && c.signal_data != 0) {
                const auto found = variable.find(c.signal_data);
                std::string trouble;
                t.signal_data =
                    found != variable.end() ? *found->second : blocks_.data(c.signal_data, kMostData, trouble);
                if (!trouble.empty()) warn("of '" + plain_text(c.name) + "': " + trouble);
            }
            targets.push_back(std::move(t));
        }
        std::uint64_t backwards = 0;
        std::optional<Time> last;
        std::vector<Row> rows;
        rows.reserve(kRowsAtOnce);
        for (std::uint64_t begin = 0; begin < count; begin += kRowsAtOnce) {
            if (progress_ != nullptr) {
                if (progress_->cancelled()) return;
                progress_->report(static_cast<std::uint64_t>(data.data() - bytes_.data()) <= bytes_.size()
                                      ? static_cast<std::uint64_t>(data.data() - bytes_.data()) + begin * record
                                      : 0,
                                  bytes_.size());
            }
            rows.clear();
            const std::uint64_t end = std::min(count, begin + kRowsAtOnce);
            const auto take = [&](std::uint64_t n, double raw) {
                const long double ps = static_cast<long double>(of_time.number(raw)) * 1e12L;
                if (!(std::abs(ps) < static_cast<long double>(kFarthestPs))) {
                    ++backwards;
                    return;
                }
                const Time t{static_cast<std::int64_t>(ps + (ps < 0 ? -0.5L : 0.5L))};  // llround takes far longer
                if (last && t < *last) {
                    ++backwards;
                    return;
                }
                last = t;
                rows.push_back({t, data.data() + n * record});
            };
            if (master->type == 3)
                for (std::uint64_t n = begin; n < end; ++n) take(n, static_cast<double>(n));
            else
                with_numbers(*master, record, [&](auto number) {
                    for (std::uint64_t n = begin; n < end; ++n) take(n, number(data.data() + n * record));
                });
            for (Target& target : targets) samples(target, g, rows);
        }
        if (backwards > 0)
            warn("in group '" + plain_text(g.name) + "' " + count_text(backwards) +
                 " records run backwards in time and are left out");
        if (last) out_.end = std::max(out_.end, *last);
        for (Target& t : targets) out_.lanes.push_back(std::move(t.lane));
    }

    static std::uint64_t raw_of(const Channel& c, std::span<const std::uint8_t> row) {
        const bool big = c.data_type == 1 || c.data_type == 3 || c.data_type == 5;
        const std::size_t bytes = (c.bit_offset + c.bits + 7) / 8;
        if (c.byte_offset + bytes > row.size() || bytes > 9) return 0;
        unsigned __int128 value = 0;
        for (std::size_t i = 0; i < bytes; ++i)
            value |= static_cast<unsigned __int128>(row[c.byte_offset + (big ? bytes - 1 - i : i)]) << (8 * i);
        value >>= c.bit_offset;
        const auto low = static_cast<std::uint64_t>(value);
        return c.bits >= 64 ? low : low & ((std::uint64_t{1} << c.bits) - 1);
    }
    static std::int64_t signed_of(std::uint64_t raw, std::uint32_t bits) {
        if (bits < 64 && (raw >> (bits - 1) & 1) != 0) raw |= ~std::uint64_t{0} << bits;
        return static_cast<std::int64_t>(raw);
    }
    // Calls `take` with what reads the raw bits of a channel out of the bytes of a record.
    template <class Take>
    static void with_raw(const Channel& c, std::size_t record, Take take) {
        const bool little = c.data_type == 0 || c.data_type == 2 || c.data_type == 4;
        if (little && c.bits > 0 && c.bit_offset + c.bits <= 64 && c.byte_offset + std::uint64_t{8} <= record) {
            const std::uint64_t mask = ~std::uint64_t{0} >> (64 - c.bits);
            take([from = c.byte_offset, shift = c.bit_offset, mask](const std::uint8_t* row) {
                std::uint64_t raw;
                std::memcpy(&raw, row + from, sizeof raw);
                return raw >> shift & mask;
            });
        } else {
            take([&c, record](const std::uint8_t* row) { return raw_of(c, {row, record}); });
        }
    }
    // The same of its number.
    template <class Take>
    static void with_numbers(const Channel& c, std::size_t record, Take take) {
        with_raw(c, record, [&](auto raw) {
            if (c.data_type == 4 && c.bits == 64)
                take([raw](const std::uint8_t* row) { return std::bit_cast<double>(raw(row)); });
            else
                take([raw, &c](const std::uint8_t* row) { return number_of(c, raw(row)); });
        });
    }
    static double number_of(const Channel& c, std::uint64_t raw) {
        if (c.bits == 0) return 0;
        switch (c.data_type) {
            case 0:
            case 1:
                return static_cast<double>(raw);
            case 2:
            case 3:
                return static_cast<double>(signed_of(raw, c.bits));
            case 4:
            case 5:
                if (c.bits == 64) return std::bit_cast<double>(raw);
                if (c.bits == 32) return std::bit_cast<float>(static_cast<std::uint32_t>(raw));
                if (c.bits == 16) return half(static_cast<std::uint16_t>(raw));
                return 0;
            default:
                return 0;
        }
    }
    static double half(std::uint16_t h) {
        const int exponent = h >> 10 & 31;
        const double mantissa = h & 1023, sign = (h & 0x8000) != 0 ? -1 : 1;
        if (exponent == 31) return mantissa != 0 ? std::nan("") : sign * INFINITY;
        return sign * (exponent == 0 ? std::ldexp(mantissa, -24) : std::ldexp(1024 + mantissa, exponent - 25));
    }

    void samples(Target& t, const Group& g, const std::vector<Row>& rows) {
        const Channel& c = *t.channel;
        const std::size_t record = std::size_t{g.bytes} + g.invalid_bytes;
        if ((c.flags & 3) != 0 || t.named) {
            for (const Row& r : rows) sample(t, g, {r.bytes, record}, r.at);
        } else if (t.whole) {
            with_raw(c, record, [&](auto raw) {
                if (c.data_type <= 1)
                    for (const Row& r : rows) t.lane.append_usual(r.at, raw(r.bytes));
                else
                    for (const Row& r : rows)
                        t.lane.append_usual(r.at, static_cast<std::uint64_t>(signed_of(raw(r.bytes), c.bits)));
            });
        } else {
            with_numbers(c, record, [&](auto number) {
                for (const Row& r : rows) append_number(t, t.conversion.number(number(r.bytes)), r.at);
            });
        }
    }
    static void append_number(Target& t, double value, Time at) {
        if (std::isfinite(value)) {
            t.lane.append_usual(at, Value::of(value).bits);
            return;
        }
        ValueOrigin origin = measured_origin();
        origin.worth = ValueOrigin::Worth::invalid;
        t.lane.append_unknown(at, origin);
    }

    void sample(Target& t, const Group& g, std::span<const std::uint8_t> row, Time at) {
        const Channel& c = *t.channel;
        ValueOrigin origin = measured_origin();
        const std::size_t invalid = g.bytes + c.invalid_bit / 8;
        if ((c.flags & 1) != 0 ||
            ((c.flags & 2) != 0 && invalid < row.size() && (row[invalid] >> (c.invalid_bit & 7) & 1) != 0)) {
            origin.worth = ValueOrigin::Worth::invalid;
            t.lane.append_unknown(at, origin);
            return;
        }
        if (c.is_text()) {
            std::span<const std::uint8_t> bytes;
            if (c.type == 1) {
                const std::uint64_t offset = raw_of(c, row);
                const auto& sd = t.signal_data;
                if (offset <= sd.size() && sd.size() - offset >= 4) {
                    const std::uint64_t length = std::uint64_t{sd[offset]} | std::uint64_t{sd[offset + 1]} << 8 |
                                                 std::uint64_t{sd[offset + 2]} << 16 |
                                                 std::uint64_t{sd[offset + 3]} << 24;
                    if (length <= sd.size() - offset - 4) bytes = std::span(sd).subspan(offset + 4, length);
                }
                if (bytes.data() == nullptr) {
                    origin.worth = ValueOrigin::Worth::invalid;
                    t.lane.append_unknown(at, origin);
                    return;
                }
            } else {
                bytes = row.subspan(c.byte_offset, std::min<std::size_t>(c.bits / 8, row.size() - c.byte_offset));
            }
            name(t, t.conversion.of_text(text_of(bytes.first(std::min<std::size_t>(bytes.size(), 4096)), c.data_type)),
                 at, origin);
            return;
        }
        if (t.whole) {
            const std::uint64_t bits = raw_of(c, row);
            t.lane.append_usual(at, c.data_type <= 1 ? bits : static_cast<std::uint64_t>(signed_of(bits, c.bits)));
            return;
        }
        const double raw = number_of(c, raw_of(c, row));
        if (t.named) {
            double scaled = raw;
            const auto text = t.conversion.text(raw, scaled);
            name(t, text ? *text : Value::of(scaled).text(), at, origin);
        } else {
            append_number(t, t.conversion.number(raw), at);
        }
    }

    void name(Target& t, const std::string& text, Time at, ValueOrigin origin) {
        auto found = t.texts.find(text);
        if (found == t.texts.end()) {
            if (t.texts.size() >= kMostTexts) {
                if (!std::exchange(t.full, true))
                    warn("'" + t.lane.name + "' has more than " + count_text(kMostTexts) +
                         " different texts: the others are not known");
                origin.worth = ValueOrigin::Worth::invalid;
                t.lane.append_unknown(at, origin);
                return;
            }
            found = t.texts.emplace(text, t.texts.size()).first;
            t.lane.value_names[found->second] = plain_text(text);
        }
        t.lane.append_usual(at, found->second);
    }

    std::span<const std::uint8_t> bytes_;
    MdfBlocks blocks_;
    const std::string& path_;
    const SignalChoice& choice_;
    Progress* progress_;
    SignalFile out_;
    bool unfinished_ = false, any_channel_ = false, told_many_ = false;
};

}  // namespace

Result<SignalFile> read_mdf(std::span<const std::uint8_t> bytes, const std::string& path, const SignalChoice& choice,
                            Progress* progress) {
    return MdfReader(bytes, path, choice, progress).read();
}

}  // namespace mt
