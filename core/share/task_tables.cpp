#include "share/task_tables.h"

#include <algorithm>
#include <cinttypes>
#include <ostream>

#include "base/text.h"
#include "share/tables.h"

namespace mt {
namespace {

using Json = nlohmann::ordered_json;

std::string ns_or_nothing(const std::optional<Time>& t) { return t ? ns_text(*t) : std::string(); }

std::string padded(const std::string& s, std::size_t n) {
    std::size_t shown = 0;
    for (const char c : s) shown += (static_cast<unsigned char>(c) & 0xC0) != 0x80 ? 1 : 0;
    return (shown < n ? std::string(n - shown, ' ') : std::string(" ")) + s;
}
std::string named(const std::string& s, std::size_t n) {
    return s.size() >= n ? s.substr(0, n) : s + std::string(n - s.size(), ' ');
}
std::string cell(const std::optional<Time>& t) { return t ? duration_text(*t) : std::string("-"); }

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

void add_lengths(Json& j, const std::string& prefix, const Figures& f, bool spread) {
    j[prefix + "min"] = json_ns(f.least);
    j[prefix + "mean"] = json_ns(f.mean);
    j[prefix + "max"] = json_ns(f.greatest);
    if (!spread) return;
    j[prefix + "stddev"] = json_ns(f.deviation);
    j[prefix + "p95"] = json_ns(f.p95);
    j[prefix + "p99"] = json_ns(f.p99);
}

Json figures_json(const Figures& f) {
    Json j;
    j["count"] = f.count;
    add_lengths(j, "", f, true);
    return j;
}

void csv_row(std::ostream& out, const std::string& name, std::uint64_t number, std::uint64_t count,
             std::uint64_t left_out, const std::string& total, const std::string& own, const Figures& main,
             const Figures& period, const Figures& response, const std::string& share) {
    out << csv_field(name) << ',' << number << ',' << count << ',' << left_out << ',' << total << ',' << own;
    for (const auto& t : {main.least, main.mean, main.greatest, main.deviation, main.p95, main.p99, period.least,
                          period.mean, period.greatest, response.least, response.mean, response.greatest})
        out << ',' << ns_or_nothing(t);
    out << ',' << share << '\n';
}

// Periods between the marks of a lane, none across a gap.
Figures mark_periods(const Trail& trail, const MarkLane& lane) {
    std::vector<Time> periods;
    for (std::size_t i = 1; i < lane.marks.size(); ++i)
        if (!trail.gaps.touch(lane.marks[i - 1].time, lane.marks[i].time))
            periods.push_back(lane.marks[i].time - lane.marks[i - 1].time);
    return figures_of(std::move(periods));
}

}  // namespace

void write_tasks_csv(const std::vector<TaskRow>& rows, std::ostream& out) {
    out << kStatsHeading;
    for (const auto& r : rows)
        csv_row(out, r.name, r.id, r.run.count, r.left_out, ns_text(r.cpu), ns_text(r.cpu), r.run, r.period, r.response,
                share_field(r.share));
}

Json tasks_json(const std::vector<TaskRow>& rows) {
    Json all = Json::array();
    for (const auto& r : rows) {
        Json j;
        j["name"] = r.name;
        j["number"] = r.id;
        j["core"] = r.core_name;
        j["priority"] = r.priority_known ? Json(r.priority) : Json();
        j["idle"] = r.idle;
        j["count"] = r.run.count;
        j["left_out"] = r.left_out;
        j["open"] = r.open;
        j["total"] = json_ns(r.cpu);
        j["own"] = json_ns(r.cpu);
        add_lengths(j, "", r.run, true);
        add_lengths(j, "period_", r.period, false);
        add_lengths(j, "response_", r.response, false);
        j["response"] = figures_json(r.response);
        j["start_latency"] = figures_json(r.latency);
        j["start_period"] = figures_json(r.start_period);
        j["preemptions"] = r.preemptions;
        j["share"] = r.share;
        all.push_back(std::move(j));
    }
    return all;
}

std::string tasks_text(const std::vector<TaskRow>& rows) {
    std::string out =
        "  no  name                     prio      jobs  left out   run mean   run most  response mean  response most   "
        "   "
        "share\n";
    for (const auto& r : rows)
        out += padded(std::to_string(r.id), 4) + "  " + named(r.name, 24) +
               padded(r.idle             ? "idle"
                      : r.priority_known ? std::to_string(r.priority)
                                         : "-",
                      5) +
               padded(count_text(r.run.count), 10) + padded(count_text(r.left_out), 10) + padded(cell(r.run.mean), 11) +
               padded(cell(r.run.greatest), 11) + padded(cell(r.response.mean), 15) +
               padded(cell(r.response.greatest), 15) + padded(share_text(r.share), 11) + "\n";
    return out;
}

void write_locks_csv(const std::vector<LockRow>& rows, std::ostream& out) {
    out << kStatsHeading;
    for (const auto& r : rows)
        csv_row(out, r.name, r.id, r.hold.count, r.left_out, ns_text(r.hold.sum), ns_text(r.hold.sum), r.hold, {},
                r.wait, share_field(r.share));
}

Json locks_json(const Trail& trail, const std::vector<LockRow>& rows) {
    Json all = Json::array();
    for (const auto& r : rows) {
        Json j;
        j["name"] = r.name;
        j["number"] = r.id;
        j["count"] = r.hold.count;
        j["left_out"] = r.left_out;
        j["total"] = json_ns(r.hold.sum);
        j["own"] = json_ns(r.hold.sum);
        add_lengths(j, "", r.hold, true);
        add_lengths(j, "response_", r.wait, false);
        j["wait"] = figures_json(r.wait);
        j["contention"] = r.contention;
        j["never_granted"] = r.never_got;
        j["share"] = r.share;
        const LockLane& lane = trail.tasks.locks[r.lock];
        std::optional<LockWait> longest;
        for (std::size_t i = 0; i < lane.waits.size(); ++i)
            if (lane.waits[i].whole() &&
                (!longest || lane.waits[i].end - lane.waits[i].begin > longest->end - longest->begin))
                longest = lane.waits[i];
        if (longest)
            j["longest_wait"] = {{"task", trail.tasks.task_name(longest->task)},
                                 {"holder", trail.tasks.task_name(longest->holder)},
                                 {"begin_ns", json_ns(longest->begin)},
                                 {"end_ns", json_ns(longest->end)}};
        else
            j["longest_wait"] = nullptr;
        all.push_back(std::move(j));
    }
    return all;
}

std::string locks_text(const std::vector<LockRow>& rows) {
    std::string out =
        "  no  name                         held  left out  held mean  held most   waits  wait mean  wait most      "
        "share\n";
    for (const auto& r : rows)
        out += padded(std::to_string(r.id), 4) + "  " + named(r.name, 24) + padded(count_text(r.hold.count), 9) +
               padded(count_text(r.left_out), 10) + padded(cell(r.hold.mean), 11) + padded(cell(r.hold.greatest), 11) +
               padded(count_text(r.contention), 8) + padded(cell(r.wait.mean), 11) + padded(cell(r.wait.greatest), 11) +
               padded(share_text(r.share), 11) + "\n";
    return out;
}

void write_queues_csv(const std::vector<QueueRow>& rows, std::ostream& out) {
    out << "name,number,sent,received,refused,fill_max,stay_min,stay_mean,stay_max,stay_p99\n";
    for (const auto& r : rows) {
        out << csv_field(r.name) << ',' << r.id << ',' << r.sent << ',' << r.received << ',' << r.failed << ','
            << r.peak;
        for (const auto& t : {r.stay.least, r.stay.mean, r.stay.greatest, r.stay.p99}) out << ',' << ns_or_nothing(t);
        out << '\n';
    }
}

void write_states_csv(const std::vector<StateRow>& rows, std::ostream& out) {
    out << kStatsHeading;
    for (const auto& r : rows) {
        const std::string total = ns_text(r.stay.sum);
        csv_row(out, r.lane_name + ": " + r.name, static_cast<std::uint64_t>(r.value), r.stay.count, r.left_out, total,
                total, r.stay, r.period, {}, share_field(r.share));
    }
}
Json states_json(const std::vector<StateRow>& rows) {
    Json all = Json::array();
    for (const auto& r : rows)
        all.push_back({{"of", r.lane_name},
                       {"name", r.name},
                       {"value", r.value},
                       {"core", r.core_name},
                       {"count", r.stay.count},
                       {"left_out", r.left_out},
                       {"total", json_ns(r.stay.sum)},
                       {"min", json_ns(r.stay.least)},
                       {"mean", json_ns(r.stay.mean)},
                       {"max", json_ns(r.stay.greatest)},
                       {"p99", json_ns(r.stay.p99)},
                       {"period_min", json_ns(r.period.least)},
                       {"period_mean", json_ns(r.period.mean)},
                       {"period_max", json_ns(r.period.greatest)},
                       {"share", r.share}});
    return all;
}
std::string states_text(const std::vector<StateRow>& rows) {
    std::string out =
        "name                    of                       count  left out       least        mean        most  period "
        "mean      share\n";
    for (const auto& r : rows)
        out += named(r.name, 22) + "  " + named(r.lane_name, 20) + padded(count_text(r.stay.count), 10) +
               padded(count_text(r.left_out), 10) + padded(cell(r.stay.least), 12) + padded(cell(r.stay.mean), 12) +
               padded(cell(r.stay.greatest), 12) + padded(cell(r.period.mean), 13) + padded(share_text(r.share), 11) +
               "\n";
    return out;
}

void write_marks_csv(const Trail& trail, std::ostream& out) {
    out << kStatsHeading;
    for (const auto& m : trail.tasks.marks)
        csv_row(out, m.name, own_number(m.id), m.marks.size(), 0, "", "", {}, mark_periods(trail, m), {}, "");
}
Json marks_json(const Trail& trail) {
    Json all = Json::array();
    for (const auto& m : trail.tasks.marks) {
        const Figures p = mark_periods(trail, m);
        all.push_back({{"name", m.name},
                       {"number", own_number(m.id)},
                       {"count", m.marks.size()},
                       {"period_min", json_ns(p.least)},
                       {"period_mean", json_ns(p.mean)},
                       {"period_max", json_ns(p.greatest)}});
    }
    return all;
}
std::string marks_text(const Trail& trail) {
    std::string out = "  no  name                        count  period least   period mean    period most\n";
    for (const auto& m : trail.tasks.marks) {
        const Figures p = mark_periods(trail, m);
        out += padded(std::to_string(own_number(m.id)), 4) + "  " + named(m.name, 24) +
               padded(count_text(m.marks.size()), 9) + padded(cell(p.least), 14) + padded(cell(p.mean), 14) +
               padded(cell(p.greatest), 15) + "\n";
    }
    return out;
}

bool write_task_instances_csv(const Trail& trail, const std::string& of, std::ostream& out) {
    for (const auto& t : trail.tasks.tasks) {
        if (t.name != of) continue;
        out << "index,ready_ns,start_ns,end_ns,run_ns,response_ns,preemptions,core,left_out\n";
        for (std::size_t i = 0; i < t.jobs.size(); ++i) {
            const TaskJob& j = t.jobs[i];
            const bool started = (j.flags & TaskJob::kStarted) != 0;
            out << i << ',' << ns_text(j.ready) << ',' << (started ? ns_text(j.start) : std::string()) << ','
                << ns_text(j.end) << ',' << ns_text(j.run) << ',' << ns_text(j.response()) << ',' << j.preemptions
                << ',' << csv_field(j.core < trail.cores.size() ? trail.cores[j.core].name : std::string()) << ','
                << ((j.flags & TaskJob::kOpen) != 0        ? "not ended"
                    : (j.flags & TaskJob::kUncertain) != 0 ? "begin may be lost"
                                                           : "")
                << '\n';
        }
        return true;
    }
    for (const auto& l : trail.tasks.locks) {
        if (l.name != of) continue;
        out << "index,begin_ns,end_ns,duration_ns,task,left_out\n";
        for (std::size_t i = 0; i < l.holds.size(); ++i)
            out << i << ',' << ns_text(l.holds[i].begin) << ',' << ns_text(l.holds[i].end) << ','
                << ns_text(l.holds[i].end - l.holds[i].begin) << ','
                << csv_field(trail.tasks.task_name(l.holds[i].task)) << ','
                << (l.holds[i].flags != 0 ? "end not seen" : "") << '\n';
        return true;
    }
    return false;
}

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
