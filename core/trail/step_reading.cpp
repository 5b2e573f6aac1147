#include "trail/step_reading.h"

#include <algorithm>
#include <limits>

#include "base/text.h"
#include "trail/reading.h"

namespace mt {
namespace {

using Bytes = std::span<const std::uint8_t>;
constexpr std::size_t kPieceBytes = 4 * 1024;

// Exception numbers by handler, where a handler serves one vector only (Armv7-M B1.5.3).
std::map<std::uint64_t, unsigned> handlers_of(const Image& image) {
    std::map<std::uint64_t, unsigned> numbers;
    std::map<std::uint64_t, unsigned> uses;
    const auto table = image.vector_table();
    if (!table) return numbers;
    for (unsigned i = 1; i < 512; ++i) {
        const auto word = image.word_at(*table + 4 * std::uint64_t{i});
        if (!word || ((*word & 1) == 0 && *word != 0) || (*word != 0 && !image.is_code(*word & ~1u))) break;
        if (*word == 0) continue;
        numbers[*word & ~1u] = i;
        ++uses[*word & ~1u];
    }
    for (const auto& [address, count] : uses)
        if (count > 1) numbers.erase(address);
    return numbers;
}

StepPipe make_pipe(const Recording& recording, std::size_t index) {
    const Recording::Stream& s = recording.step_streams[index];
    const StreamSpec& spec = recording.target.streams[s.spec];
    const bool aligned = spec.framing == Framing::tpiu && !tpiu_has_full_sync(s.bytes());
    return StepPipe(
        spec, recording.code[s.core],
        spec.protocol == Protocol::mtb ? handlers_of(*recording.images[s.core]) : std::map<std::uint64_t, unsigned>{},
        aligned);
}

StepTimer make_timer(const Recording& recording, std::size_t index) {
    const Recording::Stream& s = recording.step_streams[index];
    const StreamSpec& spec = recording.target.streams[s.spec];
    Clock core{recording.target.cores[s.core].clock_hz}, stamps{spec.timestamp_hz};
    if (core.hz == 0) core.hz = 1'000'000'000;
    StepClock kind = StepClock::none;
    if (spec.protocol == Protocol::etm4 && spec.etm4.cycle_count)
        kind = StepClock::cycles;
    else if ((spec.protocol == Protocol::etm4 || (spec.protocol == Protocol::ntrace && spec.ntrace.timestamps) ||
              (spec.protocol == Protocol::etrace && spec.etrace.time_width > 0)) &&
             stamps.hz != 0)
        kind = StepClock::timestamps;
    return StepTimer(kind, core, stamps);
}

// Exceptions into the lanes of a core.
class Lanes {
  public:
    Lanes(const Recording& recording, Trail& trail, std::size_t core)
        : recording_(recording), core_(trail.cores[core]), index_(core) {
        lane_of_.fill(-1);
    }
    void take(ExceptionNest& nest) {
        for (const auto& x : nest.closed()) {
            int& lane = lane_of_[x.number & 0x1FF];
            if (lane < 0) {
                lane = static_cast<int>(core_.lanes.size());
                core_.lanes.emplace_back(x.number, recording_.exception_name(index_, x.number));
            }
            core_.lanes[static_cast<std::size_t>(lane)].append(x);
        }
        for (const auto& c : nest.changes()) {
            core_.add_change(c.time, c.running);
            Density::Bucket one;
            one.events = 1;
            core_.density.add(c.time, one);
        }
        nest.clear();
    }
    void finish(const ExceptionNest& nest) {
        core_.contradictions += nest.contradictions();
        core_.cuts = nest.cuts();
        core_.by_priority = order_by_priority(core_);
    }

  private:
    const Recording& recording_;
    CoreTrail& core_;
    std::size_t index_;
    std::array<int, 512> lane_of_;
};

// Collects pieces and gives them times as the moments come.
class PieceReader {
  public:
    PieceReader(const Code& code, const StepCheckpoint& c, const std::function<bool(const StepPiece&)>& each)
        : code_(code), each_(each), timer_(*c.timer), stack_(*c.stack), moment_(c.moment) {}

    void run(const StepRun& r) {
        const std::uint64_t step = stack_.step();
        note_sleep(code_, r, step, sleeps_);
        stack_.run(r, *this);
        waiting_.push_back(
            {r, step, {}, {}, static_cast<std::uint16_t>(std::min<std::size_t>(stack_.frames().size(), 0xFFFF))});
    }
    void trap(const StepTrap& t) {
        traps.push_back({t, stack_.step(), {}});
        stack_.trap(t, *this);
    }
    void trap_return() { stack_.trap_return(); }
    void gap(const StepGap& g) {
        gaps.push_back({g, stack_.step(), {}, {}});
        stack_.lose(*this);
        timer_.lost();
    }
    void time(const StepTime& t) {
        if (const auto moment = timer_.tell(t, stack_.step())) flush(*moment);
    }
    void sync(std::uint64_t) {}
    void enter(const CallFrame&, std::uint64_t) {}
    void leave(const CallFrame&, std::uint64_t) {}

    void settle() {
        if (timer_.kind() == StepClock::none) flush({stack_.step(), timer_.nominal(stack_.step())});
    }
    void finish() {
        const std::uint64_t step = stack_.step();
        flush({step, moment_.time + (timer_.nominal(step) - timer_.nominal(moment_.step))});
    }
    bool done() const { return done_; }
    std::uint64_t step() const { return stack_.step(); }
    std::vector<StepTrapAt> traps;
    std::vector<StepGapAt> gaps;

  private:
    void flush(StepMoment to) {
        to.time = std::max(to.time, moment_.time);
        for (StepPiece& p : waiting_) {
            p.begin = timer_.between(moment_, to, p.step, sleeps_);
            p.end = timer_.between(moment_, to, p.step + p.run.count, sleeps_);
            if (!done_ && !each_(p)) done_ = true;
        }
        waiting_.clear();
        for (; traps_timed_ < traps.size(); ++traps_timed_)
            traps[traps_timed_].time = timer_.between(moment_, to, traps[traps_timed_].step, sleeps_);
        for (; gaps_timed_ < gaps.size(); ++gaps_timed_)
            gaps[gaps_timed_].begin = gaps[gaps_timed_].end =
                timer_.between(moment_, to, gaps[gaps_timed_].step, sleeps_);
        sleeps_.clear();
        moment_ = to;
    }
    const Code& code_;
    std::vector<std::uint64_t> sleeps_;
    const std::function<bool(const StepPiece&)>& each_;
    StepTimer timer_;
    CallStack stack_;
    StepMoment moment_;
    std::vector<StepPiece> waiting_;
    std::size_t traps_timed_ = 0, gaps_timed_ = 0;
    bool done_ = false;
};

const StepCheckpoint* checkpoint_before(const StepTrail& trail, std::uint64_t step) {
    const std::size_t n = trail.checkpoints.partition_point([step](const StepCheckpoint& c) { return c.step <= step; });
    return n == 0 ? nullptr : &trail.checkpoints[n - 1];
}

// Decodes on from a checkpoint until `each` has enough.
void decode_from(const Recording& recording, const StepTrail& trail, PieceReader& reader, const StepCheckpoint& c) {
    StepPipe pipe = *c.pipe;
    const Bytes raw = recording.step_streams[trail.stream].bytes();
    std::uint64_t at = c.raw_offset;
    const std::uint64_t end = std::min<std::uint64_t>(trail.read_bytes, raw.size());
    while (at < end && !reader.done()) {
        const auto n = std::min<std::uint64_t>(kPieceBytes, end - at);
        pipe.feed(raw.subspan(at, n), reader);
        reader.settle();
        at += n;
    }
    if (at >= end && !reader.done()) {
        pipe.finish(reader);
        reader.finish();
    }
}

}  // namespace

void prepare_steps(const Recording& recording, Trail& trail) {
    for (std::size_t i = 0; i < recording.step_streams.size(); ++i) {
        const Recording::Stream& s = recording.step_streams[i];
        StepTrail t;
        t.file = s.path;
        t.core = recording.target.cores[s.core].name;
        t.stream = i;
        t.core_index = s.core;
        t.code = recording.code[s.core];
        t.functions = recording.functions[s.core];
        t.raw_bytes = s.bytes().size();
        trail.steps.push_back(std::move(t));
    }
}

Result<void> read_steps(const Recording& recording, std::size_t index, Trail& trail, Progress& progress,
                        const std::function<void(std::uint64_t done)>& between) {
    const Recording::Stream& stream = recording.step_streams[index];
    const StreamSpec& spec = recording.target.streams[stream.spec];
    StepTrail& t = trail.steps[index];
    StepPipe pipe = make_pipe(recording, index);
    StepReader reader(t, make_timer(recording, index));
    const bool tells_exceptions = std::none_of(recording.streams.begin(), recording.streams.end(),
                                               [&](const Recording::Stream& s) { return s.core == stream.core; });
    Lanes lanes(recording, trail, stream.core);
    const Bytes raw = stream.bytes();
    const auto take_counts = [&] {
        t.bytes = pipe.unframed_bytes();
        t.bad_bytes = pipe.bad_bytes();
        t.counts = pipe.counts();
        t.packets = 0;
        for (const auto& [kind, count] : t.counts) t.packets += kind == "damage" ? 0 : count;
        if (tells_exceptions) {
            lanes.take(reader.nest());
            trail.cores[stream.core].end = t.end;
        } else {
            reader.nest().clear();
        }
        trail.end = std::max(trail.end, t.end);
    };
    std::uint64_t point = 0;
    for (std::uint64_t at = 0; at < raw.size();) {
        if (progress.cancelled()) {
            trail.cancelled = true;
            break;
        }
        if (at == 0 || at - point >= kCheckpointBytes) {
            t.checkpoints.push_back({at, reader.stack().step(), reader.moment(), std::make_shared<const StepPipe>(pipe),
                                     std::make_shared<const CallStack>(reader.stack()),
                                     std::make_shared<const StepTimer>(reader.timer())});
            point = at;
        }
        const auto n = std::min<std::uint64_t>(kPieceBytes, raw.size() - at);
        pipe.feed(raw.subspan(at, n), reader);
        reader.settle();
        at += n;
        t.read_bytes = at;
        if (at % (16 * kPieceBytes) == 0 || at == raw.size()) {
            take_counts();
            stream.file->let_go(at);
            between(at);
        }
    }
    pipe.finish(reader);
    reader.finish();
    take_counts();
    if (tells_exceptions) lanes.finish(reader.nest());
    if (pipe.deframer() != nullptr && pipe.unframed_bytes() == 0)
        return failure("trace ID " + std::to_string(spec.trace_id) + " is not in the stream", stream.path,
                       "set trace_id to one that is, or framing = \"none\" for a bare stream");
    if (!trail.cancelled && t.steps == 0 && t.packets == 0)
        return failure("the bytes are no " +
                           std::string(spec.protocol == Protocol::etm4     ? "ETMv4"
                                       : spec.protocol == Protocol::etrace ? "E-Trace"
                                       : spec.protocol == Protocol::ntrace ? "N-Trace"
                                                                           : "micro trace buffer") +
                           " stream: no packet in " + bytes_text(raw.size()),
                       stream.path, "check protocol and framing in the target file");
    return {};
}

const StepPiece& StepWindow::at(std::uint64_t step) const {
    const auto next = std::upper_bound(pieces.begin(), pieces.end(), step,
                                       [](std::uint64_t s, const StepPiece& p) { return s < p.step; });
    return next == pieces.begin() ? pieces.front() : *std::prev(next);
}

StepWindow step_window(const Recording& recording, const StepTrail& trail, std::uint64_t from, std::uint64_t count) {
    StepWindow w;
    w.first = w.end = from;
    const StepCheckpoint* c = checkpoint_before(trail, from);
    if (c == nullptr) return w;
    const std::uint64_t until =
        count > std::numeric_limits<std::uint64_t>::max() - from ? ~std::uint64_t{0} : from + count;
    const std::function<bool(const StepPiece&)> each = [&](const StepPiece& p) {
        if (p.step + p.run.count <= from) return true;
        if (p.step >= until) return false;
        w.pieces.push_back(p);
        return true;
    };
    PieceReader reader(*trail.code, *c, each);
    decode_from(recording, trail, reader, *c);
    if (!w.pieces.empty()) {
        w.first = std::max(from, w.pieces.front().step);
        w.end = std::min(until, w.pieces.back().step + w.pieces.back().run.count);
    }
    for (const auto& t : reader.traps)
        if (t.step >= from && t.step < until) w.traps.push_back(t);
    for (const auto& g : reader.gaps)
        if (g.step >= from && g.step < until) w.gaps.push_back(g);
    return w;
}

void each_step_piece(const Recording& recording, const StepTrail& trail, std::uint64_t from,
                     const std::function<bool(const StepPiece&)>& each) {
    const StepCheckpoint* c = checkpoint_before(trail, from);
    if (c == nullptr) return;
    const std::function<bool(const StepPiece&)> later = [&](const StepPiece& p) {
        return p.step + p.run.count <= from || each(p);
    };
    PieceReader reader(*trail.code, *c, later);
    decode_from(recording, trail, reader, *c);
}

std::uint64_t step_at(const Recording& recording, const StepTrail& trail, Time t) {
    const std::size_t n = trail.moments.partition_point([t](const StepMoment& m) { return m.time < t; });
    std::uint64_t found = n == 0 ? 0 : trail.moments[n - 1].step;
    each_step_piece(recording, trail, found, [&](const StepPiece& p) {
        if (p.begin > t) return false;
        found = p.step;
        if (p.end > t && p.end > p.begin)
            found += static_cast<std::uint64_t>(static_cast<__int128>((t - p.begin).ps) * p.run.count /
                                                (p.end - p.begin).ps);
        return p.end <= t;
    });
    return found;
}

void each_step_packet(const Recording& recording, std::size_t index,
                      const std::function<void(const StepPacketText&)>& each) {
    StepPipe pipe = make_pipe(recording, index);
    const Bytes raw = recording.step_streams[index].bytes();
    for (std::size_t at = 0; at < raw.size(); at += kPieceBytes) {
        const std::size_t n = std::min(kPieceBytes, raw.size() - at);
        pipe.list(raw.subspan(at, n), at + n == raw.size(), each);
    }
}

}  // namespace mt
