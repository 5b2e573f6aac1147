#include "share/mdf_export.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <map>
#include <ostream>
#include <vector>

#include "measure/lane_kind.h"
#include "share/state_codes.h"

namespace mt {
namespace {

/// The samples of one lane.
struct Samples {
    std::vector<std::pair<Time, double>> of;
    std::map<double, std::string> names;  ///< what numbers stand for
    bool some_unknown = false;            ///< NaN among them
};

// Bars: how many last at a time, and 1 while any does. With names: the name's number, 0 between.
void take_bars(const Lane& lane, bool named, Samples& out) {
    std::vector<std::pair<Time, int>> changes;
    std::map<std::string, double> numbers;
    for (std::size_t level = 0; level < lane.levels(); ++level)
        for (std::size_t i = 0; i < lane.size(level); ++i) {
            const Span s = lane.span(level, i);
            if ((s.flags & Span::kSilent) != 0) continue;
            if (named) {
                const auto [found, fresh] =
                    numbers.try_emplace(lane.label(level, i), static_cast<double>(numbers.size()));
                if (fresh) out.names[found->second] = found->first;
                out.of.emplace_back(s.begin, found->second);
            } else {
                changes.emplace_back(s.begin, 1);
                changes.emplace_back(s.end, -1);
            }
        }
    if (named) {
        std::stable_sort(out.of.begin(), out.of.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
        return;
    }
    // What ends goes before what begins at the same moment.
    std::sort(changes.begin(), changes.end());
    int depth = 0;
    for (const auto& [time, change] : changes) {
        const bool was = depth > 0;
        depth += change;
        if (was != (depth > 0)) out.of.emplace_back(time, depth > 0 ? 1.0 : 0.0);
    }
}

Samples samples_of(const LaneKind& kind, const Lane& lane, Time end) {
    Samples all;
    switch (lane.shape()) {
        case Shape::bars:
            take_bars(lane, kind.id() == "states", all);
            break;
        case Shape::states:
            all.names = {{0, "not known"},        {1, "runs"}, {2, "interrupted"}, {3, "ready, held off"},
                         {4, "waits for a lock"}, {5, "waits"}};
            lane.each_state(Time{}, end, [&](const LaneState& s) {
                const double number = std::max(state_code(s), 0);
                if (all.of.empty() || all.of.back().second != number) all.of.emplace_back(s.begin, number);
            });
            break;
        case Shape::line:
        case Shape::ticks:
            for (std::size_t i = 0; i < lane.size(0); ++i) {
                const double v = lane.shape() == Shape::line ? lane.value(i) : 1;
                all.some_unknown = all.some_unknown || std::isnan(v);
                all.of.emplace_back(lane.span(0, i).begin, v);
            }
            break;
        case Shape::stack:
            break;
    }
    return all;
}

class MdfWriter {
  public:
    explicit MdfWriter(std::ostream& out) : out_(out) {}

    std::uint64_t position() const { return at_; }
    // The general block structure: identification, length, links, data; on a multiple of eight.
    std::uint64_t block(const char* id, const std::vector<std::uint64_t>& links, const std::string& data) {
        pad();
        const std::uint64_t at = at_;
        std::string head = std::string("##") + id + std::string(4, '\0');
        put(head, 24 + 8 * links.size() + data.size(), 8);
        put(head, links.size(), 8);
        for (const std::uint64_t l : links) put(head, l, 8);
        write(head);
        write(data);
        return at;
    }
    std::uint64_t text(const std::string& t) {
        if (t.empty()) return 0;
        std::string data = t;
        data.resize(t.size() + 8 - t.size() % 8, '\0');
        return block("TX", {}, data);
    }
    void write(const std::string& bytes) {
        out_.write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
        at_ += bytes.size();
    }
    void pad() { write(std::string((8 - at_ % 8) % 8, '\0')); }
    static void put(std::string& to, std::uint64_t value, unsigned bytes) {
        for (unsigned i = 0; i < bytes; ++i) to += static_cast<char>(value >> (8 * i) & 0xFF);
    }
    static void put_real(std::string& to, double value) { put(to, std::bit_cast<std::uint64_t>(value), 8); }

  private:
    std::ostream& out_;
    std::uint64_t at_ = 0;
};

std::string head_data() {
    std::string data;
    MdfWriter::put(data, 0, 8);  // start: not known
    data.append(4, '\0');        // time zones
    data += '\x02';              // offsets valid: the time is UTC
    data.append(3, '\0');
    MdfWriter::put(data, 0, 8);  // start angle and distance: none
    MdfWriter::put(data, 0, 8);
    return data;
}

// CNBLOCK of 64-bit reals, or of one byte.
std::string channel_data(unsigned type, unsigned sync, unsigned data_type, unsigned offset, unsigned bits,
                         bool may_be_invalid) {
    std::string data;
    MdfWriter::put(data, type, 1);
    MdfWriter::put(data, sync, 1);
    MdfWriter::put(data, data_type, 1);
    MdfWriter::put(data, 0, 1);
    MdfWriter::put(data, offset, 4);
    MdfWriter::put(data, bits, 4);
    MdfWriter::put(data, may_be_invalid ? 2 : 0, 4);
    MdfWriter::put(data, 0, 4);  // its invalidation bit
    MdfWriter::put(data, 0, 4);  // precision, attachments
    data.append(48, '\0');       // ranges and limits: none
    return data;
}

}  // namespace

Result<void> write_mdf(const Trail& trail, const std::string& title, std::ostream& out, Progress& progress) {
    MdfWriter w(out);
    std::string id = std::string("MDF     4.10    ") + "MindTrl ";
    MdfWriter::put(id, 0, 4);
    MdfWriter::put(id, 410, 2);
    id.resize(64, '\0');
    w.write(id);
    const std::vector<std::uint64_t> no_links(6, 0);
    w.block("HD", no_links, head_data());  // written again with its links at the end

    std::vector<std::pair<const LaneKind*, std::uint64_t>> lanes;
    for (const LaneKind* kind : LaneKinds::all())
        if (kind->told(trail))
            for (const std::uint64_t index : kind->lanes(trail)) lanes.emplace_back(kind, index);
    const std::uint64_t seconds = w.text("s"), time_name = w.text("time");
    std::vector<std::vector<std::uint64_t>> groups;  // links of each DG, written last, as they are chained
    std::uint64_t done = 0;
    for (const auto& [kind, index] : lanes) {
        if (progress.cancelled()) return failure("writing was cancelled");
        progress.report(done++, lanes.size());
        const auto lane = kind->lane(trail, index);
        if (!lane || lane->shape() == Shape::stack) continue;
        const Samples samples = samples_of(*kind, *lane, trail.end);
        if (samples.of.empty()) continue;
        const bool real = lane->shape() == Shape::line, few = !real && samples.names.size() < 256;
        const unsigned value_bytes = real ? 8 : few ? 1 : 4;
        std::string data;
        data.reserve(samples.of.size() * (8 + value_bytes + (samples.some_unknown ? 1 : 0)));
        for (const auto& [time, value] : samples.of) {
            MdfWriter::put_real(data, static_cast<double>(time.ps) * 1e-12);
            if (real)
                MdfWriter::put_real(data, std::isnan(value) ? 0 : value);
            else
                MdfWriter::put(data, static_cast<std::uint64_t>(value), value_bytes);
            if (samples.some_unknown) data += std::isnan(value) ? '\1' : '\0';
        }
        const std::uint64_t block = w.block("DT", {}, data);
        std::uint64_t conversion = 0;
        if (!samples.names.empty()) {  // CCBLOCK, value to text: a text for each, and none for others
            std::vector<std::uint64_t> links(4, 0);
            std::string values;
            for (const auto& [number, name] : samples.names) {
                links.push_back(w.text(name.empty() ? " " : name));
                MdfWriter::put_real(values, number);
            }
            links.push_back(0);
            std::string cc;
            MdfWriter::put(cc, 7, 1);
            MdfWriter::put(cc, 0, 1);
            MdfWriter::put(cc, 0, 2);
            MdfWriter::put(cc, samples.names.size() + 1, 2);
            MdfWriter::put(cc, samples.names.size(), 2);
            MdfWriter::put_real(cc, 0);
            MdfWriter::put_real(cc, 0);
            conversion = w.block("CC", links, cc + values);
        }
        std::string unit;
        if (kind->id() == "values" && index < trail.tasks.values.size()) unit = trail.tasks.values[index].unit;
        const std::uint64_t value = w.block("CN", {0, 0, w.text(lane->name()), 0, conversion, 0, w.text(unit), 0},
                                            channel_data(0, 0, real ? 4 : 0, 8, 8 * value_bytes, samples.some_unknown));
        const std::uint64_t time =
            w.block("CN", {value, 0, time_name, 0, 0, 0, seconds, 0}, channel_data(2, 1, 4, 0, 64, false));
        std::string cg;
        MdfWriter::put(cg, 0, 8);
        MdfWriter::put(cg, samples.of.size(), 8);
        MdfWriter::put(cg, 0, 2);
        MdfWriter::put(cg, '.', 2);
        MdfWriter::put(cg, 0, 4);
        MdfWriter::put(cg, 8 + value_bytes, 4);
        MdfWriter::put(cg, samples.some_unknown ? 1 : 0, 4);
        const std::string core = lane->core() < trail.cores.size() ? trail.cores[lane->core()].name : std::string();
        const std::uint64_t name = w.text(std::string(kind->id()) + (core.empty() ? "" : ", " + core));
        groups.push_back({0, w.block("CG", {0, time, name, 0, 0, 0}, cg), block, 0});
        if (!out) return failure("cannot be written", "", "check free space and permissions");
    }
    std::uint64_t next = 0;
    for (auto g = groups.rbegin(); g != groups.rend(); ++g) {
        (*g)[0] = next;
        next = w.block("DG", *g, std::string(8, '\0'));
    }
    const std::uint64_t remark = w.block(
        "MD", {}, std::string("<FHcomment><TX>written by Mindful Trail</TX></FHcomment>") + std::string(8, '\0'));
    std::string history;
    MdfWriter::put(history, 0, 8);
    history.append(8, '\0');
    const std::uint64_t file_history = w.block("FH", {0, remark}, history);
    const std::uint64_t comment = w.text(title);
    out.seekp(64);
    MdfWriter head(out);
    head.block("HD", {next, file_history, 0, 0, 0, comment}, head_data());
    out.seekp(0, std::ios::end);
    if (!out) return failure("cannot be written", "", "check free space and permissions; the file must be a real one");
    return {};
}

}  // namespace mt
