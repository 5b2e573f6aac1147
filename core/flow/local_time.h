// Local timestamps of an ITM stream turned into bounded times for the packets before them.
// Armv7-M ARM D4.2.4 (local timestamps), D4.2.5 (global timestamps).
#pragma once

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

    void feed(std::span<const ItmPacket> packets, std::vector<TimedPacket>& out);
    /// The end of the stream: dates what still waits with the last known time.
    void finish(std::vector<TimedPacket>& out);

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
    void date(std::span<const ItmPacket> packets, Time before, bool synchronous, Time latest,
              std::vector<TimedPacket>& out);
    void date_pending(Time before, bool synchronous, Time latest, std::vector<TimedPacket>& out);
    void hand_on(const TimedPacket& packet, std::vector<TimedPacket>& out);
    void release(std::int64_t shift_ticks, std::vector<TimedPacket>& out);
    void global(const ItmPacket& packet, std::vector<TimedPacket>& out);
    void renew_now();
    void advance(std::int64_t ticks);

    Clock clock_;
    unsigned prescaler_;
    std::uint64_t ps_up_, ps_down_;  ///< picoseconds per tick as a fraction in lowest terms
    std::uint64_t inverse_;          ///< 2^64 / ps_down_, rounded up: divides small numbers by multiplying
    std::int64_t most_exact_ = 0;
    std::int64_t whole_ps_ = 0;      ///< ticks_ in picoseconds, rounded down …
    std::uint64_t rest_ = 0;         ///< … and what is left over, in parts of ps_down_
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

}  // namespace mt
