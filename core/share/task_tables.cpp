#include "share/task_tables.h"

#include <algorithm>
#include <cinttypes>
#include <ostream>

#include "base/text.h"
#include "share/tables.h"

namespace mt {
namespace {

using Json = nlohmann::ordered_json;

std::string named(const std::string& s, std::size_t n) {
    return s.size() >= n ? s.substr(0, n) : s + std::string(n - s.size(), ' ');
}

// What the vocabulary says about one event, for `events --csv`.
void describe(const TaskTrail& tasks, const OsEvent& e, const OsBlock& block, TraceEventText& out) {
    const auto task = [&](std::uint32_t id) {
        for (const auto& t : tasks.tasks)
            if (t.id == id) return t.name;
        return "task " + std::to_string(id);
    };
    const auto of_object = [&] {
        out.name = tasks.object_name(e.subject);
        out.number = std::to_string(e.subject);
    };
    switch (e.kind) {
        case OsKind::task_create:
            out.name = block.texts[text_of(e.value)];
            out.number = std::to_string(e.subject);
            if (priority_of(e.value) != kNoPriority) out.value = std::to_string(priority_of(e.value));
            break;
        case OsKind::object_name:
            out.name = block.texts[text_of(e.value)];
            out.number = std::to_string(e.subject);
            out.value = object_kind_name(static_cast<ObjectKind>(e.code));
            break;
        case OsKind::task_switch_in:
        case OsKind::task_ready:
            out.name = task(e.subject);
            out.number = std::to_string(e.subject);
            break;
        case OsKind::task_block:
            out.name = task(e.subject);
            out.number = std::to_string(e.subject);
            out.value = block_reason_name(static_cast<BlockReason>(e.code));
            if (e.value != 0) out.value += " " + tasks.object_name(static_cast<std::uint32_t>(e.value));
            break;
        case OsKind::task_priority:
            out.name = task(e.subject);
            out.number = std::to_string(e.subject);
            out.value = std::to_string(e.value);
            break;
        case OsKind::isr_enter:
        case OsKind::isr_exit: {
            const auto found = tasks.interrupt_names.find(e.subject);
            out.name = found != tasks.interrupt_names.end() ? found->second : "interrupt " + std::to_string(e.subject);
            out.number = std::to_string(e.subject);
            break;
        }
        case OsKind::queue_send:
        case OsKind::queue_receive:
        case OsKind::queue_send_failed:
            of_object();
            out.value = std::to_string(e.value);
            break;
        case OsKind::mutex_take:
        case OsKind::mutex_take_blocked:
        case OsKind::mutex_give:
        case OsKind::sem_give:
        case OsKind::sem_take:
            of_object();
            break;
        case OsKind::marker:
            for (const auto& m : tasks.marks)
                if (!m.foreign && m.id == e.subject) out.name = m.name;
            out.number = std::to_string(e.subject);
            out.value = std::to_string(e.value);
            break;
        case OsKind::signal:
            for (const auto& v : tasks.values)
                if (v.id == e.subject) out.name = v.name;
            out.number = std::to_string(e.subject);
            out.value = std::to_string(e.value);
            break;
        case OsKind::fault: {
            const OsFault& f = block.faults[static_cast<std::size_t>(e.value)];
            out.name = f.kind;
            out.number = hex_text(f.pc);
            out.value = hex_text(f.address);
            break;
        }
        default:
            out.value = std::to_string(e.value);
    }
}

}  // namespace

std::vector<TraceEventText> trace_events_of_packet(const Recording& recording, const Trail& trail, std::size_t stream,
                                                   std::size_t packet) {
    const EventSource& source = *recording.events;
    std::vector<TraceEventText> rows;
    if (stream >= source.files.size() || packet >= source.files[stream].packets.size()) return rows;
    const CtfPacket& p = source.files[stream].packets[packet];
    CtfCursor cursor(*source.metadata);
    cursor.open(source.files[stream].file->bytes(), p);
    OsBlock block;
    Time reached{std::numeric_limits<std::int64_t>::min()};
    for (;;) {
        CtfText text;
        if (!cursor.next(text) || p.too_late(cursor.ticks())) break;
        TraceEventText row;
        row.time = reached = std::max(reached, source.at(p.stream_class, cursor.ticks()));
        row.offset = cursor.event_offset();
        row.stream = stream;
        row.core = source.core_of(p);
        row.kind = source.metadata->events[cursor.event_class()].name;
        row.detail = std::move(text.out);
        block.clear();
        source.binding->take(cursor, row.time, row.core, block);
        if (!block.events.empty()) describe(trail.tasks, block.events.back(), block, row);
        rows.push_back(std::move(row));
    }
    return rows;
}

TraceEvents::TraceEvents(const Recording& recording, const Trail& trail, std::optional<Time> from,
                         std::optional<Time> to)
    : recording_(recording), trail_(trail), from_(from), to_(to) {
    if (recording.events) walks_.resize(recording.events->files.size());
    for (std::size_t f = 0; f < walks_.size(); ++f) walks_[f].file = f;
}

// One packet of each stream at a time, the earliest event first.
bool TraceEvents::fill(Walk& w) {
    const EventSource& source = *recording_.events;
    const auto& file = source.files[w.file];
    while (w.at >= w.rows.size() && w.packet < file.packets.size()) {
        const std::size_t index = w.packet++;
        const CtfPacket& p = file.packets[index];
        w.rows.clear();
        w.at = 0;
        if (from_ && p.has_end && source.at(p.stream_class, p.end) < *from_) continue;
        if (to_ && p.has_begin && *to_ < source.at(p.stream_class, p.begin)) continue;
        w.rows = trace_events_of_packet(recording_, trail_, w.file, index);
        for (auto& row : w.rows) row.time = w.reached = std::max(w.reached, row.time);
        std::erase_if(w.rows,
                      [&](const TraceEventText& e) { return (from_ && e.time < *from_) || (to_ && *to_ < e.time); });
    }
    return w.at < w.rows.size();
}

const TraceEventText* TraceEvents::next() {
    Walk* first = nullptr;
    for (auto& w : walks_)
        if (fill(w) && (first == nullptr || w.rows[w.at].time < first->rows[first->at].time)) first = &w;
    return first == nullptr ? nullptr : &first->rows[first->at];
}

void TraceEvents::pass() {
    const TraceEventText* at = next();
    for (auto& w : walks_)
        if (at != nullptr && w.at < w.rows.size() && &w.rows[w.at] == at) {
            ++w.at;
            return;
        }
}

void each_trace_event(const Recording& recording, const Trail& trail, std::optional<Time> from, std::optional<Time> to,
                      const std::function<bool(const TraceEventText&)>& take) {
    TraceEvents events(recording, trail, from, to);
    for (const TraceEventText* e = events.next(); e != nullptr && take(*e); e = events.next()) events.pass();
}

Json event_streams_json(const Recording& recording, const Trail& trail) {
    Json all = Json::array();
    for (const auto& s : trail.tasks.streams) {
        Json t;
        t["file"] = s.file;
        t["core"] = s.core;
        t["protocol"] = "ctf";
        t["version"] = recording.events->metadata->major == 1 ? "1.8" : "2.0";
        t["raw_bytes"] = s.bytes;
        t["bad_bytes"] = s.bad_bytes;
        t["trace_packets"] = s.packets;
        t["lost_packets"] = s.lost_packets;
        t["discarded_events"] = s.discarded;
        t["events"] = s.events;
        t["packets"] = s.counts;
        all.push_back(std::move(t));
    }
    return all;
}

std::string event_streams_text(const Trail& trail) {
    std::string out;
    for (const auto& s : trail.tasks.streams) {
        out += "  core " + s.core + ", ctf, " + bytes_text(s.bytes) + ": " + plural(s.packets, "packet", "packets") +
               ", " + count_text(s.events) + " events, " +
               (s.bad_bytes == 0 ? std::string("no bad bytes") : bytes_text(s.bad_bytes) + " bad") +
               (s.discarded + s.lost_packets == 0 ? std::string()
                                                  : ", " + plural(s.discarded, "event", "events") + " and " +
                                                        plural(s.lost_packets, "packet", "packets") + " lost") +
               "\n";
        for (const auto& [name, count] : s.counts) out += "    " + named(name, 19) + " " + count_text(count) + "\n";
    }
    return out;
}

}  // namespace mt
