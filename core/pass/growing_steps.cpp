#include "pass/growing_steps.h"

#include <algorithm>

#include "recording/step_setup.h"

namespace mt {
namespace {

constexpr std::size_t kStepPieceBytes = 4 * 1024;
// Events of a batch: so few that they stay in the nearest cache, or so many that handing them over costs nothing.
constexpr std::size_t kBatchHere = 256, kBatchApart = 4096;

}  // namespace

void prepare_steps(const Recording& recording, Trail& trail) {
    for (std::size_t i = 0; i < recording.step_streams.size(); ++i) {
        const Recording::Stream& s = recording.step_streams[i];
        StepTrail t;
        t.file = s.path;
        t.core = recording.target.cores[s.core].name;
        t.stream = i;
        t.core_index = s.core;
        t.untouched = recording.target.cores[s.core].untouched;
        t.code = recording.code[s.core];
        t.functions = recording.functions[s.core];
        if (s.core < recording.inlines.size() && recording.inlines[s.core]) t.inlines = recording.inlines[s.core];
        t.raw_bytes = s.bytes().size();
        trail.steps.push_back(std::move(t));
    }
}

GrowingSteps::GrowingSteps(const Recording& recording, std::size_t index, Trail& trail, double after_s, Work work)
    : all_(trail),
      index_(index),
      core_(recording.step_streams[index].core),
      book_(trail.steps[index], make_step_timer(recording, index, after_s).core()),
      reader_(
          trail.steps[index], make_step_timer(recording, index, after_s),
          [this](std::unique_ptr<CallBatch> batch) { return enter_later(std::move(batch)); },
          work.threads > 1 ? kBatchApart : kBatchHere),
      split_(
          make_step_pipe(recording, index), recording.code[core_], recording.functions[core_],
          [this](const StepBlock& block) { reader_.take(block); }, std::move(work)),
      data_(recording, trail, core_) {
    if (std::none_of(recording.streams.begin(), recording.streams.end(),
                     [&](const Recording::Stream& s) { return s.core == core_; }))
        lanes_ = std::make_unique<NestLanes>(recording, trail, core_, false);
    if (lanes_ && make_step_timer(recording, index, after_s).kind() == StepClock::none &&
        (recording.events == nullptr ||
         recording.target.streams[recording.events->spec].core != trail.cores[core_].name))
        trail.cores[core_].timed = false;
}

// The calls of a batch are entered into the book once those before are.
std::unique_ptr<CallBatch> GrowingSteps::enter_later(std::unique_ptr<CallBatch> batch) {
    if (split_.alone()) {
        book_.take(*batch);
        return batch;
    }
    std::unique_ptr<CallBatch> next;
    {
        const std::lock_guard guard(lock_);
        if (!free_.empty()) {
            next = std::move(free_.back());
            free_.pop_back();
        }
    }
    split_.put_off([this, full = std::shared_ptr<CallBatch>(std::move(batch))]() mutable {
        book_.take(*full);
        const std::lock_guard guard(lock_);
        free_.push_back(std::make_unique<CallBatch>(std::move(*full)));
    });
    return next ? std::move(next) : std::make_unique<CallBatch>();
}

void GrowingSteps::drain() {
    split_.drain();
    reader_.hand_on();
    split_.drain();
}

void GrowingSteps::checkpoint() {
    split_.checkpoint(position_);
    point_ = position_;
    any_point_ = true;
}

void GrowingSteps::feed(std::span<const std::uint8_t> raw) {
    for (std::size_t at = 0; at < raw.size();) {
        if (!any_point_ || position_ - point_ >= kCheckpointBytes) checkpoint();
        const std::size_t n = std::min<std::size_t>(kStepPieceBytes, raw.size() - at);
        split_.feed(raw.subspan(at, n));
        split_.piece();
        at += n;
        position_ += n;
    }
}

void GrowingSteps::lose(std::uint64_t offset) {
    split_.lose();
    split_.piece();
    drain();
    trail().losses.push_back({position_, offset});
    position_ = trail().read_bytes = offset;
    checkpoint();
}

void GrowingSteps::settle() {
    drain();
    book_.add_up();
    StepTrail& t = trail();
    t.counters = std::make_shared<const StepCounters>(reader_.with_branches(split_.counts()));
    const StepPipe pipe = split_.pipe();
    t.read_bytes = position_;
    t.bytes = pipe.unframed_bytes();
    t.bad_bytes = pipe.bad_bytes();
    t.lead_in = pipe.lead_in();
    t.counts = pipe.counts();
    t.other_sources = pipe.other_sources();
    t.packets = 0;
    for (const auto& [kind, count] : t.counts) t.packets += kind == "damage" ? 0 : count;
    if (lanes_) {
        for (const auto& c : book_.nest().changes()) all_.cores[core_].density.add_event(c.time);
        lanes_->take(book_.nest());
        for (; doubts_told_ < t.doubtful.size(); ++doubts_told_)
            all_.doubt(static_cast<std::uint16_t>(core_), t.doubtful[doubts_told_].first,
                       t.doubtful[doubts_told_].second);
        all_.cores[core_].end = std::max(all_.cores[core_].end, t.end);
    } else {
        book_.nest().clear();
    }
    data_.take(t);
    all_.end = std::max(all_.end, t.end);
}

void GrowingSteps::finish() {
    split_.finish();
    reader_.finish();
    split_.drain();
    book_.finish();
    settle();
    if (lanes_) lanes_->finish(book_.nest().stack());
}

}  // namespace mt
