#include "flow/local_time.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace mt {
LocalTime::LocalTime(Clock clock, unsigned prescaler, Time base)
    : clock_(clock), prescaler_(prescaler), base_(base), now_(base) {
    const std::uint64_t common = std::gcd(std::uint64_t{1'000'000'000'000} * prescaler, clock.hz);
    ps_up_ = std::uint64_t{1'000'000'000'000} * prescaler / common;
    ps_down_ = clock.hz / common;
    inverse_ = ps_down_ == 1 ? 0 : ~std::uint64_t{0} / ps_down_ + 1;
    // So many ticks stay far inside a Time, whatever the clock.
    const unsigned __int128 most = (static_cast<unsigned __int128>(1) << 61) * ps_down_ / ps_up_;
    most_exact_ = most > static_cast<unsigned __int128>(kMostTicks) ? kMostTicks : static_cast<std::int64_t>(most);
}

// The very same as the clock's own conversion of all ticks, but from the last result on: the usual step takes
// one multiplication.
void LocalTime::advance(std::int64_t ticks) {
    ticks_ += ticks;
    std::uint64_t scaled = 0;
    if (ticks < 0 || __builtin_mul_overflow(static_cast<std::uint64_t>(ticks), ps_up_, &scaled) ||
        scaled >= (std::uint64_t{1} << 32) - ps_down_ || ps_down_ >= (std::uint64_t{1} << 31) || ticks_ > most_exact_) {
        renew_now();
        return;
    }
    scaled += rest_;
    const auto whole =
        static_cast<std::uint64_t>((static_cast<unsigned __int128>(scaled) * inverse_) >> 64);  // ps_down_ 1: see below
    whole_ps_ += static_cast<std::int64_t>(ps_down_ == 1 ? scaled : whole);
    rest_ = ps_down_ == 1 ? 0 : scaled - whole * ps_down_;
    now_ = {base_.ps + whole_ps_ + (rest_ + ps_down_ / 2 >= ps_down_ ? 1 : 0)};
}

void LocalTime::renew_now() {
    const auto ticks = static_cast<unsigned __int128>(ticks_) * ps_up_;
    if (ticks_ <= most_exact_) {
        whole_ps_ = static_cast<std::int64_t>(ticks / ps_down_);
        rest_ = static_cast<std::uint64_t>(ticks % ps_down_);
        now_ = {base_.ps + whole_ps_ + (rest_ + ps_down_ / 2 >= ps_down_ ? 1 : 0)};
        return;
    }
    now_ = clock_.at(ticks_ * static_cast<std::int64_t>(prescaler_));
    now_.ps = base_.ps > Time::max().ps - now_.ps ? Time::max().ps : now_.ps + base_.ps;
}

double LocalTime::global_rate() const {
    if (global_seen_ < 2 || global_last_ticks_ <= global_first_ticks_) return 0;
    const double rate = static_cast<double>(global_last_ - global_first_) /
                        (static_cast<double>(global_last_ticks_ - global_first_ticks_) * prescaler_);
    return std::fabs(rate - 1) < 0.02 ? 1.0 : rate;  // the same clock, read at slightly different moments
}

}  // namespace mt
