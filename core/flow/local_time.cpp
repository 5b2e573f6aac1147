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
    half_ = ps_down_ - ps_down_ / 2;
    whole_ps_ = base.ps;
    inverse_ = ps_down_ == 1 ? 0 : ~std::uint64_t{0} / ps_down_ + 1;
    if (ps_down_ < std::uint64_t{1} << 31) most_short_ = ((std::uint64_t{1} << 32) - 1 - ps_down_) / ps_up_;
    // So many ticks stay far inside a Time, whatever the clock.
    const unsigned __int128 most = (static_cast<unsigned __int128>(1) << 61) * ps_down_ / ps_up_;
    most_exact_ = most > static_cast<unsigned __int128>(kMostTicks) ? kMostTicks : static_cast<std::int64_t>(most);
}

LocalTime::Steady LocalTime::steady() const {
    Steady s;
    const bool whole = ps_down_ == 1;  // then in halves: 2^64 / 1 is no factor
    s.up_ = whole ? ps_up_ * 2 : ps_up_;
    s.down_ = whole ? 2 : ps_down_;
    s.half_ = half_;
    s.inverse_ = whole ? std::uint64_t{1} << 63 : inverse_;
    s.rest_ = rest_;
    s.stamps_ = timestamps_;
    s.whole_ps_ = whole_ps_;
    s.ticks_ = ticks_;
    s.now_ = now_;
    // Each byte of the stretch might be a timestamp: all of them together must leave the sum exact.
    const std::int64_t left = std::min(most_exact_, kMostTicks) - ticks_;
    s.most_ = left > 0 ? std::min(most_short_ / 2, static_cast<std::uint64_t>(left) / kSteadyBytes) : 0;
    return s;
}

void LocalTime::renew_now() {
    const auto ticks = static_cast<unsigned __int128>(ticks_) * ps_up_;
    if (ticks_ <= most_exact_) {
        whole_ps_ = base_.ps + static_cast<std::int64_t>(ticks / ps_down_);
        rest_ = static_cast<std::uint64_t>(ticks % ps_down_);
        now_ = {whole_ps_ + (rest_ >= half_ ? 1 : 0)};
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
