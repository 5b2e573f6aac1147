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
#include "base/time.h"
#include "flow/call_frame.h"
#include "flow/step_timer.h"
#include "flow/steps.h"
#include "target/core_state.h"
#include "target/functions.h"
#include "target/inlines.h"
#include "wire/source_ids.h"

namespace mt {

/// One stay of a function on the stack. Steps count instructions of the stream.
struct CallSpan {
    Time begin, length;
    std::uint64_t step = 0;  ///< of its first instruction
    std::uint32_t function = 0;
    std::uint8_t flags = 0;  ///< CallFrame::Flag

    Time end() const { return begin + length; }
    bool whole() const { return (flags & (CallFrame::kCutBegin | CallFrame::kCutEnd | CallFrame::kContinued)) == 0; }
};

/// All spans at one depth of the stack: they never overlap. Copies are snapshots.
class CallLevel {
  public:
    /// Steps above 2^40 are cut.
    [[gnu::always_inline]] void append(Time begin, Time length, std::uint64_t step, std::uint32_t function,
                                       unsigned flags) {
        spans_.add().set(begin, length, step, function, flags);
        longest_.push_back(length);
        if (function >= Row::kFunctions || high_.size() != 0) [[unlikely]]
            append_high(function);
    }
    std::size_t size() const { return spans_.size(); }
    CallSpan operator[](std::size_t i) const {
        const Row& r = spans_[i];
        return {r.begin, r.length, r.rest & (Row::kSteps - 1), function(i),
                static_cast<std::uint8_t>(r.rest >> Row::kFlagsAt)};
    }
    Time begin(std::size_t i) const { return spans_[i].begin; }
    std::uint32_t function(std::size_t i) const {
        const auto low = static_cast<std::uint32_t>(spans_[i].rest >> Row::kFunctionAt) & (Row::kFunctions - 1);
        return i < high_.size() ? low | static_cast<std::uint32_t>(high_[i]) << Row::kFunctionBits : low;
    }
    /// Spans that touch [from, to): indices [first, second).
    std::pair<std::size_t, std::size_t> touching(Time from, Time to) const;
    /// The span that covers `t`, if any; of spans without length the last.
    std::optional<std::size_t> at(Time t) const;
    /// The span that began last by `step`, if any; it may have ended before.
    std::optional<std::size_t> begun_by(std::uint64_t step) const {
        const std::size_t next =
            spans_.partition_point([step](const Row& r) { return (r.rest & (Row::kSteps - 1)) <= step; });
        return next == 0 ? std::nullopt : std::optional(next - 1);
    }
    std::size_t longest(std::size_t first, std::size_t last) const {
        return longest_.argmax(first, last, [this](std::size_t i) { return spans_[i].length; });
    }

  private:
    // Three words a span; of function numbers above 18 bits, which hardly a program has, the rest stands apart.
    struct Row {
        static constexpr unsigned kFunctionAt = 40, kFunctionBits = 18, kFlagsAt = kFunctionAt + kFunctionBits;
        static constexpr std::uint64_t kSteps = std::uint64_t{1} << kFunctionAt;
        static constexpr std::uint32_t kFunctions = std::uint32_t{1} << kFunctionBits;
        Time begin, length;
        std::uint64_t rest = 0;
        [[gnu::always_inline]] void set(Time b, Time l, std::uint64_t step, std::uint32_t function, unsigned flags) {
            begin = b;
            length = l;
            rest = (step & (kSteps - 1)) | static_cast<std::uint64_t>(function & (kFunctions - 1)) << kFunctionAt |
                   static_cast<std::uint64_t>(flags & 63u) << kFlagsAt;
        }
        Time end() const { return begin + length; }
    };
    static_assert(sizeof(Row) == 24);
    void append_high(std::uint32_t function);

    Column<Row> spans_;
    RangeMax<Time> longest_;
    Column<std::uint16_t> high_;  ///< empty as long as all are 0
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
    RunCounts runs;
    std::vector<std::uint64_t> undecided;  ///< of each slot's branch: so often nothing tells whether it was taken
    /// Executions of every slot's instruction; 0 where none begins.
    std::vector<std::uint64_t> executions(const Code& code) const;
    /// How often the branch in a slot was taken.
    std::uint64_t taken(std::uint32_t slot) const { return slot < runs.taken.size() ? runs.taken[slot] : 0; }
    std::uint64_t left_open(std::uint32_t slot) const { return slot < undecided.size() ? undecided[slot] : 0; }
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

class CallStack;
class StepPipe;
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

/// A number that the program sent through its instruction trace.
struct StepDataAt {
    Time time;
    StepData data;
    std::uint64_t step = 0;  ///< of the first instruction behind it
};

struct StepTrail {
    std::string file, core;
    std::size_t stream = 0, core_index = 0;  ///< stream: index into the recording's step streams
    std::uint64_t raw_bytes = 0, read_bytes = 0, bytes = 0, bad_bytes = 0, steps = 0, packets = 0, unmatched = 0;
    std::uint64_t lead_in = 0;  ///< bytes before the first packet: they cannot be read
    bool untouched = false;     ///< no debugger changed a register or memory meanwhile
    // While it is recorded: where it stood, and how it stands now behind the last instruction; null: not known.
    std::shared_ptr<const StoodPlaces> stood;
    std::shared_ptr<const CoreState> stands;
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
    Column<StepDataAt> data;
    Column<StepCheckpoint> checkpoints;
    std::vector<StepLoss> losses;                  ///< ascending
    Column<StepMoment> moments;                    ///< thinned: enough to find a step's time by decoding little
    std::shared_ptr<const StepCounters> counters;  ///< of what was decoded; null: nothing yet
    std::optional<StepGapAt> contradiction;        ///< the first
    std::uint64_t contradictions = 0, syncs = 0;

    /// The piece with which a call began of which span `i` of `level` is one, where tracing stopped meanwhile; else `i`.
    std::size_t first_piece(std::size_t level, std::size_t i) const;
};

}  // namespace mt
