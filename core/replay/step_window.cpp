#include "replay/step_window.h"

#include <algorithm>
#include <limits>

#include "base/text.h"
#include "flow/call_stack.h"
#include "flow/step_timing.h"
#include "recording/step_setup.h"

namespace mt {
namespace {

using Bytes = std::span<const std::uint8_t>;
constexpr std::size_t kPieceBytes = 4 * 1024;

// Collects pieces and gives them times as the moments come.
class PieceReader {
  public:
    PieceReader(const Code& code, const StepCheckpoint& c, const std::function<bool(const StepPiece&)>& each)
        : code_(code), each_(each), timing_(*c.timing), stack_(*c.stack) {
        for (const CallFrame& f : stack_.frames()) handlers_ += (f.flags & CallFrame::kHandler) != 0 ? 1u : 0u;
    }

    void run(const StepRun& r) {
        const std::uint64_t step = stack_.step();
        note_sleep(code_, r, step, sleeps_);
        stack_.run(r, *this);
        waiting_.push_back({r,
                            step,
                            {},
                            {},
                            static_cast<std::uint16_t>(std::min<std::size_t>(stack_.frames().size(), 0xFFFF)),
                            static_cast<std::uint16_t>(handlers_),
                            false});
    }
    void trap(const StepTrap& t) {
        timing_.entered();
        traps.push_back({t, stack_.step(), {}});
        stack_.trap(t, *this);
    }
    void trap_return() { stack_.trap_return(); }
    void gap(const StepGap& told) {
        StepGap g = told;
        timing_.lose(g);
        timing_.entered();
        sleeps_.push_back(stack_.step());
        gaps.push_back({g, stack_.step(), {}, {}});
        if (g.kind != StepGapKind::stopped) return stack_.lose(*this);
        stack_.pause(*this);
        if (const auto stretch = timing_.stop(stack_.step())) {
            flush(*stretch);
            sleeps_.push_back(stack_.step());
        }
    }
    void time(const StepTime& t) {
        if (const auto stretch = timing_.tell(t, stack_.step())) flush(*stretch);
    }
    void sync(std::uint64_t) { timing_.sync(); }
    void enter(const CallFrame& f, std::uint64_t) {
        timing_.entered();
        handlers_ += (f.flags & CallFrame::kHandler) != 0 ? 1u : 0u;
    }
    void leave(const CallFrame& f, std::uint64_t) { handlers_ -= (f.flags & CallFrame::kHandler) != 0 ? 1u : 0u; }

    void settle() {
        if (const auto stretch = timing_.settle(stack_.step())) flush(*stretch);
    }
    void finish() {
        stack_.finish(*this);
        flush(timing_.finish(stack_.step()));
    }
    bool done() const { return done_; }
    std::uint64_t step() const { return stack_.step(); }
    std::vector<StepTrapAt> traps;
    std::vector<StepGapAt> gaps;

  private:
    void flush(const StepTiming::Stretch& stretch) {
        const StepSpan span(timing_.core(), stretch.from, stretch.to, sleeps_);
        for (StepPiece& p : waiting_) {
            p.begin = span.at(p.step);
            p.end = span.at(p.step + p.run.count);
            p.told = stretch.told && p.step == stretch.from.step;
            if (!done_ && !each_(p)) done_ = true;
        }
        waiting_.clear();
        for (; traps_timed_ < traps.size(); ++traps_timed_)
            traps[traps_timed_].time = span.at(traps[traps_timed_].step);
        for (; gaps_timed_ < gaps.size(); ++gaps_timed_)
            gaps[gaps_timed_].begin = gaps[gaps_timed_].end = span.at(gaps[gaps_timed_].step);
        sleeps_.clear();
    }
    const Code& code_;
    std::vector<std::uint64_t> sleeps_;
    const std::function<bool(const StepPiece&)>& each_;
    StepTiming timing_;
    CallStack stack_;
    std::vector<StepPiece> waiting_;
    std::size_t traps_timed_ = 0, gaps_timed_ = 0;
    bool done_ = false;
    unsigned handlers_ = 0;  ///< on the stack
};

const StepCheckpoint* checkpoint_before(const StepTrail& trail, std::uint64_t step) {
    const std::size_t n = trail.checkpoints.partition_point([step](const StepCheckpoint& c) { return c.step <= step; });
    return n == 0 ? nullptr : &trail.checkpoints[n - 1];
}

// Decodes on from a checkpoint until `each` has enough, or up to an offset of the stream.
void decode_from(const Recording& recording, const StepTrail& trail, PieceReader& reader, const StepCheckpoint& c,
                 std::uint64_t most = ~std::uint64_t{0}) {
    StepPipe pipe = *c.pipe;
    const Bytes raw = recording.step_streams[trail.stream].bytes();
    std::uint64_t at = c.raw_offset;
    const std::uint64_t all = std::min<std::uint64_t>(trail.read_bytes, raw.size()), end = std::min(all, most);
    auto loss = std::upper_bound(trail.losses.begin(), trail.losses.end(), c.raw_offset,
                                 [](std::uint64_t offset, const StepLoss& l) { return offset < l.on; });
    while (at < end && !reader.done()) {
        std::uint64_t until = std::min<std::uint64_t>(at + kPieceBytes, end);
        if (loss != trail.losses.end()) {
            if (loss->at <= at) {
                pipe.lose(reader);
                at = loss->on;
                ++loss;
                continue;
            }
            until = std::min(until, loss->at);
        }
        pipe.feed(raw.subspan(at, until - at), reader);
        reader.settle();
        at = until;
    }
    if (end == all && at >= end && !reader.done()) {
        pipe.finish(reader);
        reader.finish();
    }
}

}  // namespace

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

Time time_at_offset(const Recording& recording, const StepTrail& trail, std::uint64_t offset) {
    const std::size_t n =
        trail.checkpoints.partition_point([offset](const StepCheckpoint& c) { return c.raw_offset <= offset; });
    if (n == 0) return trail.begin;
    const std::function<bool(const StepPiece&)> nothing = [](const StepPiece&) { return true; };
    PieceReader reader(*trail.code, trail.checkpoints[n - 1], nothing);
    decode_from(recording, trail, reader, trail.checkpoints[n - 1], offset);
    if (reader.step() >= trail.steps) return trail.end;
    const StepWindow w = step_window(recording, trail, reader.step(), 1);
    if (w.pieces.empty()) return trail.end;
    const StepPiece& p = w.pieces.front();
    return p.time_of(static_cast<std::uint32_t>(reader.step() - p.step));
}

void each_step_packet(const Recording& recording, std::size_t index,
                      const std::function<void(const StepPacketText&)>& each) {
    StepPipe pipe = make_step_pipe(recording, index);
    const Bytes raw = recording.step_streams[index].bytes();
    for (std::size_t at = 0; at < raw.size(); at += kPieceBytes) {
        const std::size_t n = std::min(kPieceBytes, raw.size() - at);
        pipe.list(raw.subspan(at, n), at + n == raw.size(), each);
    }
}

}  // namespace mt
