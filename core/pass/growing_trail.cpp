#include "pass/growing_trail.h"

#include <algorithm>
#include <array>
#include <numeric>

#include "flow/itm_pipe.h"
#include "pass/itm_tasks.h"
#include "pass/port_text.h"
#include "pass/nest_lanes.h"
#include "pass/reading.h"

namespace mt {
namespace {
constexpr std::size_t kPieceBytes = 4 * 1024;  // stays in the processor's cache from bytes to model
}

// One stream's decoder, and what takes its timed packets into the trail.
class GrowingTrail::Part {
  public:
    Part(const Recording& recording, Trail& trail, std::size_t stream, StartPlan plan)
        : pipe(std::move(plan.deframer), plan.start, trail.cores[recording.streams[stream].core].clock,
               recording.target.streams[recording.streams[stream].spec].timestamp_prescaler, plan.base),
          position(plan.first),
          reached(plan.base),
          recording_(recording),
          trail_(trail),
          stream_(stream),
          core_(recording.streams[stream].core),
          core_trail_(trail.cores[core_]),
          stream_trail_(trail.streams[stream]),
          lanes_(recording, trail, core_, true),
          text_(recording, trail, core_),
          global_(trail.cores[core_].clock) {}
    std::unique_ptr<ItmTasks> tasks;  ///< null if the target file describes nothing that it would take

    void push_back(const TimedPacket& p);
    /// Takes packets of the frequent kinds, and what the timestamps among them tell.
    void take_batch(std::span<const PlainTimed> packets, const PlainTimes& times);
    /// After a few packets: what the nest has closed goes into the lanes.
    void settle();
    std::optional<std::pair<unsigned, std::uint32_t>> watched_port;
    std::uint64_t watched_seen = 0;
    Tap tap;
    void finish();
    void checkpoint(bool lost);
    void take_counts();

    ItmPipe pipe;
    std::uint64_t position;   ///< raw offset of the next byte
    Time reached;             ///< latest time that came out
    std::uint64_t point = 0;  ///< raw offset of the latest checkpoint
    bool any_point = false;

  private:
    void take_plain(const PlainTimed& p);
    __attribute__((noinline)) void check_time(const PlainTimed& p);
    void tell_stray();
    __attribute__((noinline)) void gap(ItmPacket p, Time earliest, Time latest);
    __attribute__((noinline)) void check_sample(std::uint64_t pc, Time latest);

    const Recording& recording_;
    Trail& trail_;
    std::size_t stream_, core_;
    CoreTrail& core_trail_;
    StreamTrail& stream_trail_;
    std::array<std::uint64_t, kItmKinds> counts_{};  ///< all packets so far
    HandlerStack nest_;
    NestLanes lanes_;
    PortText text_;
    GlobalCheck global_;
    std::optional<GlobalCheck::Stray> stray_;  ///< told unless a loss follows at once
};

void GrowingTrail::Part::gap(ItmPacket p, Time earliest, Time latest) {
    Gap g;
    g.begin = earliest;
    g.end = latest;
    g.offset = p.offset;
    g.length = p.length;
    g.kind = p.kind == ItmKind::overflow ? GapKind::overflow : GapKind::damage;
    g.reason = p.number;
    g.stream = static_cast<std::uint32_t>(stream_);
    g.core = static_cast<std::uint16_t>(core_);
    trail_.gaps.push_back(g);
    trail_.doubt(g.core, g.begin, g.end);
    nest_.lose(std::max(earliest, reached), latest, lanes_);
    // A global timestamp right before the loss is dated by what came behind it.
    if (stray_ && stray_->to > earliest) stray_.reset();
    global_.begin_anew();
    StreamTrail& s = trail_.streams[stream_];
    // A recording that begins in the middle of a stream: these bytes cannot be read, but nothing is wrong with them.
    if (g.kind == GapKind::damage && g.reason == static_cast<std::uint16_t>(ItmDamage::no_sync_yet) &&
        std::accumulate(counts_.begin(), counts_.end(), std::uint64_t{0}) == 1)
        s.lead_in = g.length;
    else if (g.kind == GapKind::damage)
        s.bad_bytes += g.length;
}

void GrowingTrail::Part::check_sample(std::uint64_t pc, Time latest) {
    const Image* image = recording_.images[core_].get();
    if (image == nullptr) return;
    if (const Code* code = recording_.code[core_].get()) {
        std::vector<std::uint64_t>& samples = core_trail_.samples;
        const FunctionTable& functions = *recording_.functions[core_];
        if (samples.empty()) samples.resize(functions.size() + 1);
        const std::uint32_t slot = code->slot_of(pc);
        ++samples[slot == Code::kNowhere ? functions.size() : functions.at(slot)];
    }
    if (image->is_code(pc)) return;
    StreamTrail& s = trail_.streams[stream_];
    if (s.samples_outside++ != 0) return;
    s.first_outside = pc;
    s.first_outside_at = latest;
}

void GrowingTrail::Part::check_time(const PlainTimed& p) {
    if ((p.number & 1) != 0) global_.begin_anew();
    tell_stray();
    stray_ = global_.take(p.value, p.size, p.latest);
}

void GrowingTrail::Part::tell_stray() {
    if (!stray_) return;
    stream_trail_.strays.push_back(*stray_);
    // Packets were lost somewhere in between; which, nobody knows.
    trail_.doubt(static_cast<std::uint16_t>(core_), stray_->from, stray_->to, static_cast<std::uint32_t>(1 + stream_));
    stray_.reset();
}

__attribute__((always_inline)) inline void GrowingTrail::Part::take_plain(const PlainTimed& p) {
    ++counts_[static_cast<std::size_t>(p.kind)];
    const BoundedTime when{p.earliest, p.latest};
    switch (p.kind) {
        case ItmKind::exc_enter:
            if (tasks) tasks->enter(p.number, p.latest);
            nest_.enter(p.number, when, p.offset, lanes_);
            break;
        case ItmKind::exc_exit:
            if (tasks) tasks->exit(p.latest);
            nest_.exit(p.number, when, p.offset, lanes_);
            break;
        case ItmKind::exc_return:
            if (tasks && p.number == 0) tasks->back_in_thread(p.latest);
            nest_.back_in(p.number, when, p.offset, lanes_);
            break;
        case ItmKind::port:
            if (tasks) tasks->write_port(p.number, p.value, p.earliest, p.latest);
            text_.write(p.number, p.value, p.size, p.latest);
            ++stream_trail_.ports[p.number & 0xFF];
            if (tap.to != nullptr && p.number == tap.port) tap.to->write(p.value, p.size, p.latest);
            if (watched_port && p.number == watched_port->first && p.value == watched_port->second) ++watched_seen;
            break;
        case ItmKind::pc:
            core_trail_.density.add_sample(p.latest, false);
            check_sample(p.value, p.latest);
            return;
        case ItmKind::sleep:
            core_trail_.density.add_sample(p.latest, true);
            ++core_trail_.samples_asleep;
            return;
        case ItmKind::data_pc:
            if (tasks) tasks->instruction(p.number, p.value);
            ++stream_trail_.comparators[p.number & 3];
            break;
        case ItmKind::data_offset:
        case ItmKind::data_match:
            ++stream_trail_.comparators[p.number & 3];
            break;
        case ItmKind::data_read:
        case ItmKind::data_write:
            if (tasks)
                tasks->watched(p.number, p.value,
                               p.kind == ItmKind::data_read ? ValueAccess::read : ValueAccess::written, p.earliest,
                               p.latest);
            ++stream_trail_.comparators[p.number & 3];
            break;
        case ItmKind::global_time_1:
            check_time(p);
            break;
        default:
            break;
    }
    if (itm_is_event(p.kind)) core_trail_.density.add_event(p.latest);
}

void GrowingTrail::Part::push_back(const TimedPacket& timed) {
    const ItmPacket& p = timed.packet;
    if (p.kind == ItmKind::overflow || p.kind == ItmKind::damage) {
        ++counts_[static_cast<std::size_t>(p.kind)];
        if (tasks) tasks->lose(timed.earliest, timed.latest);
        text_.lose();
        if (tap.to != nullptr) tap.to->lose();
        gap(p, timed.earliest, timed.latest);
        core_trail_.density.add_event(timed.latest);
    } else {
        take_plain(
            {p.offset, timed.earliest, timed.latest, static_cast<std::uint32_t>(p.value), p.number, p.kind, p.size});
    }
    reached = timed.latest;
}

void GrowingTrail::Part::take_batch(std::span<const PlainTimed> packets, const PlainTimes& times) {
    const PlainTimed* const end = packets.data() + packets.size();
    for (const PlainTimed* p = packets.data(); p != end; ++p) {
        // Most handlers interrupt thread mode, run undisturbed and return to it: three packets in a row.
        if (p->kind == ItmKind::exc_enter && end - p >= 3 && p[1].kind == ItmKind::exc_exit &&
            p[1].number == p->number && p[2].kind == ItmKind::exc_return && p[2].number == 0 && nest_.in_thread()) {
            if (tasks) tasks->visit(p->number, p->latest, p[1].latest, p[2].latest);
            nest_.visit(p->number, {p->earliest, p->latest}, {p[1].earliest, p[1].latest}, p[2].latest, p->offset,
                        lanes_);
            core_trail_.density.add_events(p->latest, p[1].latest, p[2].latest);
            for (const ItmKind k : {ItmKind::exc_enter, ItmKind::exc_exit, ItmKind::exc_return})
                ++counts_[static_cast<std::size_t>(k)];
            p += 2;
        } else {
            take_plain(*p);
        }
    }
    counts_[static_cast<std::size_t>(ItmKind::local_time_1)] += times.format_1;
    counts_[static_cast<std::size_t>(ItmKind::local_time_2)] += times.format_2;
    if (!packets.empty()) reached = packets.back().latest;
    if (times.any()) reached = std::max(reached, times.last);
}

void GrowingTrail::Part::settle() {
    CoreTrail& core = core_trail_;
    stream_trail_.counts = counts_;
    stream_trail_.packets = stream_trail_.events = 0;
    for (std::size_t kind = 0; kind < kItmKinds; ++kind) {
        stream_trail_.packets += counts_[kind];
        if (itm_is_event(static_cast<ItmKind>(kind))) stream_trail_.events += counts_[kind];
    }
    core.end = std::max(core.end, reached);
    trail_.end = std::max(trail_.end, reached);
}

void GrowingTrail::Part::finish() {
    tell_stray();
    nest_.finish(reached, lanes_);
    lanes_.finish(nest_);
}

void GrowingTrail::Part::take_counts() {
    StreamTrail& s = trail_.streams[stream_];
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

void GrowingTrail::Part::checkpoint(bool lost) {
    StreamTrail& s = trail_.streams[stream_];
    s.checkpoints.push_back({position, s.packets, s.events, reached, std::make_shared<const ItmPipe>(pipe), lost});
    point = position;
    any_point = true;
}

GrowingTrail::GrowingTrail(const Recording& recording) : recording_(recording) {
    trail_.doubts = recording.doubts;
    for (const auto& core : recording.target.cores) {
        CoreTrail c;
        c.name = core.name;
        c.riscv = core.isa.rfind("rv", 0) == 0;
        c.m_profile = is_m_profile(core.isa);
        c.clock.hz = core.clock_hz == 0 ? 1'000'000'000 : core.clock_hz;
        c.own_clock = core.own_clock && core.clock_hz > 0;
        trail_.cores.push_back(std::move(c));
    }
    for (const auto& stream : recording.streams) {
        StreamTrail s;
        s.file = stream.path;
        s.core = recording.target.cores[stream.core].name;
        trail_.streams.push_back(std::move(s));
    }
    parts_.resize(recording.streams.size());
}

GrowingTrail::~GrowingTrail() = default;

GrowingTasks& GrowingTrail::tasks() {
    if (tasks_) return *tasks_;
    std::vector<bool> lanes(trail_.cores.size(), true);
    for (const auto& s : recording_.streams) lanes[s.core] = false;
    for (const auto& s : recording_.step_streams) lanes[s.core] = false;
    if (recording_.events)
        for (const auto& [cpu, core] : recording_.events->core_of_cpu)
            if (lanes[core]) trail_.cores[core].system_lanes = true;
    tasks_ = std::make_unique<GrowingTasks>(recording_, trail_, std::move(lanes));
    return *tasks_;
}

void GrowingTrail::start(std::size_t stream, StartPlan plan) {
    trail_.streams[stream].never_syncs = plan.start == ItmDecoder::Start::at_once;
    parts_[stream] = std::make_unique<Part>(recording_, trail_, stream, std::move(plan));
    parts_[stream]->watched_port = watched_port_;
    if (stream < taps_.size()) parts_[stream]->tap = taps_[stream];
    const std::size_t core = recording_.streams[stream].core;
    if (ItmTasks::wanted(recording_, core))
        parts_[stream]->tasks = std::make_unique<ItmTasks>(recording_, tasks(), core);
}

void GrowingTrail::feed(std::size_t stream, std::span<const std::uint8_t> raw) {
    Part& part = *parts_[stream];
    StreamTrail& s = trail_.streams[stream];
    for (std::size_t at = 0; at < raw.size();) {
        if (!part.any_point || part.position - part.point >= kCheckpointBytes) part.checkpoint(false);
        const std::size_t n = std::min<std::size_t>(
            {kPieceBytes, raw.size() - at, kCheckpointBytes - static_cast<std::size_t>(part.position - part.point)});
        part.pipe.feed(raw.subspan(at, n), part);
        part.settle();
        part.position += n;
        at += n;
    }
    s.read_bytes = part.position;
}

void GrowingTrail::lose(std::size_t stream) {
    Part& part = *parts_[stream];
    part.checkpoint(true);
    part.pipe.lose(part);
    part.settle();
}

void GrowingTrail::skip_to(std::size_t stream, std::uint64_t offset) {
    Part& part = *parts_[stream];
    if (offset <= part.position) return;
    part.position = offset;
    lose(stream);
    trail_.streams[stream].read_bytes = offset;
}

void GrowingTrail::finish(std::size_t stream) {
    Part& part = *parts_[stream];
    part.pipe.finish(part);
    part.settle();
    part.finish();
    part.take_counts();
    trail_.streams[stream].ended = true;
}

void GrowingTrail::tap_port(std::size_t stream, unsigned port, PortTap& tap) {
    if (taps_.size() <= stream) taps_.resize(stream + 1);
    taps_[stream] = {&tap, port};
}
void GrowingTrail::watch_port(unsigned port, std::uint32_t value) { watched_port_ = {port, value}; }
std::uint64_t GrowingTrail::seen_on_port(std::size_t stream, unsigned port, std::uint32_t value) const {
    return watched_port_ == std::pair(port, value) && parts_[stream] ? parts_[stream]->watched_seen : 0;
}

std::shared_ptr<Trail> GrowingTrail::snapshot() {
    for (auto& part : parts_)
        if (part) part->take_counts();
    if (tasks_) tasks_->settle();
    auto copy = std::make_shared<Trail>(trail_);
    for (auto& core : copy->cores) core.by_priority = order_by_priority(core);
    return copy;
}

}  // namespace mt
