#include "share/tables.h"

#include <algorithm>
#include <cmath>
#include <memory>
#include <ostream>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "judge/alike.h"
#include "replay/packet_block.h"
#include "replay/step_window.h"
#include "share/step_tables.h"
#include "share/task_tables.h"

namespace mt {
namespace {

using Json = nlohmann::ordered_json;

// Walks the packets of one stream block by block.
class StreamWalk {
  public:
    StreamWalk(const Recording& recording, const Trail& trail, std::size_t stream, std::optional<Time> from)
        : recording_(recording), trail_(trail), stream_(stream) {
        const StreamTrail& s = trail.streams[stream];
        next_block_ = from && s.checkpoints.size() > 0 ? block_of_time(s, *from) : 0;
        load();
    }
    bool done() const { return done_; }
    std::size_t stream() const { return stream_; }
    const TimedPacket& packet() const { return block_.packets[at_]; }
    void next() {
        if (++at_ >= block_.packets.size()) load();
    }

  private:
    void load() {
        at_ = 0;
        do {
            if (next_block_ >= trail_.streams[stream_].checkpoints.size()) {
                done_ = true;
                return;
            }
            block_ = decode_block(recording_, trail_, stream_, next_block_++);
        } while (block_.packets.empty());
    }
    const Recording& recording_;
    const Trail& trail_;
    std::size_t stream_, next_block_ = 0, at_ = 0;
    PacketBlock block_;
    bool done_ = false;
};

template <class Row>
void each_packet(const Recording& recording, const Trail& trail, std::optional<Time> from, std::optional<Time> to,
                 const Progress* progress, Row row) {
    std::vector<std::unique_ptr<StreamWalk>> walks;
    for (std::size_t i = 0; i < trail.streams.size(); ++i)
        walks.push_back(std::make_unique<StreamWalk>(recording, trail, i, from));
    for (std::uint64_t n = 0;; ++n) {
        StreamWalk* first = nullptr;
        for (const auto& w : walks)
            if (!w->done() && (first == nullptr || w->packet().latest < first->packet().latest)) first = w.get();
        if (first == nullptr || (to && first->packet().latest > *to)) return;
        if (n % 4096 == 0 && progress != nullptr && progress->cancelled()) return;
        if (!from || first->packet().latest >= *from) row(first->stream(), first->packet());
        first->next();
    }
}

void write_trace_event(const Trail& trail, const TraceEventText& e, std::ostream& out) {
    out << ns_text(e.time) << ',' << csv_field(trail.cores[e.core].name) << ',' << csv_field(e.kind) << ','
        << csv_field(e.name) << ',' << e.number << ',' << csv_field(e.value) << ',' << e.offset << '\n';
}

}  // namespace

namespace {

// What a spreadsheet would take for a formula, though it is text.
bool looks_like_formula(const std::string& text) {
    if (text.empty()) return false;
    if (text[0] == '=' || text[0] == '@' || text[0] == '\t' || text[0] == '\r') return true;
    if (text[0] != '+' && text[0] != '-') return false;
    return text.size() == 1 || text.find_first_not_of("0123456789.eE+-", 1) != std::string::npos;
}

}  // namespace

std::string csv_field(const std::string& plain) {
    const std::string text = looks_like_formula(plain) ? "'" + plain : plain;
    if (text.find_first_of(",\"\r\n") == std::string::npos) return text;
    std::string quoted = "\"";
    for (const char c : text) {
        if (c == '"') quoted += '"';
        quoted += c;
    }
    return quoted + "\"";
}

std::string share_field(double share) {
    char text[32];
    std::snprintf(text, sizeof text, "%.9f", share);
    return text;
}

Json json_ns(Time t) { return static_cast<double>(t.ps) / 1e3; }
Json json_ns(const std::optional<Time>& t) { return t ? json_ns(*t) : Json(nullptr); }

void write_packets_csv(const Recording& recording, const Trail& trail, std::optional<Time> from, std::optional<Time> to,
                       std::ostream& out, const Progress* progress) {
    const bool several = trail.streams.size() + trail.steps.size() + trail.tasks.streams.size() > 1;
    out << (several ? "offset,time_ns,kind,detail,core\n" : "offset,time_ns,kind,detail\n");
    each_packet(recording, trail, from, to, progress, [&](std::size_t stream, const TimedPacket& p) {
        out << p.packet.offset << ',' << ns_text(p.latest) << ',' << itm_kind_name(p.packet.kind) << ','
            << csv_field(itm_detail(p.packet));
        if (several) out << ',' << csv_field(trail.streams[stream].core);
        out << '\n';
    });
    each_trace_event(recording, trail, from, to, [&](const TraceEventText& e) {
        out << e.offset << ',' << ns_text(e.time) << ',' << csv_field(e.kind) << ',' << csv_field(e.detail);
        if (several) out << ',' << csv_field(trail.cores[e.core].name);
        out << '\n';
        return progress == nullptr || !progress->cancelled();
    });
    // Instruction packets carry no time of their own: in stream order, behind the others.
    if (from || to) return;
    for (std::size_t i = 0; i < trail.steps.size(); ++i)
        each_step_packet(recording, i, [&](const StepPacketText& p) {
            out << p.offset << ",," << p.kind << ',' << csv_field(p.detail);
            if (several) out << ',' << csv_field(trail.steps[i].core);
            out << '\n';
        });
}

void write_events_csv(const Recording& recording, const Trail& trail, std::optional<Time> from, std::optional<Time> to,
                      std::ostream& out, const Progress* progress) {
    out << "time_ns,core,kind,name,number,value,offset\n";
    // Exceptions that instruction trace tells of, merged by time.
    std::vector<std::size_t> next(trail.steps.size());
    const auto steps_until = [&](Time t) {
        for (;;) {
            std::size_t first = next.size();
            for (std::size_t i = 0; i < next.size(); ++i)
                if (next[i] < trail.steps[i].traps.size() && !(t < trail.steps[i].traps[next[i]].time) &&
                    (first == next.size() ||
                     trail.steps[i].traps[next[i]].time < trail.steps[first].traps[next[first]].time))
                    first = i;
            if (first == next.size()) return;
            const StepTrail& steps = trail.steps[first];
            const StepTrapAt& x = steps.traps[next[first]++];
            if ((from && x.time < *from) || (to && *to < x.time)) continue;
            const auto known = exception_of(x.trap, *steps.code);
            out << (steps.clock == StepClock::none ? std::string() : ns_text(x.time)) << ',' << csv_field(steps.core)
                << ",exc_enter,"
                << (known ? csv_field(recording.exception_name(steps.core_index, known->code())) : std::string()) << ','
                << (known ? std::to_string(x.trap.number) : std::string()) << ','
                << (x.trap.epc_known ? hex_text(x.trap.epc, 8) : std::string()) << ',' << x.trap.offset << '\n';
        }
    };
    // Events of the operating system, packet by packet, between those of the trace port.
    if (trail.streams.empty() && trail.steps.empty()) {
        each_trace_event(recording, trail, from, to, [&](const TraceEventText& e) {
            write_trace_event(trail, e, out);
            return progress == nullptr || !progress->cancelled();
        });
        return;
    }
    TraceEvents waiting(recording, trail, from, to);
    const auto trace_until = [&](Time t) {
        for (const TraceEventText* e = waiting.next(); e != nullptr && e->time <= t; e = waiting.next()) {
            write_trace_event(trail, *e, out);
            waiting.pass();
        }
    };
    each_packet(recording, trail, from, to, progress, [&](std::size_t stream, const TimedPacket& p) {
        if (!itm_is_event(p.packet.kind)) return;
        trace_until(p.latest);
        steps_until(p.latest);
        const EventText t = event_text(recording, stream, p.packet);
        out << ns_text(p.latest) << ',' << csv_field(trail.streams[stream].core) << ',' << t.kind << ','
            << csv_field(t.name) << ',' << t.number << ',' << t.value << ',' << p.packet.offset << '\n';
    });
    steps_until(Time::max());
    trace_until(Time::max());
}

Json summary_json(const Recording& recording, const Trail& trail) {
    Json j;
    j["title"] = recording.title;
    j["input"] = recording.input;
    // Local timestamps count from zero at the first byte; an event trace has a clock of its own.
    j["origin_ns"] =
        !trail.tasks.streams.empty() ? json_ns(Clock{trail.tasks.clock_hz}.at(trail.tasks.origin_ticks)) : Json(0.0);
    j["span_ns"] = json_ns(trail.end);
    j["complete"] = trail.complete;
    std::uint64_t instructions = 0;
    for (const auto& t : trail.steps) instructions += t.steps;
    j["instructions"] = instructions;
    j["streams"] = Json::array();
    for (std::size_t i = 0; i < trail.streams.size(); ++i) {
        const StreamTrail& s = trail.streams[i];
        Json t;
        t["file"] = s.file;
        t["core"] = s.core;
        t["protocol"] = "itm";
        t["raw_bytes"] = s.raw_bytes;
        t["bytes"] = s.bytes;
        t["bad_bytes"] = s.bad_bytes;
        t["lead_in_bytes"] = s.lead_in;
        t["strays"] = s.strays.size();
        t["events"] = s.events;
        Json kinds;
        for (std::size_t k = 0; k < kItmKinds; ++k)
            if (s.counts[k] > 0) kinds[std::string(itm_kind_name(static_cast<ItmKind>(k)))] = s.counts[k];
        t["packets"] = kinds;
        if (s.formatter) {
            Json f;
            f["frames"] = s.formatter->frames;
            f["full_syncs"] = s.formatter->full_syncs;
            f["half_syncs"] = s.formatter->half_syncs;
            f["id_changes"] = s.formatter->id_changes;
            f["delayed_id_changes"] = s.formatter->delayed_id_changes;
            f["lost_bytes"] = s.formatter->lost_bytes;
            Json ids;
            for (std::size_t id = 0; id < 128; ++id)
                if (s.formatter->bytes_of_id[id] > 0) ids[std::to_string(id)] = s.formatter->bytes_of_id[id];
            f["bytes_of_id"] = ids;
            t["formatter"] = f;
        }
        j["streams"].push_back(std::move(t));
    }
    if (recording.events)
        for (auto& t : event_streams_json(recording, trail)) j["streams"].push_back(std::move(t));
    for (std::size_t i = 0; i < trail.steps.size(); ++i) {
        Json t = steps_summary_json(trail.steps[i]);
        t["protocol"] = protocol_name(recording.target.streams[recording.step_streams[i].spec].protocol);
        j["streams"].push_back(std::move(t));
    }
    for (const SampleTrail& s : trail.measured)
        j["streams"].push_back({{"file", s.file},
                                {"name", s.name},
                                {"protocol", protocol_name(recording.target.streams[s.spec].protocol)},
                                {"raw_bytes", s.bytes},
                                {"bad_bytes", s.odd_bytes},
                                {"channels", s.lanes.size()},
                                {"samples", s.samples},
                                {"rate_hz", s.rate_hz},
                                {"breaks", s.breaks}});
    std::uint64_t overflows = 0;
    for (std::size_t i = 0; i < trail.gaps.size(); ++i) overflows += trail.gaps[i].kind == GapKind::overflow ? 1 : 0;
    std::uint64_t damaged = trail.gaps.size() - overflows;
    for (const StepGapAt* g : missing_instructions(trail)) ++(g->gap.kind == StepGapKind::lost ? overflows : damaged);
    j["gaps"] = {{"count", overflows + damaged},
                 {"overflows", overflows},
                 {"damaged", damaged},
                 {"time_ns", json_ns(trail.gaps.covered())}};
    // Where what is shown may be wrong: around losses and in damaged packets. No finding leans on it.
    std::uint64_t places = trail.doubtful.size();
    Time unsure = trail.doubtful.covered();
    for (const StepTrail& t : trail.steps) {
        places += t.doubtful.size();
        for (std::size_t i = 0; i < t.doubtful.size(); ++i) unsure += t.doubtful[i].second - t.doubtful[i].first;
    }
    j["unsure"] = {{"count", places}, {"time_ns", json_ns(unsure)}};
    j["signals"] = Json::array();
    for (const LaidSignals& s : trail.beside)
        j["signals"].push_back(
            {{"file", s.file},
             {"name", s.name},
             {"format", s.format},
             {"lanes", s.lanes},
             {"aligned", s.how == LaidSignals::How::aligned},
             {"offset_ns", s.offset_ns},
             {"drift_ppm", s.drift_ppm},
             {"uncertainty_ns", s.how == LaidSignals::How::aligned ? Json(s.uncertainty_ns) : Json()},
             {"matched", s.matched},
             {"unmatched", s.unmatched}});
    j["doubts"] = Json::array();
    for (const auto& d : trail.doubts) {
        Json mends = Json::array();
        for (const Mend& m : d.mends) {
            Json changes = Json::array();
            for (const KeyChange& c : m.changes)
                changes.push_back({{"table", c.table},
                                   {"index", c.index},
                                   {"key", c.key},
                                   {"value", c.value.empty() ? Json() : Json(c.value)}});
            mends.push_back({{"label", m.label}, {"asks", m.asks != Mend::Asks::nothing}, {"changes", changes}});
        }
        j["doubts"].push_back({{"what", d.text}, {"advice", d.advice}, {"mends", mends}});
    }
    j["notes"] = Json::array();
    for (const auto& n : trail.notes) j["notes"].push_back({{"time_ns", json_ns(n.time)}, {"text", n.text}});
    j["timings"] = {{"decode_s", trail.decode_seconds}};
    return j;
}

std::string summary_text(const Recording& recording, const Trail& trail) {
    std::string out = recording.title + "\n  " + duration_text(trail.end) + " recorded" +
                      (trail.complete ? "" : " (decoding was stopped early)") + "\n";
    for (const auto& s : trail.streams) {
        out += "  core " + s.core + ", itm, " + bytes_text(s.raw_bytes) + ": " + count_text(s.packets) + " packets, " +
               count_text(s.events) + " events, " +
               (s.bad_bytes == 0 ? std::string("no bad bytes") : bytes_text(s.bad_bytes) + " bad") +
               (s.lead_in == 0 ? "" : ", " + bytes_text(s.lead_in) + " before the first synchronisation") + "\n";
        for (std::size_t k = 0; k < kItmKinds; ++k)
            if (s.counts[k] > 0) {
                std::string name(itm_kind_name(static_cast<ItmKind>(k)));
                out += "    " + name + std::string(16 - std::min<std::size_t>(name.size(), 15), ' ') +
                       count_text(s.counts[k]) + "\n";
            }
    }
    out += event_streams_text(trail);
    for (const auto& t : trail.steps) out += steps_summary_text(t);
    for (const SampleTrail& s : trail.measured) {
        const Protocol protocol = recording.target.streams[s.spec].protocol;
        out += protocol == Protocol::polled
                   ? "  polled, " + bytes_text(s.bytes) + ": " + plural(s.lanes.size(), "value", "values") + ", read " +
                         plural(s.samples, "time", "times") + "\n"
               : protocol == Protocol::console
                   ? "  console, " + bytes_text(s.bytes) + ": " + bytes_text(s.samples) + " of text\n"
                   : "  " + s.name + ", samples, " + bytes_text(s.bytes) + ": " +
                         plural(s.lanes.size(), "channel", "channels") + ", " + count_text(s.samples) +
                         " samples of each\n";
    }
    const std::size_t missing = missing_instructions(trail).size();
    const bool read = std::all_of(trail.steps.begin(), trail.steps.end(),
                                  [](const StepTrail& t) { return t.bad_bytes == 0 && t.steps > 0; });
    if (trail.gaps.empty() && missing == 0 && read) out += "  whole: no gaps\n";
    for (const StepTrail& t : trail.steps)
        if (t.steps == 0) out += "  no instruction of core " + t.core + " could be followed\n";
    if (!trail.gaps.empty())
        out += "  " + plural(trail.gaps.size(), "gap", "gaps") + ", " + duration_text(trail.gaps.covered()) +
               " not known\n";
    if (missing > 0) out += "  instructions missing in " + plural(missing, "place", "places") + "\n";
    for (const LaidSignals& s : trail.beside) {
        out += "  " + plural(s.lanes, "signal", "signals") + " beside it, " + s.format + " " + s.name;
        if (s.how == LaidSignals::How::aligned)
            out += ": begins " + duration_text(Time::from_ns(std::abs(s.offset_ns))) +
                   (s.offset_ns < 0 ? " later" : " earlier") + ", clock " +
                   Value::of(std::round(s.drift_ppm * 100) / 100).text() + " ppm off, known to " +
                   duration_text(Time::from_ns(s.uncertainty_ns)) + ", " + count_text(s.matched) + " edges meet, " +
                   count_text(s.unmatched) + " do not";
        else
            out += s.how == LaidSignals::How::by_hand ? ": moved by hand" : ": not aligned";
        out += "\n";
    }
    for (const auto& n : trail.notes) out += "  marked at " + moment_text(n.time) + ": " + n.text + "\n";
    for (const auto& d : trail.doubts) out += "  doubt: " + d.text + " " + d.advice + "\n";
    return out;
}

namespace {

Json fact_json(const Fact& fact) {
    Json j{{"key", fact.key}};
    if (!fact.of.empty()) j["of"] = fact.of;
    j["value"] = std::visit(
        [&fact](const auto& v) -> Json {
            using V = std::decay_t<decltype(v)>;
            if constexpr (std::is_same_v<V, Time>)
                return json_ns(v);
            else if constexpr (std::is_same_v<V, Address>)
                return fact.text();
            else if constexpr (std::is_class_v<V> && !std::is_same_v<V, std::string>)
                return v.value;
            else
                return v;
        },
        fact.value);
    if (!fact.unit().empty()) j["unit"] = fact.unit();
    return j;
}

}  // namespace

Json findings_json(const std::vector<Finding>& findings, const Muted& muted) {
    Json all = Json::array();
    for (const auto& f : findings) {
        Json j;
        j["kind"] = finding_kind_name(f.kind);
        j["severity"] = f.severity;
        j["title"] = f.title;
        j["cause"] = f.cause;
        const auto time = [&f](Time t) { return f.timed ? json_ns(t) : Json(nullptr); };
        j["begin_ns"] = time(f.begin);
        j["end_ns"] = time(f.end);
        j["activities"] = Json::array();
        j["involved"] = Json::array();
        for (const Involved& i : f.involved) {
            j["activities"].push_back(i.name);
            j["involved"].push_back({{"role", role_name(i.role)}, {"name", i.name}});
        }
        j["core"] = f.core;
        j["alike"] = f.alike;
        if (const Mute* m = muted.find(f); m != nullptr) j["muted"] = m->reason;
        j["facts"] = Json::array();
        for (const Fact& fact : f.facts) j["facts"].push_back(fact_json(fact));
        j["evidence"] = Json::array();
        for (const auto& e : f.evidence) j["evidence"].push_back({{"time_ns", time(e.time)}, {"what", e.what}});
        all.push_back(std::move(j));
    }
    return all;
}

std::string findings_text(const std::vector<Finding>& findings, std::size_t muted) {
    const std::string more = muted == 0
                                 ? std::string()
                                 : plural(muted, "finding is muted", "findings are muted") + ": --all shows them too\n";
    if (findings.empty())
        return muted == 0 ? "Nothing unusual found.\n" : "Nothing unusual found but what is muted.\n" + more;
    constexpr std::size_t kMostPlaces = 5;
    std::string out;
    std::size_t n = 0;
    for (const FindingGroup& group : in_groups(findings)) {
        const Finding& f = findings[group.front()];
        out += std::to_string(++n) + ". " + f.title + "\n   " + f.cause + "\n   " +
               (f.timed ? "at " + moment_text(f.begin) + ", " : std::string()) + "core " + f.core +
               (f.alike > 1 ? ", the worst of " + count_text(f.alike) : std::string()) + "\n";
        if (group.size() == 1) continue;
        out += "   the same at " + plural(group.size() - 1, "other place", "other places");
        if (f.timed)
            for (std::size_t i = 1; i < group.size() && i <= kMostPlaces; ++i)
                out += (i == 1 ? ": " : ", ") + moment_text(findings[group[i]].begin);
        out += f.timed && group.size() > kMostPlaces + 1 ? ", …\n" : "\n";
    }
    return out + more;
}

}  // namespace mt
