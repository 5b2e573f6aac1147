#include "trail/growing_trail.h"

#include <algorithm>
#include <array>
#include <numeric>

#include "trail/itm_tasks.h"
#include "trail/nest_lanes.h"
#include "trail/reading.h"

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
          lanes_(recording, trail, core_) {}
    std::unique_ptr<ItmTasks> tasks;  ///< null if the target file describes nothing that it would take

    /// Takes one packet; the pipe hands them over one by one.
    void push_back(const TimedPacket& p);
    /// The same for a timestamp, which tells nothing but `t`.
    void take_time(const ItmPacket& p, Time t) {
        ++counts_[static_cast<std::size_t>(p.kind)];
        reached = t;
    }
    /// After a few packets: what the nest has closed goes into the lanes.
    void settle();
    std::optional<std::pair<unsigned, std::uint32_t>> watched_port;
    std::uint64_t watched_seen = 0;
    void finish();
    void checkpoint(bool lost);
    void take_counts();

    ItmPipe pipe;
    std::uint64_t position;   ///< raw offset of the next byte
    Time reached;             ///< latest time that came out
    std::uint64_t point = 0;  ///< raw offset of the latest checkpoint
    bool any_point = false;

  private:
    void gap(const TimedPacket& p);
    void check_sample(const TimedPacket& p);

    const Recording& recording_;
    Trail& trail_;
    std::size_t stream_, core_;
    CoreTrail& core_trail_;
    StreamTrail& stream_trail_;
    std::array<std::uint64_t, kItmKinds> counts_{};  ///< all packets so far
    ExceptionNest nest_;
    NestLanes lanes_;
};

void GrowingTrail::Part::gap(const TimedPacket& p) {
    Gap g;
    g.begin = p.earliest;
    g.end = p.latest;
    g.offset = p.packet.offset;
    g.length = p.packet.length;
    g.kind = p.packet.kind == ItmKind::overflow ? GapKind::overflow : GapKind::damage;
    g.reason = p.packet.number;
    g.stream = static_cast<std::uint32_t>(stream_);
    g.core = static_cast<std::uint16_t>(core_);
    trail_.gaps.push_back(g);
    nest_.lose(std::max(p.earliest, reached), p.latest);
    StreamTrail& s = trail_.streams[stream_];
    // A recording that begins in the middle of a stream: these bytes cannot be read, but nothing is wrong with them.
    if (g.kind == GapKind::damage && g.reason == static_cast<std::uint16_t>(ItmDamage::no_sync_yet) &&
        std::accumulate(counts_.begin(), counts_.end(), std::uint64_t{0}) == 1)
        s.lead_in = g.length;
    else if (g.kind == GapKind::damage)
        s.bad_bytes += g.length;
}

void GrowingTrail::Part::check_sample(const TimedPacket& p) {
    const Image* image = recording_.images[core_].get();
    if (image == nullptr) return;
    if (const Code* code = recording_.code[core_].get()) {
        std::vector<std::uint64_t>& samples = core_trail_.samples;
        const FunctionTable& functions = *recording_.functions[core_];
        if (samples.empty()) samples.resize(functions.size() + 1);
        const std::uint32_t slot = code->slot_of(p.packet.value);
        ++samples[slot == Code::kNowhere ? functions.size() : functions.at(slot)];
    }
    if (image->is_code(p.packet.value)) return;
    StreamTrail& s = trail_.streams[stream_];
    if (s.samples_outside++ != 0) return;
    s.first_outside = p.packet.value;
    s.first_outside_at = p.latest;
}

inline void GrowingTrail::Part::push_back(const TimedPacket& p) {
    StreamTrail& s = stream_trail_;
    ++counts_[static_cast<std::size_t>(p.packet.kind)];
    const BoundedTime when{p.earliest, p.latest};
    if (tasks) tasks->take(p.packet, p.earliest, p.latest);
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
            if (watched_port && p.packet.number == watched_port->first && p.packet.value == watched_port->second)
                ++watched_seen;
            break;
        case ItmKind::pc:
            seen.awake = 1;
            check_sample(p);
            break;
        case ItmKind::sleep:
            seen.asleep = 1;
            ++core_trail_.samples_asleep;
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
    if (seen.events != 0) core_trail_.density.add(p.latest, seen);
    reached = p.latest;
}

void GrowingTrail::Part::settle() {
    CoreTrail& core = core_trail_;
    lanes_.take(nest_);
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
    nest_.finish(reached);
    lanes_.take(nest_);
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
        c.clock.hz = core.clock_hz == 0 ? 1'000'000'000 : core.clock_hz;
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
            if (lanes[core]) trail_.cores[core].plain_numbers = true;
    tasks_ = std::make_unique<GrowingTasks>(recording_, trail_, std::move(lanes));
    return *tasks_;
}

void GrowingTrail::start(std::size_t stream, StartPlan plan) {
    trail_.streams[stream].never_syncs = plan.start == ItmDecoder::Start::at_once;
    parts_[stream] = std::make_unique<Part>(recording_, trail_, stream, std::move(plan));
    parts_[stream]->watched_port = watched_port_;
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
