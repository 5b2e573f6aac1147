// What instruction trace of one core tells: counts, the call stack over time, and where to decode again.
#pragma once

#include <algorithm>
#include <array>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "base/column.h"
#include "base/quick_divide.h"
#include "base/time.h"
#include "flow/call_stack.h"
#include "flow/step_pipe.h"
#include "target/inlines.h"

namespace mt {

/// How the moments of instructions are known.
enum class StepClock : std::uint8_t {
    cycles,      ///< counted in core cycles, interpolated between counts
    timestamps,  ///< between timestamps of the trace
    none,        ///< not at all: one instruction is taken for one cycle
};

/// One stay of a function on the stack. Steps count instructions of the stream.
struct CallSpan {
    static_assert(FunctionTable::kMost <= std::size_t{1} << 18);
    Time begin, length;
    std::uint64_t step : 40;  ///< of its first instruction
    std::uint64_t function : 18;
    std::uint64_t flags : 6;  ///< CallFrame::Flag

    /// Fills the fields, one word after the other. `step`, `function` and `flags` are cut to what fits.
    [[gnu::always_inline]] void set(Time b, Time l, std::uint64_t s, std::uint32_t f, unsigned more) {
        struct Plain {
            Time begin, length;
            std::uint64_t rest;
        };
        static_assert(sizeof(Plain) == 24);
        const std::uint64_t rest = (s & ((std::uint64_t{1} << 40) - 1)) |
                                   static_cast<std::uint64_t>(f & ((1u << 18) - 1)) << 40 |
                                   static_cast<std::uint64_t>(more & 63u) << 58;
        begin = b;
        length = l;
        std::memcpy(reinterpret_cast<char*>(this) + offsetof(Plain, rest), &rest, sizeof rest);
    }
    Time end() const { return begin + length; }
    bool whole() const { return (flags & (CallFrame::kCutBegin | CallFrame::kCutEnd | CallFrame::kContinued)) == 0; }
};

/// All spans at one depth of the stack: they never overlap. Copies are snapshots.
class CallLevel {
  public:
    /// See CallSpan::set.
    [[gnu::always_inline]] void append(Time begin, Time length, std::uint64_t step, std::uint32_t function,
                                       unsigned flags) {
        spans_.add().set(begin, length, step, function, flags);
        longest_.push_back(length);
    }
    std::size_t size() const { return spans_.size(); }
    const CallSpan& operator[](std::size_t i) const { return spans_[i]; }
    /// Spans that touch [from, to): indices [first, second).
    std::pair<std::size_t, std::size_t> touching(Time from, Time to) const;
    /// The span that covers `t`, if any; of spans without length the last.
    std::optional<std::size_t> at(Time t) const;
    /// The span that began last by `step`, if any; it may have ended before.
    std::optional<std::size_t> begun_by(std::uint64_t step) const {
        const std::size_t next = spans_.partition_point([step](const CallSpan& s) { return s.step <= step; });
        return next == 0 ? std::nullopt : std::optional(next - 1);
    }
    std::size_t longest(std::size_t first, std::size_t last) const {
        return longest_.argmax(first, last, [this](std::size_t i) { return spans_[i].length; });
    }

  private:
    Column<CallSpan> spans_;
    RangeMax<Time> longest_;
};

/// Calls over time, in kBuckets equal stretches that double in width when the recording outgrows them.
struct CallRate {
    static constexpr std::size_t kBuckets = 64;
    Time width{1'000'000'000};
    std::array<std::uint32_t, kBuckets> calls{};
    void add(Time t) {
        if (static_cast<std::uint64_t>(t.ps - begin.ps) >= static_cast<std::uint64_t>(width.ps)) find(t);
        ++calls[latest];
    }

  private:
    void find(Time t) {
        t.ps = std::max<std::int64_t>(0, t.ps);
        while (t.ps / width.ps >= static_cast<std::int64_t>(kBuckets)) {
            for (std::size_t i = 0; i < kBuckets; ++i)
                calls[i] = 2 * i < kBuckets ? calls[2 * i] + calls[2 * i + 1] : 0;
            width.ps *= 2;
        }
        latest = static_cast<std::uint32_t>(t.ps / width.ps);
        begin.ps = width.ps * latest;
    }
    Time begin;  ///< of the stretch filled last
    std::uint32_t latest = 0;
};

/// Figures of one function. A call's duration is from its entry to its exit; its work is that without what handlers
/// took that preempted it. Own time is work without callees.
struct FunctionTally {
    std::uint64_t calls = 0;             ///< whole calls
    std::uint64_t left_out = 0;          ///< entered, but the end was not seen, or the stack was switched meanwhile
    std::uint64_t unseen = 0;            ///< pieces of calls whose entry was not seen, or counted in an earlier piece
    std::uint64_t recursive = 0;         ///< calls while it was on the stack already
    std::uint64_t unwound = 0;           ///< left without returning
    std::uint64_t steps = 0;             ///< instructions of its own
    Time own;                            ///< of all calls
    Time inclusive;                      ///< durations of all calls that are not within another call of the same
    Time preempted;                      ///< … of these, what handlers took
    Time work;                           ///< of all whole calls
    Time most_work;                      ///< of one whole call
    double squares = 0;                  ///< of work in nanoseconds, whole calls
    Time least = Time::max(), greatest;  ///< durations of whole calls
    Time whole_preempted;                ///< durations less work, of all whole calls …
    double more_squares = 0;             ///< … and squares of durations less those of work, in nanoseconds
    CallRate rate;                       ///< entries
    struct Place {
        std::uint32_t level = 0;
        std::uint64_t index = 0;
    } worst,      ///< the call with the most work
        longest;  ///< the call that lasted longest
};

/// A function as called by its callers up to the root.
struct CallNode {
    std::uint32_t parent = 0, function = 0;  ///< node 0 is the root; it is no function
    std::uint64_t calls = 0, left_out = 0, steps = 0;
    Time own, inclusive;
};

/// How often each instruction was executed, exactly. Immutable once finished.
struct StepCounters {
    std::vector<std::uint64_t> begins, ends;  ///< runs that begin, and end, at each slot
    /// Executions of every slot's instruction; 0 where none begins.
    std::vector<std::uint64_t> executions(const Code& code) const;
};

/// A gap, and when.
struct StepGapAt {
    StepGap gap;
    std::uint64_t step = 0;
    Time begin, end;
};

/// An exception, and when.
struct StepTrapAt {
    StepTrap trap;
    std::uint64_t step = 0;  ///< of the first instruction behind it
    Time time;
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
        if (step <= from_.step || n >= steps_) return n >= steps_ && step >= to_.step ? to_.time : from_.time;
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

class StepTiming;

/// From here the stream is decoded again.
struct StepCheckpoint {
    std::uint64_t raw_offset = 0;
    std::uint64_t step = 0;
    std::shared_ptr<const StepPipe> pipe;
    std::shared_ptr<const CallStack> stack;
    std::shared_ptr<const StepTiming> timing;
};

/// Bytes of the stream are missing: it ends at `at`, and goes on at `on` of the file (the same, or further). A
/// checkpoint stands there.
struct StepLoss {
    std::uint64_t at = 0, on = 0;
};

struct StepTrail {
    std::string file, core;
    std::size_t stream = 0, core_index = 0;  ///< stream: index into the recording's step streams
    std::uint64_t raw_bytes = 0, read_bytes = 0, bytes = 0, bad_bytes = 0, steps = 0, packets = 0, unmatched = 0;
    std::uint64_t lead_in = 0;  ///< bytes before the first packet: they cannot be read
    /// Stretches that timestamps end which lie before one that came earlier, and where the first begins.
    std::uint64_t times_back = 0;
    Time first_back;
    std::map<std::string, std::uint64_t> counts;          ///< packets by kind
    std::map<unsigned, SourceIds::Others> other_sources;  ///< in the same stream, by source ID: not taken
    StepClock clock = StepClock::none;
    std::uint64_t origin = 0;  ///< first timestamp, in its own ticks
    std::uint64_t exact = 0;   ///< known moments
    Time begin, end;
    std::shared_ptr<const Code> code;
    std::shared_ptr<const FunctionTable> functions;
    std::shared_ptr<const InlineTable> inlines = std::make_shared<const InlineTable>();
    std::vector<CallLevel> levels;       ///< [0] is the outermost
    std::vector<FunctionTally> tallies;  ///< per function of the table
    std::vector<CallNode> tree;
    Column<StepGapAt> gaps;
    /// Around gaps, from the last known moment before up to the second synchronisation behind: what ran there, and
    /// when, may be wrong though it is shown. Ascending.
    Column<std::pair<Time, Time>> doubtful;
    bool trusted(Time from, Time to) const {
        const std::size_t i = doubtful.partition_point([from](const auto& d) { return d.second < from; });
        return i == doubtful.size() || to < doubtful[i].first;
    }
    Column<StepTrapAt> traps;
    Column<StepCheckpoint> checkpoints;
    std::vector<StepLoss> losses;                  ///< ascending
    Column<StepMoment> moments;                    ///< thinned: enough to find a step's time by decoding little
    std::shared_ptr<const StepCounters> counters;  ///< once complete
    std::optional<StepGapAt> contradiction;        ///< the first
    std::uint64_t contradictions = 0, syncs = 0;
};

}  // namespace mt
