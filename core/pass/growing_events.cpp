#include "pass/growing_events.h"

#include <algorithm>

namespace mt {
namespace {
constexpr std::uint64_t kShowsWithin = 1024;  // bytes: so far behind what was damaged its first sign is met
constexpr std::int64_t kRoundedBy = 16;       // a header's end is rounded by less than this part of its packet

// Where the events of a packet leap ahead the first time: of all steps, the first that is half as long as the longest.
std::uint64_t leap_in(const std::vector<OsEvent>& events, Time begin, Time last, std::uint64_t end) {
    Time longest, before = begin;
    for (const OsEvent& e : events) {
        longest = std::max(longest, e.time - before);
        before = e.time;
    }
    longest = std::max(longest, last - before);
    before = begin;
    for (const OsEvent& e : events) {
        if ((e.time - before).ps * 2 >= longest.ps) return e.offset;
        before = e.time;
    }
    return end;
}
}  // namespace

void PacketDecoder::decode(std::size_t index, const CtfPacket& p, const std::vector<EventSource::Damage>& damage,
                           DecodedPacket& out) {
    File& before = last_[index];
    Cpu& cpu = before.cpus[p.cpu];
    const Time begin = source_.at(p.stream_class, p.begin);
    const std::uint16_t core = source_.core_of(p);
    out.lost_events = p.has_discarded ? (p.discarded > cpu.discarded ? p.discarded - cpu.discarded : 0) : 0;
    out.lost_packets = p.has_sequence && cpu.any && p.sequence > cpu.sequence + 1 ? p.sequence - cpu.sequence - 1 : 0;
    const EventSource::Damage* bad = nullptr;  // the first since the packet before
    for (; before.damage_seen < damage.size() && damage[before.damage_seen].offset < p.offset; ++before.damage_seen) {
        const EventSource::Damage& d = damage[before.damage_seen];
        if (d.length == 0) continue;
        if (bad == nullptr) bad = &d;
        out.bad_bytes += d.length;
    }
    if (bad != nullptr)  // whose bytes they were is not known
        for (auto& [number, other] : before.cpus) other.cut_short = true;
    const bool damaged = bad != nullptr || cpu.cut_short;
    // A recording may begin with a count of what was lost before it: nothing of that concerns what follows.
    if (((out.lost_events > 0 || out.lost_packets > 0) && cpu.any) || damaged) {
        Gap g;
        g.begin = cpu.any ? cpu.reached : Time{};
        g.end = std::max(begin, g.begin);
        g.offset = bad != nullptr ? bad->offset : p.offset;
        g.length = bad != nullptr ? bad->length : 0;
        g.kind = damaged ? GapKind::damage : GapKind::overflow;
        g.stream = static_cast<std::uint32_t>(index);
        g.core = core;
        g.events = true;
        out.gaps.push_back(g);
        if (damaged) out.doubts.push_back({cpu.any && cpu.cut_short ? std::min(cpu.unsure, g.begin) : g.begin, g.end});
        OsEvent lost;
        lost.kind = OsKind::lost;
        lost.core = core;
        lost.time = g.end;
        lost.value = g.begin.ps;
        lost.offset = p.offset;
        out.block.events.push_back(lost);
        if (bad != nullptr) {
            out.trouble = bad->why;
            out.trouble_at = bad->offset;
        }
        cpu.reached = g.end;
    }
    if (!cpu.any) out.lost_events = 0;
    out.block.events.reserve(std::min<std::uint64_t>(p.bytes / 8, 1 << 16));  // an event is hardly shorter
    const char* trouble = "";
    const PacketTimes times = read_ctf_packet(source_, index, p, cursor_, cpu.reached, out.block, trouble);
    out.backwards = times.backwards;
    cpu.cut_short = *trouble != 0 || p.cut || p.content_bits / 8 > p.bytes;
    if (*trouble != 0) {
        out.trouble = trouble;
        out.trouble_at = cursor_.position();
        out.bad_bytes += p.offset + p.bytes - std::min(cursor_.position(), p.offset + p.bytes);
    }
    // Headers that say when their last event was, packet after packet, and then one that does not.
    auto& events = out.block.events;
    constexpr std::uint64_t kUsual = 8;
    const bool exact = p.has_end && !events.empty() && events.back().time == source_.at(p.stream_class, p.end);
    const bool inexact = p.has_end && !exact && cpu.exact_ends >= kUsual;
    cpu.exact_ends = exact ? cpu.exact_ends + 1 : *trouble != 0 || inexact ? cpu.exact_ends : 0;
    // Or an event is later than the packet, by more than a header is rounded: all behind it would be told too late.
    const Time said_end = p.has_end ? source_.at(p.stream_class, p.end) : begin;
    const bool beyond =
        said_end > begin && !events.empty() && events.back().time - said_end > Time{(said_end - begin).ps / kRoundedBy};
    out.begin = begin;
    out.end = std::max(begin, p.has_end ? said_end : events.empty() ? begin : events.back().time);
    out.doubtful = cpu.cut_short || out.backwards > 0 || inexact || beyond;
    // A byte that is wrong shows late: misread events look like others for a while. Where nothing but the end tells, or
    // bytes are missing anywhere in it, the whole packet is doubted.
    out.unsure = begin;
    std::uint64_t sign = p.offset;
    const bool missing = p.cut || p.content_bits / 8 > p.bytes;
    if (missing) {
        sign = p.offset;
    } else if (beyond || times.too_late) {
        sign = leap_in(events, begin, times.too_late ? *times.too_late : events.back().time, cursor_.position());
        if (out.backwards > 0) sign = std::min(sign, times.first_back);
    } else if (out.backwards > 0) {
        sign = times.first_back;
    } else if (*trouble != 0) {
        sign = cursor_.position();
    }
    for (const OsEvent& e : events)
        if (e.offset + kShowsWithin <= sign && e.offset >= p.offset) out.unsure = std::max(out.unsure, e.time);
    if (beyond) {
        for (OsEvent& e : events) e.time = std::min(e.time, said_end);
        out.unsure = std::min(out.unsure, said_end);
        cpu.reached = said_end;
        if (out.trouble.empty()) {
            out.trouble = "events are later than the end of their packet";
            out.trouble_at = sign;
        }
    }
    cpu.unsure = out.unsure;
    if (out.doubtful) out.doubts.push_back({out.unsure, out.end});
    if (p.has_end && *trouble == 0) cpu.reached = std::max(cpu.reached, source_.at(p.stream_class, p.end));
    cpu.any = true;
    if (p.has_discarded) cpu.discarded = p.discarded;
    cpu.sequence = p.sequence;
    source_.files[index].file->let_go(p.offset);
}

GrowingEvents::GrowingEvents(const Recording& recording, Trail& trail, GrowingTasks& tasks)
    : source_(*recording.events),
      trail_(trail),
      tasks_(trail.tasks),
      growing_(tasks),
      counts_(source_.files.size(), std::vector<std::uint64_t>(kOsKinds, 0)) {
    tasks_.origin_ticks = source_.zero_ticks;
    tasks_.clock_hz = source_.clock_hz;
    tasks_.vocabulary_known = source_.binding->known() > 0;
    for (const auto& file : source_.files) {
        EventStream s;
        s.file = file.path;
        if (!file.packets.empty()) s.core = trail.cores[source_.core_of(file.packets.front())].name;
        s.bytes = file.file->bytes().size();
        tasks_.streams.push_back(std::move(s));
    }
}

void GrowingEvents::put(std::size_t file, const CtfPacket& packet, std::unique_ptr<DecodedPacket> decoded) {
    EventStream& s = tasks_.streams[file];
    ++s.packets;
    s.first_event.push_back(s.events);
    for (const OsEvent& e : decoded->block.events) s.events += e.kind != OsKind::lost && !e.announced ? 1 : 0;
    s.discarded += decoded->lost_events;
    s.lost_packets += decoded->lost_packets;
    s.backwards += decoded->backwards;
    s.bad_bytes += decoded->bad_bytes;
    if (s.core.empty()) s.core = trail_.cores[source_.core_of(packet)].name;
    if (!decoded->trouble.empty() && s.damaged_packets++ == 0) {
        s.first_trouble = decoded->trouble;
        s.first_trouble_at = decoded->trouble_at;
    }
    CoreTasks& core = tasks_.cores[source_.core_of(packet)];
    core.lost_events += decoded->lost_events;
    core.lost_packets += decoded->lost_packets;
    for (const Gap& g : decoded->gaps) trail_.gaps.push_back(g);
    for (const auto& [from, to] : decoded->doubts)
        trail_.doubt(source_.core_of(packet), from, to, 2 * static_cast<std::uint32_t>(file));
    const auto [found, fresh] = way_of_.try_emplace({file, packet.cpu}, ways_.size());
    if (fresh) {
        ways_.emplace_back();
        ways_.back().file = file;
    }
    ways_[found->second].open.push_back(std::move(decoded));
    enqueue(found->second);
    growing_.settle();
}

// Gives back what has been read of a way, and notes its next event, if it has one and it is not noted already.
void GrowingEvents::enqueue(std::size_t index) {
    Way& way = ways_[index];
    if (way.queued) return;
    while (!way.open.empty() && way.open.front()->at >= way.open.front()->block.events.size()) {
        if (spent) spent(std::move(way.open.front()));
        way.open.pop_front();
    }
    if (way.open.empty()) return;
    way.queued = true;
    next_.push({way.open.front()->block.events[way.open.front()->at].time, index});
}

void GrowingEvents::take_until(Time bound) {
    while (!next_.empty() && next_.top().time < bound) {
        const std::size_t index = next_.top().way;
        next_.pop();
        Way& best = ways_[index];
        best.queued = false;
        // As long as no other processor has anything earlier.
        const Time until = next_.empty() ? bound : std::min(bound, next_.top().time);
        DecodedPacket& d = *best.open.front();
        auto& count = counts_[best.file];
        do {
            OsEvent& e = d.block.events[d.at++];
            ++count[static_cast<std::size_t>(e.kind)];
            const std::uint64_t signs = growing_.unexplained();
            bool odd = e.time < reached_;
            if (odd) {
                e.time = reached_;
                ++tasks_.streams[best.file].backwards;
            }
            reached_ = e.time;
            growing_.take(e, d.block);
            // What contradicts what came before is a sign that one of them is wrong; where that was doubted anyway, it
            // is the one before.
            odd = odd || growing_.unexplained() != signs;
            if (odd && (!d.doubtful || e.time < d.unsure)) {
                d.doubtful = true;
                d.unsure = d.begin;
                trail_.doubt(e.core, d.begin, d.end, 2 * static_cast<std::uint32_t>(best.file) + 1);
            }
        } while (d.at < d.block.events.size() && d.block.events[d.at].time < until);
        enqueue(index);
    }
}

void GrowingEvents::finish() {
    take_until(Time::max());
    for (std::size_t f = 0; f < counts_.size(); ++f) {
        EventStream& s = tasks_.streams[f];
        for (std::size_t k = 0; k < kOsKinds; ++k) {
            if (counts_[f][k] == 0 || static_cast<OsKind>(k) == OsKind::lost) continue;
            s.counts[std::string(os_kind_name(static_cast<OsKind>(k)))] = counts_[f][k];
        }
        for (const auto& d : source_.files[f].damage)
            if (s.first_trouble.empty()) {
                s.first_trouble = d.why;
                s.first_trouble_at = d.offset;
                ++s.damaged_packets;
            }
    }
}

LiveEvents::LiveEvents(const Recording& recording, Trail& trail, GrowingTasks& tasks)
    : live_(*recording.live_events),
      source_(live_),
      trail_(trail),
      lister_(*source_.metadata),
      decoder_(source_),
      events_(recording, trail, tasks) {}

std::uint64_t LiveEvents::renew(std::uint64_t size, const std::vector<std::uint64_t>& breaks, bool last,
                                const std::function<double(std::uint64_t)>& arrival) {
    std::vector<CtfPacket> packets;
    const auto bytes = source_.files[0].file->bytes();
    lister_.list(bytes.first(std::min<std::size_t>(size, bytes.size())), breaks, last, packets, damage_);
    if (!packets.empty() && source_.zero_ticks == EventSource::kNoZero) {
        live_.zero_ticks = zero_at_arrival(packets[0], source_.clock_hz, arrival(packets[0].offset + packets[0].bytes));
        trail_.tasks.origin_ticks = live_.zero_ticks;
    }
    for (const CtfPacket& p : packets) {
        auto decoded = std::make_unique<DecodedPacket>();
        decoder_.decode(0, p, damage_, *decoded);
        const auto& events = decoded->block.events;
        const Time end = p.has_end ? source_.at(p.stream_class, p.end) : events.empty() ? Time{} : events.back().time;
        Time& reached = reached_.try_emplace(p.cpu, end).first->second;
        reached = std::max(reached, end);
        events_.put(0, p, std::move(decoded));
        ends_.push_back(end);
        if (ends_.size() > kMostOpen) ends_.pop_front();
        Time bound = Time::max();
        for (const auto& [cpu, t] : reached_) bound = std::min(bound, t);
        if (ends_.size() == kMostOpen) bound = std::max(bound, ends_.front());  // one that is silent holds nobody up
        events_.take_until(bound);
    }
    return lister_.reached();
}

void LiveEvents::lose(std::uint64_t to) { lister_.skip_to(to, damage_); }

void LiveEvents::finish() { events_.finish(); }

}  // namespace mt
