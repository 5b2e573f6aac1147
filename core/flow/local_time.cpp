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
    if (ps_down_ < std::uint64_t{1} << 31) most_short_ = ((std::uint64_t{1} << 32) - 1 - ps_down_) / ps_up_;
    // So many ticks stay far inside a Time, whatever the clock.
    const unsigned __int128 most = (static_cast<unsigned __int128>(1) << 61) * ps_down_ / ps_up_;
    most_exact_ = most > static_cast<unsigned __int128>(kMostTicks) ? kMostTicks : static_cast<std::int64_t>(most);
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
