#include "share/step_tables.h"

#include <algorithm>
#include <ostream>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "replay/step_window.h"
#include "share/tables.h"
#include "target/disassembly.h"

namespace mt {
namespace {

// Where nothing could be read at all, what came before the first synchronisation is no mere beginning.
bool is_missing(const StepTrail& t, const StepGapAt& g) {
    return mt::is_missing(g.gap.kind) || (g.gap.kind == StepGapKind::lead_in && t.steps == 0 && t.bad_bytes > 0);
}

using Json = nlohmann::ordered_json;

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
    const Code& code = *trail.code;
    Disassembler disassembler(code);
    // What can be said of an instruction is the same each time it runs.
    std::vector<std::string> texts(code.slot_count());
    const auto text_of = [&](std::uint32_t slot) -> const std::string& {
        std::string& t = texts[slot];
        if (!t.empty()) return t;
        const std::uint64_t address = code.address(slot);
        const auto line = recording.line_of(trail.core_index, slot);
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
                {{"step", t.gaps[i].step}, {"offset", t.gaps[i].gap.offset}, {"what", t.gaps[i].gap.text()}});
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
               count_text(t.gaps[i].step) + ": " + t.gaps[i].gap.text() + "\n";
    }
    if (missing > 10) out += "    … and " + count_text(missing - 10) + " more gaps\n";
    if (pauses > 10) out += "    … and " + count_text(pauses - 10) + " more stretches that were not traced\n";
    return out;
}

}  // namespace mt
