#include "flow/local_time.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace mt {
namespace {
constexpr std::int64_t kMostTicks = std::int64_t{1} << 56;  // far past any recording; keeps products in range
}

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

void LocalTime::hand_on(const TimedPacket& packet, std::vector<TimedPacket>& out) {
    if (!holding_) {
        out.push_back(packet);
        return;
    }
    held_.push_back(packet);
    if (held_.size() >= kMostHeld) {
        ++unknown_lengths_;
        release(0, out);
    }
}

// Ends holding: what was held moves later by the time that the gap swallowed.
void LocalTime::release(std::int64_t shift_ticks, std::vector<TimedPacket>& out) {
    if (!holding_) return;
    holding_ = false;
    ticks_ += shift_ticks;
    const Time before = now_;
    renew_now();
    const Time shift = now_ - before;  // not the shift's own conversion: rounding must not turn time back
    bool past_gap = false;
    for (TimedPacket& held : held_) {
        // The damage itself spans from the last time before it to the first after it.
        if (past_gap) held.earliest += shift;
        past_gap = past_gap || held.packet.kind == ItmKind::damage;
        held.latest += shift;
        out.push_back(held);
    }
    held_.clear();
}

// `before` is the last known time: a loss reaches back to it however exact the timestamp behind it is.
void LocalTime::date(std::span<const ItmPacket> packets, Time before, bool synchronous, Time latest,
                     std::vector<TimedPacket>& out) {
    if (packets.empty()) return;
    const auto dated = [&](const ItmPacket& p) {
        const bool loss = p.kind == ItmKind::damage || p.kind == ItmKind::overflow;
        return TimedPacket{p, synchronous && !loss ? latest : before, latest};
    };
    if (!holding_) {
        for (const ItmPacket& p : packets) out.push_back(dated(p));
        return;
    }
    for (const ItmPacket& p : packets) hand_on(dated(p), out);
}

void LocalTime::date_pending(Time before, bool synchronous, Time latest, std::vector<TimedPacket>& out) {
    if (pending_.empty()) return;
    // Handing on may begin or end holding, never add to what is pending.
    date(pending_, before, synchronous, latest, out);
    pending_.clear();
}

void LocalTime::global(const ItmPacket& packet, std::vector<TimedPacket>& out) {
    if (packet.kind != ItmKind::global_time_1) return;
    if ((packet.number & 1) != 0) ++clock_changes_;
    if (!have_global_) {
        have_global_ = true;
        global_first_ = global_last_ = packet.value;
        global_first_ticks_ = global_last_ticks_ = ticks_;
        global_seen_ = 1;
        return;
    }
    const double rate = global_rate();
    // Only the low bits that changed since the packet before are sent: seven for each byte, 26 with four
    // (D4.2.5). Bits that changed in packets that were lost show in the local time, if that is whole.
    const std::uint64_t turn = std::uint64_t{1} << std::min(26, 7 * std::max<int>(1, packet.size));
    if (holding_ && packet.size < 4) return;
    std::uint64_t step = (packet.value - global_last_) & (turn - 1);
    const std::int64_t passed = (ticks_ - global_last_ticks_) * static_cast<std::int64_t>(prescaler_);
    if (rate > 0) {
        const double expected = static_cast<double>(passed) * rate;
        const double turns = std::round((expected - static_cast<double>(step)) / static_cast<double>(turn));
        if (turns > 0 && turns < 1e9) step += static_cast<std::uint64_t>(turns) * turn;
    }
    if (holding_ && rate > 0) {
        const double missing = static_cast<double>(step) / rate - static_cast<double>(passed);
        const auto shift = static_cast<std::int64_t>(std::max(0.0, missing) / prescaler_);
        ++restored_lengths_;
        release(std::min(shift, kMostTicks - ticks_), out);
    }
    global_last_ += step;
    global_last_ticks_ = ticks_;
    ++global_seen_;
}

double LocalTime::global_rate() const {
    if (global_seen_ < 2 || global_last_ticks_ <= global_first_ticks_) return 0;
    const double rate = static_cast<double>(global_last_ - global_first_) /
                        (static_cast<double>(global_last_ticks_ - global_first_ticks_) * prescaler_);
    return std::fabs(rate - 1) < 0.02 ? 1.0 : rate;  // the same clock, read at slightly different moments
}

void LocalTime::feed(std::span<const ItmPacket> packets, std::vector<TimedPacket>& out) {
    std::size_t group = 0;  // what waits for a timestamp: pending_, then packets from here on
    const auto keep = [&](std::size_t until) {
        pending_.insert(pending_.end(), packets.begin() + static_cast<std::ptrdiff_t>(group),
                        packets.begin() + static_cast<std::ptrdiff_t>(until));
        group = until;
    };
    for (std::size_t i = 0; i < packets.size(); ++i) {
        const ItmPacket& p = packets[i];
        if (p.kind == ItmKind::local_time_1 || p.kind == ItmKind::local_time_2) {
            const Time before = now_;
            ++timestamps_;
            advance(std::min(static_cast<std::int64_t>(p.value), kMostTicks - ticks_));
            // TC != 0: the timestamp or the packet came late, so what it dates happened before (D4.2.4).
            const bool synchronous = p.kind == ItmKind::local_time_2 || (p.number & 3) == 0;
            date_pending(before, synchronous, now_, out);
            date(packets.subspan(group, i - group), before, synchronous, now_, out);
            group = i + 1;
            if (holding_)
                hand_on({p, now_, now_}, out);
            else
                out.push_back({p, now_, now_});
        } else if (p.kind == ItmKind::global_time_1) {
            keep(i);
            global(p, out);
        } else if (p.kind == ItmKind::damage) {
            keep(i);
            if (holding_) {
                ++unknown_lengths_;
                release(0, out);
            }
            date_pending(now_, false, now_, out);
            if (p.offset != 0 || ticks_ != 0) {
                if (global_rate() > 0) {
                    holding_ = true;
                } else {
                    ++unknown_lengths_;
                }
            }
        }
        if (pending_.size() + (i + 1 - group) >= kMostPending) {
            keep(i + 1);
            undated_ += pending_.size();
            date_pending(now_, false, now_, out);
        }
    }
    keep(packets.size());
}

void LocalTime::finish(std::vector<TimedPacket>& out) {
    for (const ItmPacket& p : pending_) undated_ += itm_is_event(p.kind) && p.kind != ItmKind::damage ? 1 : 0;
    date_pending(now_, false, now_, out);
    if (holding_) {
        ++unknown_lengths_;
        release(0, out);
    }
}

}  // namespace mt
