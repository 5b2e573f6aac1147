// When instructions ran: which moments are known, and what a gap means for them. The one code for it: the pass and what
// decodes a window again both ask here, so that they say the same.
#pragma once

#include <optional>
#include <utility>

#include "flow/step_timer.h"

namespace mt {

/// Copyable: a copy is a part of a checkpoint. One thread at a time.
class StepTiming {
  public:
    explicit StepTiming(StepTimer timer) : timer_(timer) {}

    /// What lies between two moments can get its time.
    struct Stretch {
        StepMoment from, to;
        bool told = false;    ///< the trace itself told `from`
        bool exact = true;    ///< `to` is known
        bool unsure = false;  ///< timestamps in it lie before `from`: that may be wrong
    };

    /// The trace tells a time behind `step` instructions; nothing if it adds nothing.
    std::optional<Stretch> tell(const StepTime& t, std::uint64_t step) {
        const auto moment = timer_.tell(t, step);
        unsure_ = timer_.went_back() || unsure_;
        return moment ? std::optional(go_to(*moment, true)) : std::nullopt;
    }
    /// After a piece of the stream: without a clock, or where no moment came for very long, one instruction takes a
    /// cycle.
    std::optional<Stretch> settle(std::uint64_t step) {
        if (timer_.kind() == StepClock::none) return go_to({step, timer_.nominal(step)}, false);
        if (entries_ < kMostEntries) return std::nullopt;
        return go_to(assumed(step), false);
    }
    /// Tracing stops, for nobody knows how long: what ran since the last moment took a cycle each. Nothing before the first.
    std::optional<Stretch> stop(std::uint64_t step) {
        if (timer_.kind() == StepClock::none || !any_) return std::nullopt;
        Stretch s = go_to(assumed(step), false);
        s.exact = false;
        return s;
    }
    /// No more will come.
    Stretch finish(std::uint64_t step) { return go_to(assumed(step), false); }

    /// A function was entered, an exception came, something is missing: many of these wait for a moment.
    void entered() { ++entries_; }
    void sync() { ++syncs_; }
    /// Instructions are missing. Behind damaged or lost bytes the packets are found again at a wrong place now and
    /// then: what contradicts the program until the second synchronisation is damage, no fault of the image.
    void lose(StepGap& g) {
        timer_.lost(g.kind);
        if (g.kind == StepGapKind::damaged || g.kind == StepGapKind::lost)
            syncs_at_loss_ = syncs_;
        else if (g.kind != StepGapKind::stopped && g.kind != StepGapKind::no_vector && syncs_at_loss_ &&
                 syncs_ < *syncs_at_loss_ + 2)
            g.kind = StepGapKind::damaged;
    }

    /// The last known moment.
    const StepMoment& moment() const { return moment_; }
    std::uint64_t syncs() const { return syncs_; }
    StepClock kind() const { return timer_.kind(); }
    std::uint64_t origin() const { return timer_.origin(); }
    const QuickClock& core() const { return timer_.core(); }

  private:
    static constexpr std::uint64_t kMostEntries = std::uint64_t{1} << 19;

    StepMoment assumed(std::uint64_t step) const {
        return {step, moment_.time + (timer_.nominal(step) - timer_.nominal(moment_.step))};
    }
    Stretch go_to(StepMoment to, bool told) {
        if (!any_) {
            any_ = true;
            moment_ = timer_.before(to);
            told_ = false;
        }
        to.time = std::max(to.time, moment_.time);
        const Stretch s{moment_, to, told_, true, std::exchange(unsure_, false)};
        moment_ = to;
        told_ = told;
        entries_ = 0;
        return s;
    }

    StepTimer timer_;
    StepMoment moment_;
    bool any_ = false, told_ = false;  ///< any_: moment_ is known; told_: the trace told it
    bool unsure_ = false;              ///< see Stretch
    std::uint64_t entries_ = 0, syncs_ = 0;
    std::optional<std::uint64_t> syncs_at_loss_;  ///< how many there were when bytes were last missing or damaged
};

}  // namespace mt
