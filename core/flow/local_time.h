// Local timestamps of an ITM stream turned into bounded times for the packets before them.
// Armv7-M ARM D4.2.4 (local timestamps), D4.2.5 (global timestamps).
#pragma once

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <span>
#include <vector>

#include "base/time.h"
#include "wire/itm.h"

namespace mt {

/// A packet and when what it tells of happened: after `earliest`, not after `latest`; both equal when
/// the timestamp is synchronous. `latest` never decreases along a stream.
struct TimedPacket {
    ItmPacket packet;
    Time earliest, latest;
};

/// Sums up local timestamps. A timestamp dates all packets since the one before it. Copyable: a copy
/// is a checkpoint. One thread at a time.
///
/// After damage, timestamps are missing, so the sum runs behind. If global timestamps stood before and
/// stand after, their difference restores the lost time (packets are held back until then, at most
/// kMostHeld); otherwise the length of the gap stays unknown, and `unknown_lengths` counts it.
class LocalTime {
  public:
    static constexpr std::size_t kMostPending = 1 << 16, kMostHeld = 1 << 17;

    /// `prescaler`: core cycles per tick (TPIU/ITM_TCR.TSPrescale); `clock`: the core's; `base`: the time
    /// of tick 0.
    LocalTime(Clock clock, unsigned prescaler, Time base = {});

    /// `out` takes each timed packet with push_back: a vector, or whoever wants them one by one.
    template <class Out>
    void feed(std::span<const ItmPacket> packets, Out& out);
    /// True if `wait` and `pair` may be called: no time was lost, and not too much waits for its time.
    bool plain() const { return !holding_ && pending_.size() + 1 < kMostPending; }
    /// The same as `feed` of one packet that tells nothing of the time. REQUIRES: plain().
    void wait(ItmPacket packet) { pending_.push_back(packet); }
    /// The same as `feed` of one such packet, or none, and the local timestamp behind it. REQUIRES: plain(). `out`
    /// takes them with `take`, and the timestamp, which tells nothing but the time, with `take_time`.
    template <class Out>
    void pair(bool any, const ItmPacket& packet, const ItmPacket& stamp, Out& out) {
        const Time before = now_;
        const bool synchronous = is_synchronous(stamp);
        ++timestamps_;
        advance(std::min(static_cast<std::int64_t>(stamp.value), kMostTicks - ticks_));
        date_pending(before, synchronous, now_, out);
        if (any) out.take(packet, synchronous ? now_ : before, now_);
        out.take_time(stamp, now_);
    }
    /// What changes while packets and their timestamps alternate: kept by whoever takes many of them in a row.
    class Steady {
      public:
        /// True if `pair` may be called with this timestamp.
        bool takes(const ItmPacket& stamp) const { return stamp.value < most_; }
        template <class Out>
        __attribute__((always_inline)) void pair(bool any, const ItmPacket& packet, const ItmPacket& stamp, Out& out) {
            const Time before = now_;
            ticks_ += static_cast<std::int64_t>(stamp.value);
            ++stamps_;
            const std::uint64_t scaled = stamp.value * up_ + rest_;
            const auto whole = static_cast<std::uint64_t>((static_cast<unsigned __int128>(scaled) * inverse_) >> 64);
            whole_ps_ += static_cast<std::int64_t>(whole);
            rest_ = scaled - whole * down_;
            now_ = {whole_ps_ + (rest_ >= half_ ? 1 : 0)};
            if (any) out.take(packet, (stamp.number & 3) == 0 ? now_ : before, now_);  // see is_synchronous
            out.take_time(stamp, now_);
        }

      private:
        friend LocalTime;
        std::uint64_t up_, down_, half_, inverse_, most_, rest_, stamps_;
        std::int64_t whole_ps_, ticks_;
        Time now_;
    };
    /// For a stretch of at most kSteadyBytes bytes.
    Steady steady() const;
    static constexpr std::size_t kSteadyBytes = 1 << 20;
    /// Goes on where it is. REQUIRES: steady() gave it since the last change.
    void go_on(const Steady& from) {
        timestamps_ = from.stamps_;
        ticks_ = from.ticks_;
        whole_ps_ = from.whole_ps_;
        rest_ = from.rest_;
        now_ = from.now_;
    }
    /// True if packets wait for their time.
    bool waiting() const { return !pending_.empty(); }
    /// The end of the stream: dates what still waits with the last known time.
    template <class Out>
    void finish(Out& out);

    std::int64_t ticks() const { return ticks_; }
    std::uint64_t timestamps() const { return timestamps_; }
    /// Packets that had to be let go without a timestamp behind them.
    std::uint64_t undated() const { return undated_; }
    std::uint64_t unknown_lengths() const { return unknown_lengths_; }
    std::uint64_t restored_lengths() const { return restored_lengths_; }
    std::uint64_t clock_changes() const { return clock_changes_; }
    /// Global timestamp counts per core cycle as the timestamps say so far; 0 while unknown.
    double global_rate() const;

  private:
    static constexpr std::int64_t kMostTicks = std::int64_t{1} << 56;  ///< far past any recording
    static TimedPacket dated(const ItmPacket& p, Time before, bool synchronous, Time latest) {
        const bool loss = p.kind == ItmKind::damage || p.kind == ItmKind::overflow;
        return {p, synchronous && !loss ? latest : before, latest};
    }
    // TC != 0: the timestamp or the packet came late, so what it dates happened before (D4.2.4).
    static bool is_synchronous(const ItmPacket& stamp) {
        return stamp.kind == ItmKind::local_time_2 || (stamp.number & 3) == 0;
    }
    template <class Out>
    void date(std::span<const ItmPacket> packets, Time before, bool synchronous, Time latest, Out& out);
    template <class Out>
    __attribute__((noinline)) void date_pending(Time before, bool synchronous, Time latest, Out& out);
    template <class Out>
    void hand_on(const TimedPacket& packet, Out& out);
    template <class Out>
    void release(std::int64_t shift_ticks, Out& out);
    template <class Out>
    void global(const ItmPacket& packet, Out& out);
    void renew_now();
    void advance(std::int64_t ticks);

    Clock clock_;
    unsigned prescaler_;
    std::uint64_t ps_up_, ps_down_;  ///< picoseconds per tick as a fraction in lowest terms
    std::uint64_t inverse_;          ///< 2^64 / ps_down_, rounded up: divides small numbers by multiplying
    std::uint64_t most_short_ = 0;   ///< so many ticks at once: their picoseconds and the division stay exact
    std::int64_t most_exact_ = 0;
    std::uint64_t half_;         ///< half of ps_down_, rounded up
    std::int64_t whole_ps_ = 0;  ///< base_ and ticks_ in picoseconds, rounded down …
    std::uint64_t rest_ = 0;     ///< … and what is left over, in parts of ps_down_
    std::int64_t ticks_ = 0;
    Time base_, now_;  ///< now_: the time of ticks_
    std::vector<ItmPacket> pending_;
    std::vector<TimedPacket> held_;
    bool holding_ = false;
    std::uint64_t timestamps_ = 0, undated_ = 0, unknown_lengths_ = 0, restored_lengths_ = 0, clock_changes_ = 0;
    // Global time: the low 26 bits unwrapped into a running count, from the first on.
    bool have_global_ = false;
    std::uint64_t global_first_ = 0, global_last_ = 0, global_seen_ = 0;
    std::int64_t global_first_ticks_ = 0, global_last_ticks_ = 0;
};

// The very same as the clock's own conversion of all ticks, but from the last result on: the usual step takes
// one multiplication.
inline void LocalTime::advance(std::int64_t ticks) {
    ticks_ += ticks;
    if (static_cast<std::uint64_t>(ticks) > most_short_ || ticks_ > most_exact_) {
        renew_now();
        return;
    }
    const std::uint64_t scaled = static_cast<std::uint64_t>(ticks) * ps_up_ + rest_;
    const auto whole =
        ps_down_ == 1 ? scaled : static_cast<std::uint64_t>((static_cast<unsigned __int128>(scaled) * inverse_) >> 64);
    whole_ps_ += static_cast<std::int64_t>(whole);
    rest_ = scaled - whole * ps_down_;
    now_ = {whole_ps_ + (rest_ >= half_ ? 1 : 0)};
}

template <class Out>
void LocalTime::hand_on(const TimedPacket& packet, Out& out) {
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
template <class Out>
void LocalTime::release(std::int64_t shift_ticks, Out& out) {
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
template <class Out>
void LocalTime::date(std::span<const ItmPacket> packets, Time before, bool synchronous, Time latest, Out& out) {
    if (!holding_) {
        for (const ItmPacket& p : packets) out.push_back(dated(p, before, synchronous, latest));
        return;
    }
    for (const ItmPacket& p : packets) hand_on(dated(p, before, synchronous, latest), out);
}

template <class Out>
void LocalTime::date_pending(Time before, bool synchronous, Time latest, Out& out) {
    if (pending_.empty()) return;
    // Handing on may begin or end holding, never add to what is pending.
    date(pending_, before, synchronous, latest, out);
    pending_.clear();
}

template <class Out>
void LocalTime::global(const ItmPacket& packet, Out& out) {
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

template <class Out>
void LocalTime::feed(std::span<const ItmPacket> packets, Out& out) {
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
            const bool synchronous = is_synchronous(p);
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

template <class Out>
void LocalTime::finish(Out& out) {
    for (const ItmPacket& p : pending_) undated_ += itm_is_event(p.kind) && p.kind != ItmKind::damage ? 1 : 0;
    date_pending(now_, false, now_, out);
    if (holding_) {
        ++unknown_lengths_;
        release(0, out);
    }
}

}  // namespace mt
