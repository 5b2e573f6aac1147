#include "flow/step_timer.h"

#include <bit>

namespace mt {

std::optional<StepMoment> StepTimer::tell(const StepTime& t, std::uint64_t step) {
    if (kind_ == StepClock::none) return std::nullopt;
    if (kind_ == StepClock::cycles) {
        if (t.kind == StepTime::Kind::cycles) {
            ticks_ += t.ticks;
            return StepMoment{step, start_ + core_.at(static_cast<std::int64_t>(ticks_))};
        }
        if (!have_origin_) {
            have_origin_ = true;
            origin_ = zero_ && *zero_ <= t.ticks ? *zero_ : t.ticks;
            if (zero_ && stamps_.clock().hz != 0) {
                ticks_ += static_cast<std::uint64_t>(
                    core_.clock().cycles(stamps_.at(static_cast<std::int64_t>(t.ticks - origin_))));
                return StepMoment{step, start_ + core_.at(static_cast<std::int64_t>(ticks_))};
            }
        }
        if (stamps_.clock().hz == 0 || t.ticks < origin_) return std::nullopt;
        if (!have_stamp_) {
            have_stamp_ = true;
            stamp_ticks_ = ticks_;
        }
        if (!lost_) return std::nullopt;
        // Cycles were lost: the timestamp tells how many at least.
        lost_ = false;
        const Time since = stamps_.at(static_cast<std::int64_t>(t.ticks - origin_));
        const auto cycles = stamp_ticks_ + static_cast<std::uint64_t>(core_.clock().cycles(since));
        if (cycles <= ticks_) return std::nullopt;
        ticks_ = cycles;
        return StepMoment{step, start_ + core_.at(static_cast<std::int64_t>(ticks_))};
    }
    if (t.kind == StepTime::Kind::cycles) return std::nullopt;
    if (!have_origin_) {
        have_origin_ = true;
        if (zero_ && *zero_ <= t.ticks) {
            origin_ = *zero_;
            ticks_ = t.ticks;
        } else {
            origin_ = t.ticks;
            // What ran before the first timestamp takes a cycle each.
            base_ = start_ + core_.at(static_cast<std::int64_t>(step));
        }
    }
    if (!believe(t.ticks, t.sent)) return std::nullopt;
    return StepMoment{step, base_ + stamps_.at(static_cast<std::int64_t>(ticks_ - origin_))};
}

bool StepTimer::believe(std::uint64_t ticks, unsigned sent) {
    constexpr unsigned kMostBehind = 8;
    if (ticks_ == 0) ticks_ = origin_;
    const bool itself = !damaged_ || static_cast<unsigned>(std::bit_width(ticks ^ ticks_)) <= sent;
    ++unbelieved_;
    if (ticks < ticks_) {
        if (!itself) return false;
        went_back_ = true;
        suspect_.reset();
        between_ = (behind_ == 0 || between_) && ticks >= before_;
        if (++behind_ < kMostBehind) return false;
        // All go on from the one before the last: that was the wrong one. Else the counter was set back, and time goes
        // on from there.
        if (!between_) {
            base_ += stamps_.at(static_cast<std::int64_t>(ticks_ - origin_));
            origin_ = ticks;
        }
        before_ = ticks_ = ticks;
        behind_ = 0;
        unbelieved_ = 0;
        return true;
    }
    // A core may sleep for long: in a stream without damage only what is very far ahead is doubted.
    const std::uint64_t step = ticks - ticks_;
    const std::uint64_t far =
        std::max(8 * widest_ * unbelieved_, damaged_ ? stamps_.clock().hz / 1000 : 10 * stamps_.clock().hz);
    if (step > far && (!suspect_ || ticks < *suspect_ || ticks - *suspect_ > far || !itself)) {
        suspect_ = ticks;
        return false;
    }
    suspect_.reset();
    behind_ = 0;
    unbelieved_ = 0;
    // How far timestamps stand apart is told by those with nothing missing between them.
    if (!std::exchange(lost_, false) && step <= far) widest_ = std::max(widest_, step);
    before_ = ticks_;
    ticks_ = ticks;
    return true;
}

StepSpan::StepSpan(const QuickClock& core, const StepMoment& from, const StepMoment& to,
                   std::span<const std::uint64_t> sleeps)
    : from_(from), to_(to), sleeps_(sleeps.data()), sleep_count_(sleeps.size()) {
    if (to_.step <= from_.step) return;
    steps_ = to_.step - from_.step;
    std::int64_t busy = std::max<std::int64_t>(0, to_.time.ps - from_.time.ps);
    if (sleep_count_ != 0) {
        asleep_ = std::max<std::int64_t>(0, busy - core.at(static_cast<std::int64_t>(steps_)).ps);
        busy -= asleep_;
        each_asleep_ = static_cast<std::uint64_t>(asleep_) / sleep_count_;
        left_asleep_ = static_cast<std::uint64_t>(asleep_) % sleep_count_;
    }
    constexpr std::int64_t kSoon = std::int64_t{1} << 50;
    if (busy < kSoon && steps_ < kSoon) {
        each_ = divide_soon(static_cast<std::uint64_t>(busy), steps_, left_);
    } else {
        each_ = static_cast<std::uint64_t>(busy) / steps_;
        left_ = static_cast<std::uint64_t>(busy) % steps_;
    }
}

}  // namespace mt
