#include "trail/reading.h"

#include <algorithm>
#include <chrono>
#include <cmath>

#include "base/text.h"

namespace mt {
namespace {

using Bytes = std::span<const std::uint8_t>;

constexpr std::size_t kPieceBytes = 4 * 1024;

bool has_sync(Bytes bytes) {
    constexpr std::array<std::uint8_t, 6> mark = {0, 0, 0, 0, 0, 0x80};
    return std::search(bytes.begin(), bytes.end(), mark.begin(), mark.end()) != bytes.end();
}

std::string ids_text(const TpiuCounts& counts) {
    std::string all;
    for (std::size_t id = 1; id <= 111; ++id)
        if (counts.bytes_of_id[id] > 0)
            all += (all.empty() ? "" : ", ") + std::to_string(id) + " (" + bytes_text(counts.bytes_of_id[id]) + ")";
    return all;
}

// How a stream is to be started: settled by a look at the bytes before the pass.
struct StartPlan {
    std::optional<TpiuDeframer> deframer;
    ItmDecoder::Start start = ItmDecoder::Start::at_sync;
};

// The first unframed bytes of the source, at most `most`; stops early once a synchronisation is in them.
std::vector<std::uint8_t> unframed_start(Bytes raw, TpiuDeframer deframer, TpiuCounts& counts) {
    std::vector<std::uint8_t> out;
    std::vector<TpiuDeframer::Break> breaks;
    constexpr std::size_t step = 1 << 20;
    for (std::size_t at = 0; at < raw.size(); at += step) {
        if (out.size() > 64) out.erase(out.begin(), out.end() - 64);
        deframer.feed(raw.subspan(at, std::min(step, raw.size() - at)), out, breaks);
        if (has_sync(out)) break;
    }
    counts = deframer.counts();
    return out;
}

Result<StartPlan> plan_start(const StreamSpec& spec, Bytes raw) {
    StartPlan plan;
    std::vector<std::uint8_t> unframed;
    Bytes start = raw;
    const std::string file = spec.file;
    if (spec.framing == Framing::tpiu) {
        const bool marked = tpiu_has_full_sync(raw);
        TpiuCounts counts;
        unframed = unframed_start(raw, TpiuDeframer(spec.trace_id, !marked), counts);
        if (counts.bytes_of_id[spec.trace_id] == 0) {
            const std::string ids = ids_text(counts);
            if (!marked || ids.empty())
                return failure("no formatter frames found in the stream", file,
                               "check that framing = \"tpiu\" is right; for a bare stream it is \"none\"");
            return failure("trace ID " + std::to_string(spec.trace_id) + " is not in the stream", file,
                           "set trace_id to one that is: " + ids);
        }
        plan.deframer = TpiuDeframer(spec.trace_id, !marked);
        start = unframed;
    }
    if (has_sync(start)) return plan;
    // No synchronisation anywhere: believable only if the bytes decode without trouble from the first on.
    plan.start = ItmDecoder::Start::at_once;
    ItmDecoder trial(plan.start);
    std::vector<ItmPacket> packets;
    trial.feed(start.first(std::min<std::size_t>(start.size(), 64 * 1024)), packets);
    const auto bad =
        std::count_if(packets.begin(), packets.end(), [](const ItmPacket& p) { return p.kind == ItmKind::damage; });
    if (packets.empty() || static_cast<double>(bad) > 0.02 * static_cast<double>(packets.size())) {
        const std::string advice =
            spec.framing == Framing::none && tpiu_has_full_sync(raw)
                ? "it holds formatter synchronisations: set framing = \"tpiu\" and a trace_id"
                : "check protocol and framing in the target file, and the bit rate of the recording";
        return failure("the bytes are no ITM stream (no synchronisation, and " + std::to_string(bad) +
                           " of the first " + std::to_string(packets.size()) + " packets are impossible)",
                       file, advice);
    }
    return plan;
}

// Takes the timed packets of one stream into the trail.
class StreamPass {
  public:
    StreamPass(const Recording& recording, Trail& trail, std::size_t stream)
        : recording_(recording), trail_(trail), stream_(stream), core_(recording.streams[stream].core) {
        lane_of_.fill(-1);
    }

    void take(const std::vector<TimedPacket>& packets);
    void finish();

  private:
    void gap(const TimedPacket& p);
    void check_sample(const TimedPacket& p);
    void take_nest();

    const Recording& recording_;
    Trail& trail_;
    std::size_t stream_, core_;
    ExceptionNest nest_;
    std::array<int, 512> lane_of_;  ///< exception number to lane, -1 before it was seen
    Time last_{};
};

void StreamPass::gap(const TimedPacket& p) {
    Gap g;
    g.begin = p.earliest;
    g.end = p.latest;
    g.offset = p.packet.offset;
    g.length = p.packet.length;
    g.kind = p.packet.kind == ItmKind::overflow ? GapKind::overflow : GapKind::damage;
    g.reason = p.packet.number;
    g.stream = static_cast<std::uint32_t>(stream_);
    trail_.gaps.push_back(g);
    nest_.lose(std::max(p.earliest, last_), p.latest);
    if (g.kind == GapKind::damage) trail_.streams[stream_].bad_bytes += g.length;
}

void StreamPass::check_sample(const TimedPacket& p) {
    const Image* image = recording_.images[core_].get();
    if (image == nullptr || image->is_code(p.packet.value)) return;
    StreamTrail& s = trail_.streams[stream_];
    if (s.samples_outside++ != 0) return;
    s.first_outside = p.packet.value;
    s.first_outside_at = p.latest;
}

void StreamPass::take_nest() {
    CoreTrail& core = trail_.cores[core_];
    for (const auto& x : nest_.closed()) {
        int& index = lane_of_[x.number & 0x1FF];
        if (index < 0) {
            index = static_cast<int>(core.lanes.size());
            core.lanes.emplace_back(x.number, recording_.exception_name(core_, x.number));
        }
        core.lanes[static_cast<std::size_t>(index)].append(x);
    }
    for (const auto& c : nest_.changes()) {
        Time t = c.time, in_handlers{};
        if (!core.change_time.empty()) {
            t = std::max(t, core.change_time.back());
            const std::uint16_t before = core.change_running.back();
            in_handlers = core.handler_before.back();
            if (before != 0 && before != ContextChange::kUnknown) in_handlers += t - core.change_time.back();
        }
        core.change_time.push_back(t);
        core.change_running.push_back(c.running);
        core.change_depth.push_back(c.depth);
        core.handler_before.push_back(in_handlers);
        core.thread_seen = core.thread_seen || c.running == 0;
    }
    nest_.clear();
}

void StreamPass::take(const std::vector<TimedPacket>& packets) {
    StreamTrail& s = trail_.streams[stream_];
    CoreTrail& core = trail_.cores[core_];
    for (const TimedPacket& p : packets) {
        ++s.packets;
        ++s.counts[static_cast<std::size_t>(p.packet.kind)];
        const BoundedTime when{p.earliest, p.latest};
        Density::Bucket seen;
        seen.events = itm_is_event(p.packet.kind) ? 1 : 0;
        switch (p.packet.kind) {
            case ItmKind::exc_enter:
                nest_.enter(p.packet.number, when, p.packet.offset);
                break;
            case ItmKind::exc_exit:
                nest_.exit(p.packet.number, when, p.packet.offset);
                break;
            case ItmKind::exc_return:
                nest_.back_in(p.packet.number, when, p.packet.offset);
                break;
            case ItmKind::overflow:
            case ItmKind::damage:
                gap(p);
                break;
            case ItmKind::port:
                ++s.ports[p.packet.number & 0xFF];
                break;
            case ItmKind::pc:
                seen.awake = 1;
                check_sample(p);
                break;
            case ItmKind::sleep:
                seen.asleep = 1;
                break;
            case ItmKind::data_pc:
            case ItmKind::data_offset:
            case ItmKind::data_read:
            case ItmKind::data_write:
            case ItmKind::data_match:
                ++s.comparators[p.packet.number & 3];
                break;
            default:
                break;
        }
        if (seen.events != 0) {
            ++s.events;
            core.density.add(p.latest, seen);
        }
        last_ = p.latest;
    }
    if (!packets.empty()) {
        take_nest();
        trail_.end = std::max(trail_.end, last_);
    }
}

void StreamPass::finish() {
    nest_.finish(last_);
    take_nest();
    CoreTrail& core = trail_.cores[core_];
    core.contradictions = nest_.contradictions();
    core.cuts = nest_.cuts();
    core.by_priority = order_by_priority(core);
}

void take_counts(StreamTrail& s, const ItmPipe& pipe) {
    const LocalTime& time = pipe.time();
    s.bytes = pipe.unframed();
    s.timestamps = time.timestamps();
    s.undated = time.undated();
    s.unknown_lengths = time.unknown_lengths();
    s.restored_lengths = time.restored_lengths();
    s.clock_changes = time.clock_changes();
    s.global_rate = time.global_rate();
    if (pipe.formatter() != nullptr) s.formatter = *pipe.formatter();
}

// What the finished pass makes doubtful about one stream.
void doubt_stream(const Recording& recording, Trail& trail, std::size_t index) {
    const StreamTrail& s = trail.streams[index];
    const StreamSpec& spec = recording.target.streams[recording.streams[index].spec];
    const auto doubt = [&](std::string text, std::string advice) {
        trail.doubts.push_back({std::move(text), std::move(advice)});
    };
    if (s.never_syncs)
        doubt(
            "The stream holds no synchronisation packet: it is decoded on trust from its first byte, and damage cannot "
            "be told from data.",
            "Let the target send synchronisation packets (DWT_CTRL.SYNCTAP, ITM_TCR.SYNCENA).");
    if (s.timestamps == 0 && s.events > 0)
        doubt("The stream holds no local timestamps: the order of events is known, their times are not.",
              "Enable ITM_TCR.TSENA and record again.");
    if (s.bytes > 0 && s.bad_bytes * 50 > s.bytes) {
        const bool frames = spec.framing == Framing::none && tpiu_has_full_sync(recording.streams[index].file->bytes());
        doubt(share_text(static_cast<double>(s.bad_bytes) / static_cast<double>(s.bytes)) +
                  " of the stream's bytes are no packets.",
              frames ? "It holds formatter synchronisations: is framing = \"tpiu\" right?"
                     : "Is the protocol, the framing or the line's bit rate wrong?");
    }
    if (s.unknown_lengths > 0)
        doubt("After " + plural(s.unknown_lengths, "damaged stretch", "damaged stretches") +
                  " the lost time is not known: later times are too early by that much.",
              "Enable global timestamps (ITM_TCR.GTSFREQ): they restore the time after a loss.");
    for (const double factor : {4.0, 16.0, 64.0})
        if (s.global_rate > 0 && std::fabs(s.global_rate / factor - 1) < 0.005)
            doubt("Global timestamps count " + std::to_string(static_cast<int>(factor)) +
                      " times as fast as the local ones say.",
                  "Is timestamp_prescaler " + std::to_string(spec.timestamp_prescaler * static_cast<unsigned>(factor)) +
                      " rather than " + std::to_string(spec.timestamp_prescaler) + "?");
    if (s.clock_changes > 1 ||
        (s.clock_changes == 1 && s.counts[static_cast<std::size_t>(ItmKind::global_time_1)] == 1))
        doubt("Global timestamps report " + plural(s.clock_changes, "change", "changes") + " of the clock.",
              "Times assume one clock throughout; check what changed it.");
    if (spec.swo_baud > 0 && trail.end.ps > 0) {
        const double bits = static_cast<double>(s.raw_bytes) * 10, seconds = trail.end.seconds();
        if (bits / seconds > 1.05 * static_cast<double>(spec.swo_baud) && spec.framing == Framing::none)
            doubt("The stream is " + bytes_text(s.raw_bytes) + " in " + duration_text(trail.end) +
                      ", more than a line of " + std::to_string(spec.swo_baud) + " baud carries.",
                  "Is clock_hz or timestamp_prescaler wrong, or swo_baud?");
    }
    for (const auto& port : recording.target.ports)
        if (port.number < 256 && s.ports[port.number] == 0 && recording.streams.size() == 1)
            doubt("Port " + std::to_string(port.number) + (port.name.empty() ? "" : " (" + port.name + ")") +
                      " is in the target file but was never written.",
                  "Is it enabled in ITM_TER, and does the firmware reach it?");
    for (const auto& watch : recording.target.watches)
        if (watch.comparator < 4 && s.comparators[watch.comparator] == 0 && recording.streams.size() == 1)
            doubt("Comparator " + std::to_string(watch.comparator) +
                      (watch.symbol.empty() ? "" : " (" + watch.symbol + ")") +
                      " is in the target file but never reported.",
                  "Is DWT_FUNCTION set for it?");
}

}  // namespace

Result<std::shared_ptr<const Trail>> read_trail(const Recording& recording, Progress& progress,
                                                const Publish& publish) {
    using SteadyClock = std::chrono::steady_clock;
    const auto started = SteadyClock::now();
    auto published = started;
    Trail trail;
    trail.doubts = recording.doubts;
    std::uint64_t total = 0, done = 0;
    for (const auto& core : recording.target.cores) {
        CoreTrail c;
        c.name = core.name;
        c.clock.hz = core.clock_hz == 0 ? 1'000'000'000 : core.clock_hz;
        trail.cores.push_back(std::move(c));
    }
    for (const auto& stream : recording.streams) {
        StreamTrail s;
        s.file = stream.file->path();
        s.core = recording.target.cores[stream.core].name;
        s.raw_bytes = stream.file->bytes().size();
        total += s.raw_bytes;
        trail.streams.push_back(std::move(s));
    }
    std::vector<TimedPacket> packets;
    for (std::size_t i = 0; i < recording.streams.size() && !trail.cancelled; ++i) {
        const Bytes raw = recording.streams[i].file->bytes();
        const StreamSpec& spec = recording.target.streams[recording.streams[i].spec];
        auto plan = plan_start(spec, raw);
        if (!plan) return tl::make_unexpected(plan.error());
        StreamTrail& s = trail.streams[i];
        s.never_syncs = plan->start == ItmDecoder::Start::at_once;
        ItmPipe pipe(std::move(plan->deframer), plan->start, trail.cores[recording.streams[i].core].clock,
                     spec.timestamp_prescaler);
        StreamPass pass(recording, trail, i);
        Time reached{};
        for (std::size_t at = 0; at < raw.size(); at += kCheckpointBytes) {
            if (progress.cancelled()) {
                trail.cancelled = true;
                break;
            }
            s.checkpoints.push_back({at, s.packets, s.events, reached, std::make_shared<const ItmPipe>(pipe)});
            const std::size_t n = std::min(kCheckpointBytes, raw.size() - at);
            // In pieces that stay in the processor's cache from bytes to model.
            for (std::size_t piece = 0; piece < n; piece += kPieceBytes) {
                packets.clear();
                pipe.feed(raw.subspan(at + piece, std::min(kPieceBytes, n - piece)), packets);
                if (at + piece + kPieceBytes >= raw.size()) pipe.finish(packets);
                pass.take(packets);
                if (!packets.empty()) reached = packets.back().latest;
            }
            s.read_bytes = at + n;
            progress.report(done + at + n, total);
            const auto now = SteadyClock::now();
            if (publish && std::chrono::duration<double>(now - published).count() >= kPublishSeconds) {
                published = now;
                take_counts(s, pipe);
                auto snapshot = std::make_shared<Trail>(trail);
                for (auto& core : snapshot->cores) core.by_priority = order_by_priority(core);
                publish(std::move(snapshot));
            }
        }
        pass.finish();
        take_counts(s, pipe);
        done += raw.size();
        doubt_stream(recording, trail, i);
    }
    for (const auto& core : trail.cores)
        if (core.contradictions > 0)
            trail.doubts.push_back(
                {"On core " + core.name + ", " +
                     plural(core.contradictions, "exception packet contradicts", "exception packets contradict") +
                     " those before: packets were lost without an overflow being reported.",
                 "Instances around them are left out of the figures."});
    trail.complete = !trail.cancelled;
    trail.decode_seconds = std::chrono::duration<double>(SteadyClock::now() - started).count();
    return std::make_shared<const Trail>(std::move(trail));
}

}  // namespace mt
