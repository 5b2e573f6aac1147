#include "share/step_tables.h"

#include <algorithm>
#include <ostream>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "share/tables.h"
#include "target/disassembly.h"
#include "trail/step_reading.h"

namespace mt {
namespace {

// Where nothing could be read at all, what came before the first synchronisation is no mere beginning.
bool is_missing(const StepTrail& t, const StepGapAt& g) {
    return mt::is_missing(g.gap.kind) || (g.gap.kind == StepGapKind::lead_in && t.steps == 0 && t.bad_bytes > 0);
}

using Json = nlohmann::ordered_json;

std::string optional_ns(const std::optional<Time>& t) { return t ? ns_text(*t) : std::string(); }

}  // namespace

void write_step_addresses(const Recording& recording, const StepTrail& trail, std::optional<Time> from,
                          std::optional<Time> to, std::ostream& out, const Progress* progress) {
    std::vector<char> buffer;
    const bool all = !from && !to;
    each_step_piece(recording, trail, from ? step_at(recording, trail, *from) : 0, [&](const StepPiece& p) {
        for (std::uint32_t slot = p.run.first, i = 0; i < p.run.count; slot = trail.code->next(slot), ++i) {
            if (!all && from && p.time_of(i) < *from) continue;
            if (!all && to && p.time_of(i) > *to) return false;
            const std::uint64_t address = trail.code->address(slot);
            for (unsigned b = 0; b < 64; b += 8) buffer.push_back(static_cast<char>(address >> b));
        }
        if (buffer.size() >= 1 << 16) {
            out.write(buffer.data(), static_cast<std::streamsize>(buffer.size()));
            buffer.clear();
        }
        return progress == nullptr || !progress->cancelled();
    });
    out.write(buffer.data(), static_cast<std::streamsize>(buffer.size()));
}

void write_steps_csv(const Recording& recording, const StepTrail& trail, std::optional<Time> from,
                     std::optional<Time> to, std::ostream& out, const Progress* progress) {
    const Image& image = *recording.images[trail.core_index];
    const Code& code = *trail.code;
    Disassembler disassembler(code);
    // What can be said of an instruction is the same each time it runs.
    std::vector<std::string> texts(code.slot_count());
    const auto text_of = [&](std::uint32_t slot) -> const std::string& {
        std::string& t = texts[slot];
        if (!t.empty()) return t;
        const std::uint64_t address = code.address(slot);
        const auto line = image.line_at(address);
        t = hex_text(address, code.xlen() == 64 ? 16 : 8) + ',' +
            csv_field((*trail.functions)[trail.functions->at(slot)].name) + ',' + (line ? csv_field(line->file) : "") +
            ',' + (line ? std::to_string(line->line) : "") + ',' + csv_field(disassembler.text(slot));
        return t;
    };
    out << "index,time_ns,pc,function,file,line,text\n";
    const std::uint64_t first = from ? step_at(recording, trail, *from) : 0;
    each_step_piece(recording, trail, first, [&](const StepPiece& p) {
        std::uint32_t slot = p.run.first;
        for (std::uint32_t i = 0; i < p.run.count; ++i, slot = code.next(slot)) {
            const Time t = p.time_of(i);
            if (from && t < *from) continue;
            if (to && t > *to) return false;
            out << p.step + i << ',' << (trail.clock == StepClock::none ? std::string() : ns_text(t)) << ','
                << text_of(slot) << '\n';
        }
        return progress == nullptr || !progress->cancelled();
    });
}

void write_functions_csv(const std::vector<FunctionRow>& rows, std::ostream& out) {
    out << kStatsHeading;
    for (const auto& r : rows) {
        // What was sampled has no calls to count, and without a clock there are no times.
        const auto counted = [&r](std::uint64_t n) { return r.sampled ? std::string() : std::to_string(n); };
        const auto time = [&r](const std::optional<Time>& t) { return r.timed ? optional_ns(t) : std::string(); };
        out << csv_field(r.name) << ",," << counted(r.count) << ',' << counted(r.left_out) << ','
            << (r.sampled ? std::string() : time(r.total)) << ',' << time(r.own) << ',' << time(r.least) << ','
            << time(r.mean) << ',' << time(r.greatest) << ',' << time(r.deviation) << ",,,,,,,,,"
            << share_field(r.share) << '\n';
    }
}

Json functions_json(const Trail& trail, const std::vector<FunctionRow>& rows) {
    Json all = Json::array();
    for (const auto& r : rows) {
        Json j;
        j["name"] = r.name;
        j["core"] = trail.cores[r.core].name;
        j["address"] = hex_text(r.address, 8);
        j["file"] = r.file;
        j["line"] = r.line;
        add_figures(j, r);
        j["preempted"] = json_ns(r.preempted);
        if (!r.timed)
            for (const char* key : {"total", "own", "min", "mean", "max", "stddev", "preempted"}) j[key] = nullptr;
        j["recursive"] = r.recursive;
        j["unwound"] = r.unwound;
        j["instructions"] = r.instructions;
        j["share"] = r.share;
        j["sampled"] = r.sampled;
        if (r.sampled) {
            j["samples"] = r.samples;
            j["share_error"] = r.share_error;
        } else {
            j["clock"] = step_clock_text(trail.steps[r.steps_index].clock);
        }
        all.push_back(std::move(j));
    }
    return all;
}

std::string functions_text(const std::vector<FunctionRow>& rows) {
    const auto right = [](const std::string& s, std::size_t n) {
        std::size_t shown = 0;
        for (const char c : s) shown += (static_cast<unsigned char>(c) & 0xC0) != 0x80 ? 1 : 0;
        return (shown < n ? std::string(n - shown, ' ') : std::string()) + s;
    };
    std::string out =
        "function                        calls  left out  instructions         own      share      least       "
        "mean   greatest\n";
    for (const auto& r : rows) {
        const std::string name = r.name.substr(0, 27);
        const auto cell = [&r](const std::optional<Time>& t) {
            return t && r.timed ? duration_text(*t) : std::string("-");
        };
        const auto known = [&](std::uint64_t n, std::size_t width) {
            return right(r.sampled ? "-" : count_text(n), width);
        };
        out += name + std::string(27 - name.size(), ' ') + known(r.count, 10) + known(r.left_out, 10) +
               known(r.instructions, 14) + right((r.sampled ? "~" : "") + cell(r.own), 12) +
               right(share_text(r.share), 11) + right(cell(r.least), 11) + right(cell(r.mean), 11) +
               right(cell(r.greatest), 11) + (r.sampled ? "  sampled " + count_text(r.samples) + " times" : "") + "\n";
    }
    return out;
}

bool write_calls_csv(const Trail& trail, const std::string& function, std::ostream& out) {
    for (const StepTrail& t : trail.steps) {
        std::uint32_t f = 1;
        while (f < t.functions->size() && (*t.functions)[f].name != function) ++f;
        if (f == t.functions->size()) continue;
        struct Found {
            std::uint64_t step = 0;
            std::size_t level = 0, index = 0;
        };
        std::vector<Found> found;
        for (std::size_t level = 0; level < t.levels.size(); ++level)
            for (std::size_t i = 0; i < t.levels[level].size(); ++i)
                if (t.levels[level][i].function == f) found.push_back({t.levels[level][i].step, level, i});
        if (found.empty()) continue;
        std::stable_sort(found.begin(), found.end(), [](const Found& a, const Found& b) { return a.step < b.step; });
        out << "index,begin_ns,end_ns,duration_ns,step,depth,left_out,own_ns,preempted_ns\n";
        std::size_t index = 0;
        const auto time = [&t](Time x) { return t.clock == StepClock::none ? std::string() : ns_text(x); };
        for (const Found& x : found) {
            const CallParts parts = parts_of_call(t, x.level, x.index);
            const CallSpan& span = t.levels[x.level][x.index];
            out << index++ << ',' << time(span.begin) << ',' << time(span.end()) << ',' << time(span.length) << ','
                << std::uint64_t{span.step} << ',' << x.level + 1 << ',' << (span.whole() ? "" : "cut") << ','
                << time(parts.own) << ',' << time(parts.preempted) << '\n';
        }
        return true;
    }
    return false;
}

std::string step_clock_text(StepClock clock) {
    switch (clock) {
        case StepClock::cycles:
            return "cycle counts";
        case StepClock::timestamps:
            return "timestamps";
        default:
            return "none";
    }
}

Json steps_summary_json(const StepTrail& t) {
    Json j;
    j["file"] = t.file;
    j["core"] = t.core;
    j["raw_bytes"] = t.raw_bytes;
    j["bytes"] = t.bytes;
    j["bad_bytes"] = t.bad_bytes;
    j["lead_in_bytes"] = t.lead_in;
    j["times_back"] = t.times_back;
    j["instructions"] = t.steps;
    j["exceptions"] = t.traps.size();
    j["synchronisations"] = t.syncs;
    j["clock"] = step_clock_text(t.clock);
    j["contradictions"] = t.contradictions;
    j["returns_without_caller"] = t.unmatched;
    Json kinds;
    for (const auto& [kind, count] : t.counts) kinds[kind] = count;
    j["packets"] = kinds;
    Json others = Json::array();
    for (const auto& [id, n] : t.other_sources)
        others.push_back({{"src_id", id}, {"packets", n.packets}, {"bytes", n.bytes}});
    j["other_sources"] = others;
    Json gaps = Json::array(), pauses = Json::array();
    for (std::size_t i = 0; i < t.gaps.size(); ++i) {
        Json& list = is_missing(t, t.gaps[i]) ? gaps : pauses;
        if (list.size() < 1000)
            list.push_back(
                {{"step", t.gaps[i].step}, {"offset", t.gaps[i].gap.offset}, {"what", t.gaps[i].gap.reason}});
    }
    j["gaps"] = gaps;
    j["not_traced"] = pauses;
    return j;
}

std::vector<const StepGapAt*> missing_instructions(const Trail& trail) {
    std::vector<const StepGapAt*> all;
    for (const StepTrail& t : trail.steps)
        for (std::size_t i = 0; i < t.gaps.size(); ++i)
            if (is_missing(t, t.gaps[i])) all.push_back(&t.gaps[i]);
    return all;
}

std::string steps_summary_text(const StepTrail& t) {
    std::string out = "  core " + t.core + ", instructions, " + bytes_text(t.raw_bytes) + ": " + count_text(t.packets) +
                      " packets, " + count_text(t.steps) + " instructions, " + count_text(t.traps.size()) +
                      " exceptions, " +
                      (t.bad_bytes == 0 ? std::string("no bad bytes") : bytes_text(t.bad_bytes) + " bad") +
                      (t.lead_in == 0 ? "" : ", " + bytes_text(t.lead_in) + " before the first packet") + "\n";
    for (const auto& [kind, count] : t.counts)
        out += "    " + kind + std::string(18 - std::min<std::size_t>(kind.size(), 17), ' ') + count_text(count) + "\n";
    std::uint64_t missing = 0, pauses = 0;
    for (std::size_t i = 0; i < t.gaps.size(); ++i) {
        const bool gap = is_missing(t, t.gaps[i]);
        if (++(gap ? missing : pauses) > 10) continue;
        out += std::string(gap ? "    gap before" : "    not traced before") + " instruction " +
               count_text(t.gaps[i].step) + ": " + t.gaps[i].gap.reason + "\n";
    }
    if (missing > 10) out += "    … and " + count_text(missing - 10) + " more gaps\n";
    if (pauses > 10) out += "    … and " + count_text(pauses - 10) + " more stretches that were not traced\n";
    return out;
}

}  // namespace mt
