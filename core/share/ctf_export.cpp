#include "share/ctf_export.h"

#include <algorithm>
#include <map>
#include <numeric>

#include "base/text.h"
#include "replay/packet_block.h"
#include "share/ctf_writer.h"
#include "target/value_type.h"

namespace mt {
namespace {

// A clock that counts every core's cycles whole, if there is one of a usable rate.
std::uint64_t common_clock(const Trail& trail) {
    if (trail.tasks.present() && trail.streams.empty() && trail.steps.empty()) return trail.tasks.clock_hz;
    std::uint64_t hz = 1;
    for (const auto& core : trail.cores) {
        hz = std::lcm(hz, std::max<std::uint64_t>(core.clock.hz, 1));
        if (hz > 400'000'000'000) return 100'000'000'000;
    }
    return hz;
}

// What one core did, event by event in the order of time.
class CoreEvents {
  public:
    CoreEvents(const Recording& recording, const Trail& trail, std::size_t core)
        : recording_(recording), trail_(trail), core_(core) {
        if (recording.events)
            for (std::size_t f = 0; f < recording.events->files.size(); ++f)
                for (std::size_t p = 0; p < recording.events->files[f].packets.size(); ++p)
                    if (recording.events->core_of(recording.events->files[f].packets[p]) == core)
                        packets_.emplace_back(f, p);
        own_events_ = !packets_.empty();
        for (std::size_t s = 0; s < recording.streams.size(); ++s)
            if (recording.streams[s].core == core) stream_ = s;
        for (const WatchSpec& w : recording.target.watches) {
            const ValueType type = ValueType::named(w.type).value_or(ValueType{}).with(w.mask, w.shift);
            const std::string name = !w.symbol.empty() ? w.symbol
                                     : w.address       ? hex_text(*w.address)
                                                       : "comparator " + std::to_string(w.comparator);
            values_[w.comparator] = {type, name + (type.read(0).is_real() ? " in millionths" : "")};
        }
    }
    bool own_events() const { return own_events_; }

    /// Names and, for a core without events of its own, the moment zero.
    void begin(CtfWriter& writer) const {
        if (own_events_) return;
        const CoreTrail& core = trail_.cores[core_];
        OsEvent e;
        e.core = static_cast<std::uint16_t>(core_);
        e.kind = OsKind::object_name;
        e.value = text_and_priority(0, 0);
        OsBlock texts;
        for (const auto& lane : core.lanes) {
            texts.texts = {lane.name()};
            e.code = static_cast<std::uint8_t>(ObjectKind::interrupt);
            e.subject = lane.id().wire();
            writer.write(e, 0, texts);
        }
        if (stream_) {
            e.code = static_cast<std::uint8_t>(ObjectKind::signal);
            for (const auto& [comparator, form] : values_) {
                e.subject = comparator;
                texts.texts = {form.second};
                writer.write(e, 0, texts);
            }
            e.code = static_cast<std::uint8_t>(ObjectKind::marker_port);
            for (const PortSpec& p : recording_.target.ports) {
                if (p.name.empty()) continue;
                e.subject = kFirstPort + p.number;
                texts.texts = {p.name};
                writer.write(e, 0, texts);
            }
        }
        e.kind = OsKind::marker;
        e.subject = 5;  // the recorder starts
        e.value = 1;
        writer.write(e, 0, texts);
    }

    /// Takes the events of its streams in turn; `take` gets each with its time.
    template <class Take>
    bool run(Progress& progress, Take take) {
        std::size_t change = 0, packet = 0, block = 0, at = 0;
        std::vector<TimedPacket> port;
        OsBlock events;
        std::size_t next = 0;
        std::vector<std::uint16_t> nest;
        Time reached{};
        const OsBlock none;
        const CoreTrail& core = trail_.cores[core_];
        CtfCursor cursor(recording_.events ? *recording_.events->metadata : empty_);
        for (;;) {
            if (progress.cancelled()) return false;
            while (next >= events.events.size() && packet < packets_.size()) {
                events.clear();
                next = 0;
                const auto [f, p] = packets_[packet++];
                const char* trouble = "";
                const CtfPacket& in = recording_.events->files[f].packets[p];
                (void)read_ctf_packet(*recording_.events, f, in, cursor, reached, events, trouble);
                std::erase_if(events.events, [](const OsEvent& e) { return e.announced; });
            }
            while (stream_ && at >= port.size() && block < trail_.streams[*stream_].checkpoints.size()) {
                port = decode_block(recording_, trail_, *stream_, block++).packets;
                std::erase_if(port, [](const TimedPacket& x) {
                    return x.packet.kind != ItmKind::port && x.packet.kind != ItmKind::data_write;
                });
                at = 0;
            }
            const Time of_event = next < events.events.size() ? events.events[next].time : Time::max();
            const Time of_port = at < port.size() ? port[at].latest : Time::max();
            const bool lanes = !own_events_ && change < core.change_time.size();
            const Time of_change = lanes ? core.change_time[change] : Time::max();
            if (of_event == Time::max() && of_port == Time::max() && !lanes) return true;
            if (of_change <= of_event && of_change <= of_port && lanes) {
                follow(core.change_running[change], of_change, nest, take, none);
                ++change;
            } else if (of_event <= of_port) {
                take(events.events[next], of_event, events);
                ++next;
            } else {
                OsEvent e;
                e.core = static_cast<std::uint16_t>(core_);
                const ItmPacket& p = port[at].packet;
                e.kind = p.kind == ItmKind::port ? OsKind::marker : OsKind::signal;
                e.subject = p.kind == ItmKind::port ? kFirstPort + p.number : p.number;
                e.value = static_cast<std::int64_t>(p.value);
                if (const PortSpec* spec = recording_.target.port(p.number); spec != nullptr && p.kind == ItmKind::port)
                    e.value = whole(ValueType::named(spec->type).value_or(ValueType{}).read(p.value));
                else if (const auto found = values_.find(p.number);
                         found != values_.end() && p.kind == ItmKind::data_write)
                    e.value = whole(found->second.first.read(p.value));
                take(e, of_port, none);
                ++at;
            }
        }
    }

  private:
    // Events hold whole numbers: of others millionths.
    static std::int64_t whole(const Value& v) {
        if (!v.is_real()) return static_cast<std::int64_t>(v.bits);
        return std::isfinite(v.number()) ? std::llround(std::clamp(v.number() * 1e6, -9e18, 9e18)) : 0;
    }
    template <class Take>
    void follow(std::uint16_t running, Time t, std::vector<std::uint16_t>& nest, Take& take, const OsBlock& none) {
        const auto say = [&](OsKind kind, std::uint16_t number) {
            OsEvent e;
            e.core = static_cast<std::uint16_t>(core_);
            e.kind = kind;
            e.subject = ExceptionId::of(number).wire();
            take(e, t, none);
        };
        const auto leave = [&] {
            say(OsKind::isr_exit, nest.back());
            nest.pop_back();
        };
        if (running == ContextChange::kUnknown) {
            nest.clear();
            OsEvent e;
            e.core = static_cast<std::uint16_t>(core_);
            e.kind = OsKind::lost;
            take(e, t, none);
        } else if (running == ContextChange::kBetween) {
            if (!nest.empty()) leave();
        } else if (running == 0) {
            while (!nest.empty()) leave();
        } else if (std::find(nest.begin(), nest.end(), running) != nest.end()) {
            while (nest.back() != running) leave();
        } else {
            nest.push_back(running);
            say(OsKind::isr_enter, running);
        }
    }

    const Recording& recording_;
    const Trail& trail_;
    std::size_t core_;
    bool own_events_ = false;
    std::optional<std::size_t> stream_;
    static constexpr std::uint32_t kFirstPort = 100;  ///< ports of the trace hardware stand clear of the vocabulary's
    std::map<unsigned, std::pair<ValueType, std::string>> values_;  ///< by comparator: how to read it, and its name
    std::vector<std::pair<std::size_t, std::size_t>> packets_;
    CtfMetadata empty_;
};

// Begins and ends of all calls of a core, in the order of time, those that begin outside first.
struct CallEdges {
    struct Edge {
        Time time;
        std::uint32_t function;
        std::uint16_t level;
        bool enter;
    };
    std::vector<Edge> edges;
    explicit CallEdges(const StepTrail& steps) {
        for (std::size_t level = 0; level < steps.levels.size(); ++level)
            for (std::size_t i = 0; i < steps.levels[level].size(); ++i) {
                const CallSpan& s = steps.levels[level][i];
                const auto function = static_cast<std::uint32_t>(s.function);
                edges.push_back({s.begin, function, static_cast<std::uint16_t>(level), true});
                edges.push_back({s.end(), function, static_cast<std::uint16_t>(level), false});
            }
        std::stable_sort(edges.begin(), edges.end(), [](const Edge& a, const Edge& b) {
            if (a.time != b.time) return a.time < b.time;
            if (a.enter != b.enter) return !a.enter;  // what ends here ends before the next begins
            return a.enter ? a.level < b.level : a.level > b.level;
        });
    }
};

}  // namespace

Result<void> export_ctf(const Recording& recording, const Trail& trail, const std::string& folder, bool calls,
                        Progress& progress) {
    const Clock clock{common_clock(trail)};
    const bool only_events = trail.tasks.present() && trail.streams.empty() && trail.steps.empty();
    const std::int64_t origin = only_events ? trail.tasks.origin_ticks : 0;
    auto writer = CtfWriter::create(folder, {recording.title, clock.hz, static_cast<unsigned>(trail.cores.size())});
    if (!writer) return tl::make_unexpected(writer.error());
    for (std::size_t c = 0; c < trail.cores.size(); ++c) {
        CoreEvents core(recording, trail, c);
        core.begin(**writer);
        std::vector<CallEdges::Edge> edges;
        const StepTrail* steps = nullptr;
        if (calls)
            for (const auto& s : trail.steps)
                if (s.core_index == c) {
                    steps = &s;
                    edges = CallEdges(s).edges;
                }
        std::size_t edge = 0;
        const auto call_until = [&](Time t) {
            for (; edge < edges.size() && edges[edge].time <= t; ++edge)
                (*writer)->write_call(static_cast<unsigned>(c), origin + clock.cycles(edges[edge].time),
                                      edges[edge].enter, edges[edge].function,
                                      (*steps->functions)[edges[edge].function].name);
        };
        std::size_t gap = 0;
        const bool done = core.run(progress, [&](const OsEvent& e, Time t, const OsBlock& texts) {
            call_until(t);
            // What was lost before this event is lost in the new trace too.
            while (core.own_events() && gap < trail.gaps.size() &&
                   (!trail.gaps[gap].events || trail.gaps[gap].core != c))
                ++gap;
            if (core.own_events() && gap < trail.gaps.size() && trail.gaps[gap].end <= t) {
                (*writer)->lost(static_cast<unsigned>(c), 1);
                ++gap;
            }
            if (e.kind == OsKind::lost)
                (*writer)->lost(static_cast<unsigned>(c), 1);
            else
                (*writer)->write(e, origin + clock.cycles(t), texts);
        });
        if (!done) return failure("the export was stopped", folder, "the folder is not whole; remove it");
        call_until(Time::max());
        progress.report(c + 1, trail.cores.size());
    }
    return (*writer)->finish();
}

}  // namespace mt
