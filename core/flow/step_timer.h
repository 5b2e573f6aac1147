// When instructions ran: known moments come from the trace, what lies between is interpolated.
#pragma once

#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "base/quick_divide.h"
#include "base/time.h"
#include "flow/steps.h"

namespace mt {

/// How the moments of instructions are known.
enum class StepClock : std::uint8_t {
    cycles,      ///< counted in core cycles, interpolated between counts
    timestamps,  ///< between timestamps of the trace
    none,        ///< not at all: one instruction is taken for one cycle
};

/// A known moment: so many steps had been taken by then.
struct StepMoment {
    std::uint64_t step = 0;
    Time time;
};

/// Gives steps their times: known moments come from the trace, what lies between is interpolated.
class StepTimer {
  public:
    /// `zero`: what the timestamps read at the recording's zero; without it, the stream begins at `start`.
    StepTimer(StepClock kind, Clock core, Clock stamps, std::optional<std::uint64_t> zero = {}, Time start = {})
        : kind_(kind), core_(core), stamps_(stamps), zero_(zero), start_(zero ? Time{} : start), base_(start_) {}

    /// A moment told behind `step` instructions; nothing if it adds nothing.
    std::optional<StepMoment> tell(const StepTime& t, std::uint64_t step);
    /// Without any clock: the moment of `step`, one instruction a cycle.
    Time nominal(std::uint64_t step) const { return base_ + core_.at(static_cast<std::int64_t>(step)); }
    const QuickClock& core() const { return core_; }
    /// The moment of the first instruction once the first moment is known.
    StepMoment before(const StepMoment& first) const {
        if (!zero_) return {0, start_};
        return {0, std::max(Time{}, first.time - core_.at(static_cast<std::int64_t>(first.step)))};
    }
    /// A moment was told.
    bool begun() const { return have_origin_; }
    void lost(StepGapKind kind) {
        lost_ = true;
        damaged_ = damaged_ || is_missing(kind);
    }
    /// Whether a timestamp can be believed: one that lies far ahead of all, or behind, only if others bear it out.
    /// Where something was damaged, only one that sends the bits itself by which it lies ahead (see StepTime::sent).
    bool believe(std::uint64_t ticks, unsigned sent);
    /// Since it was asked last, a timestamp lay before the one believed: one of them is wrong, or the counter was set
    /// back.
    bool went_back() { return std::exchange(went_back_, false); }
    StepClock kind() const { return kind_; }
    std::uint64_t origin() const { return origin_; }
    std::uint64_t ticks() const { return ticks_; }

  private:
    StepClock kind_;
    QuickClock core_, stamps_;
    std::optional<std::uint64_t> zero_;
    Time start_, base_;
    std::uint64_t origin_ = 0, ticks_ = 0;  ///< ticks_: cycles, or the last timestamp
    bool have_origin_ = false, lost_ = false;
    bool went_back_ = false;
    bool damaged_ = false;                  ///< something was: timestamps are looked at more closely
    std::uint64_t widest_ = 0;              ///< largest step from timestamp to timestamp that was believed
    std::optional<std::uint64_t> suspect_;  ///< a timestamp far ahead that the next one must bear out
    std::uint64_t unbelieved_ = 0;          ///< timestamps since the last one believed
    unsigned behind_ = 0;                   ///< timestamps in a row that lie before the last one believed
    std::uint64_t before_ = 0;              ///< the one believed before the last
    bool between_ = false;                  ///< all that lie behind lie between these two
    std::uint64_t stamp_ticks_ = 0;         ///< cycles: the cycles at the first timestamp
    bool have_stamp_ = false;
};

/// The steps between two known moments. Where the core waited (`sleeps`: steps behind such instructions, ascending),
/// the others take a cycle each and the waiting takes the rest; else all take the same. `sleeps` must outlive it.
class StepSpan {
  public:
    StepSpan(const QuickClock& core, const StepMoment& from, const StepMoment& to,
             std::span<const std::uint64_t> sleeps);

    Time at(std::uint64_t step) const {
        std::size_t slept = 0;
        return at(step, slept);
    }
    /// The same for steps that ascend from call to call: `slept` is 0 at first, and kept between.
    Time at(std::uint64_t step, std::size_t& slept) const {
        const std::uint64_t n = step - from_.step;
        if (step <= from_.step || n >= steps_) {
            if (n >= steps_ && step >= to_.step) return to_.time;
            if (step < from_.step || sleep_count_ == 0 || sleeps_[0] > step) return from_.time;  // else it begins with a pause
        }
        std::uint64_t ps = each_ * n + share(n);
        if (asleep_ > 0) {
            while (slept < sleep_count_ && sleeps_[slept] <= step) ++slept;
            ps += each_asleep_ * slept;
            if (slept == sleep_count_)
                ps += left_asleep_;
            else if (slept != 0)
                ps += left_asleep_ * slept / sleep_count_;
        }
        return {from_.time.ps + static_cast<std::int64_t>(ps)};
    }

    /// How long the core waited altogether, and each time.
    Time asleep() const { return {asleep_}; }
    Time each_asleep() const { return {static_cast<std::int64_t>(each_asleep_)}; }

  private:
    // left_ * n / steps_, rounded down. With part_ = left_ * 2^64 / steps_ rounded up, the product is too large by less
    // than n / 2^64, and that is less than 1 / steps_ while both have 32 bits at most.
    std::uint64_t share(std::uint64_t n) const {
        if (steps_ >> 32 != 0) return static_cast<std::uint64_t>(static_cast<unsigned __int128>(left_) * n / steps_);
        if (left_ == 0) return 0;
        if (part_ == 0) divide();
        return static_cast<std::uint64_t>(static_cast<unsigned __int128>(n) * part_ >> 64);
    }
    void divide() const {
        std::uint64_t rest = left_;
        if (steps_ >> 30 == 0) {  // 32 bits of the quotient, and the next 32; rounded up
            const std::uint64_t high = divide_soon(rest << 32, steps_, rest);
            const std::uint64_t low = divide_soon(rest << 32, steps_, rest);
            part_ = (high << 32 | low) + (rest != 0 ? 1 : 0);
        } else {
            part_ = static_cast<std::uint64_t>(((static_cast<unsigned __int128>(left_) << 64) + steps_ - 1) / steps_);
        }
    }
    const StepMoment from_, to_;
    const std::uint64_t* sleeps_;
    std::size_t sleep_count_;
    std::uint64_t steps_ = 0, each_ = 0, left_ = 0;  ///< picoseconds a step, and what does not divide …
    mutable std::uint64_t part_ = 0;                 ///< … as a part of a step, once it is asked for
    std::uint64_t each_asleep_ = 0, left_asleep_ = 0;
    std::int64_t asleep_ = 0;
};

/// If the core waited in this run, which begins with `step`: adds the step behind.
inline void note_sleep(const Code& code, const StepRun& r, std::uint64_t step, std::vector<std::uint64_t>& sleeps) {
    if ((code[r.first].flags & FlowInsn::kSleepAhead) == 0) return;
    std::uint32_t nth = 0;
    if (code.sleep_in(r.first, r.last, nth) != Code::kNowhere) sleeps.push_back(step + nth + 1);
}

}  // namespace mt
