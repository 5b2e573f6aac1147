// The model: what ran when, as far as the recording tells. A Trail is a snapshot: immutable once
// handed out, cheap to copy while it grows (columns share their chunks), readable from any thread.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <limits>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/ascending_times.h"
#include "base/column.h"
#include "base/time.h"
#include "flow/exception_nest.h"
#include "flow/global_check.h"
#include "model/gaps.h"
#include "model/step_trail.h"
#include "model/task_trail.h"
#include "model/text_log.h"
#include "model/waymark.h"
#include "target/exception_id.h"
#include "wire/itm.h"
#include "wire/tpiu.h"
#include "target/target_edit.h"

namespace mt {

class ItmPipe;

/// All instances of one exception on one core, ascending in time, never overlapping.
class ExceptionLane {
  public:
    /// `code`: see ExceptionId.
    ExceptionLane(std::uint16_t code, std::string name) : code_(code), name_(std::move(name)) {}

    ExceptionId id() const { return ExceptionId::of(code_); }
    std::uint16_t code() const { return code_; }
    const std::string& name() const { return name_; }
    void rename(std::string name) { name_ = std::move(name); }
    std::size_t size() const { return rows_.size(); }
    ExceptionInstance instance(std::size_t i) const;
    Time begin(std::size_t i) const { return rows_[i].begin(); }
    Time end(std::size_t i) const { return begin(i) + length(i); }
    Time length(std::size_t i) const { return length_of(rows_[i]); }
    Time own(std::size_t i) const {
        const Row& r = rows_[i];
        return r.wide() ? wide_[r.length].own : Time{r.own};
    }
    bool whole(std::size_t i) const {
        return (rows_[i].flags & (ExceptionInstance::kCutBegin | ExceptionInstance::kCutEnd)) == 0;
    }
    std::uint8_t flags(std::size_t i) const { return rows_[i].flags & ~Row::kWide & 0xFF; }
    std::uint8_t depth(std::size_t i) const { return rows_[i].depth; }
    std::uint64_t offset(std::size_t i) const { return rows_[i].offset(); }

    /// The instance that covers `t`, if any.
    std::optional<std::size_t> at(Time t) const;
    /// The first instance that begins at or after `t`; size() if none does.
    std::size_t first_from(Time t) const {
        return rows_.partition_point([t](const Row& r) { return r.begin() < t; });
    }
    /// Instances that touch [from, to): indices [first, second).
    std::pair<std::size_t, std::size_t> touching(Time from, Time to) const;
    /// Inclusive time within [from, to).
    Time busy(Time from, Time to) const;
    /// Index of the longest instance among [first, last). REQUIRES: first < last <= size().
    std::size_t longest(std::size_t first, std::size_t last) const {
        return longest_.argmax(first, last, [this](std::size_t i) { return length(i); });
    }

    void append(const ExceptionInstance& instance);

  private:
    std::uint16_t code_;
    std::string name_;
    /// In 28 bytes what nearly all need; lengths of 4.29 ms and more and bounds wider than 65 µs stand in `wide_`.
    struct Row {
        static constexpr std::uint8_t kWide = 128;
        std::uint32_t begin_low, begin_high;
        std::uint32_t length, own;                   ///< picoseconds; wide: length is an index into wide_
        std::uint16_t begin_slack_ns, end_slack_ns;  ///< rounded up
        std::uint32_t offset_low;
        std::uint16_t offset_high;
        std::uint8_t depth, flags;

        Time begin() const { return {static_cast<std::int64_t>(std::uint64_t{begin_high} << 32 | begin_low)}; }
        std::uint64_t offset() const { return std::uint64_t{offset_high} << 32 | offset_low; }
        bool wide() const { return (flags & kWide) != 0; }
    };
    struct WideRow {
        Time length, own;
        std::uint32_t begin_slack_ns, end_slack_ns;  ///< rounded up, saturating at 4.29 s
    };
    Time length_of(const Row& r) const { return r.wide() ? wide_[r.length].length : Time{r.length}; }
    static constexpr std::size_t kSumEach = 64;
    // Rounded up, saturating.
    static std::uint32_t in_ns(Time slack) {
        if (slack.ps == 0) return 0;  // nearly always
        const std::int64_t ns = (slack.ps + 999) / 1000;
        return static_cast<std::uint32_t>(std::clamp<std::int64_t>(ns, 0, std::numeric_limits<std::uint32_t>::max()));
    }
    /// The first instance that begins after `t`.
    std::size_t first_after(Time t) const {
        return rows_.partition_point([t](const Row& r) { return !(t < r.begin()); });
    }

    Column<Row> rows_;
    Column<WideRow> wide_;
    Column<Time> busy_before_;  ///< inclusive time before each kSumEach instances
    Time busy_{}, end_{};       ///< end_: of the last one
    RangeMax<Time> longest_;
};

inline void ExceptionLane::append(const ExceptionInstance& x) {
    // Damaged streams may claim what cannot be: keep the column's order whatever they say.
    const Time begin = size() > 0 ? std::max(x.begin, end_) : x.begin;
    const Time length = std::max(x.end, begin) - begin;
    if (size() % kSumEach == 0) busy_before_.push_back(busy_);
    busy_ += length;
    end_ = begin + length;
    const std::uint32_t before = in_ns(x.begin_slack), after = in_ns(x.end_slack);
    Row r;
    r.begin_low = static_cast<std::uint32_t>(begin.ps);
    r.begin_high = static_cast<std::uint32_t>(begin.ps >> 32);
    r.length = static_cast<std::uint32_t>(length.ps);
    r.own = static_cast<std::uint32_t>(x.own.ps);
    r.begin_slack_ns = static_cast<std::uint16_t>(before);
    r.end_slack_ns = static_cast<std::uint16_t>(after);
    r.offset_low = static_cast<std::uint32_t>(x.offset);
    r.offset_high = static_cast<std::uint16_t>(x.offset >> 32);
    r.depth = x.depth;
    r.flags = x.flags;
    if ((static_cast<std::uint64_t>(length.ps) | static_cast<std::uint64_t>(x.own.ps)) >> 32 != 0 ||
        (before | after) >> 16 != 0) {
        r.flags |= Row::kWide;
        r.length = static_cast<std::uint32_t>(wide_.size());
        wide_.push_back({length, x.own, before, after});
    }
    rows_.push_back(r);
    longest_.push_back(length);
}

/// Counts over the whole recording in at most kBuckets equal stretches; the stretches double in width
/// when the recording outgrows them, so memory does not follow its length.
class Density {
  public:
    static constexpr std::size_t kBuckets = 8192;
    struct Bucket {
        std::uint32_t events = 0, awake = 0, asleep = 0;
    };
    void add_event(Time t) {
        if (here(t)) [[likely]]
            ++buckets_[bucket_].events;
        else
            add_elsewhere(t, {1, 0, 0});
    }
    /// Three events, in order.
    void add_events(Time first, Time second, Time third) {
        if (here(first) && here(third)) [[likely]] {
            buckets_[bucket_].events += 3;
            return;
        }
        for (const Time t : {first, second, third}) add_event(t);
    }
    /// A sample of the program counter, which is an event too.
    void add_sample(Time t, bool asleep) {
        if (here(t)) [[likely]] {
            Bucket& same = buckets_[bucket_];
            ++same.events;
            ++(asleep ? same.asleep : same.awake);
        } else {
            add_elsewhere(t, {1, asleep ? 0u : 1u, asleep ? 1u : 0u});
        }
    }
    Time width() const { return width_; }
    const std::vector<Bucket>& buckets() const { return buckets_; }
    /// Sum over the buckets that touch [from, to).
    Bucket sum(Time from, Time to) const;

  private:
    __attribute__((noinline)) void add_elsewhere(Time t, const Bucket& b);
    bool here(Time t) const { return static_cast<std::uint64_t>(t.ps - at_.ps) < here_ps_; }

    Time width_{1'000'000};
    std::vector<Bucket> buckets_;
    std::size_t bucket_ = 0;     ///< the one filled last
    Time at_{};                  ///< where it begins
    std::uint64_t here_ps_ = 0;  ///< its width; 0 as long as there is none
};

struct CoreTrail {
    std::string name;
    bool riscv = false;
    bool m_profile = true;  ///< Arm: what runs outside handlers is thread mode
    bool timed = true;  ///< false: only instruction trace without a clock tells of it; an instruction counts as a cycle
    bool system_lanes = false;  ///< its interrupts are told by the operating system
    Clock clock;
    bool own_clock = true;  ///< false: `clock` is that of its events, and says nothing of how long a cycle is
    std::vector<ExceptionLane> lanes;      ///< in order of first appearance
    std::vector<std::size_t> by_priority;  ///< indices into lanes, most urgent first, as far as seen
    AscendingTimes change_time;            ///< when what runs changed
    Column<std::uint16_t> change_running;  ///< see ContextChange
    static constexpr std::size_t kSumEach = AscendingTimes::kBlock;
    Column<Time> handler_before;  ///< time spent in handlers up to each kSumEach changes
    Time handlers;                ///< … and up to the last change
    std::uint64_t contradictions = 0;
    std::map<std::pair<std::uint16_t, std::uint16_t>, std::uint64_t> cuts;
    Density density;
    bool thread_seen = false;
    Time end;  ///< the last known moment of this core

    /// Program-counter samples by function of the core's image (the last: where it has no code), and while asleep.
    std::vector<std::uint64_t> samples;
    std::uint64_t samples_asleep = 0;
    /// Of an exception, by its code.
    const ExceptionLane* lane(unsigned code) const;
    std::optional<std::size_t> lane_index(unsigned code) const;
    /// What has the core at `t`, and since when (index of the change); nullopt before the first change.
    std::optional<std::size_t> change_at(Time t) const;
    std::uint16_t running_at(Time t) const;
    /// Appends a change; one that claims to lie before the last is put at its time.
    void add_change(Time t, std::uint16_t running);
    /// The same as three changes: a handler runs from `entry` to `exit`, and thread mode again from `back` on.
    void add_visit(std::uint16_t handler, Time entry, Time exit, Time back);
    /// Time in handlers before `t`.
    Time handlers_until(Time t) const;
    /// Time in handlers within [from, to).
    Time handler_time(Time from, Time to) const { return handlers_until(to) - handlers_until(from); }
    /// Name for people of anything that can stand in change_running.
    std::string running_name(std::uint16_t running) const;

  private:
    Time last_change_{std::numeric_limits<std::int64_t>::min()};
    std::uint16_t last_running_ = ContextChange::kUnknown;
};

inline void CoreTrail::add_change(Time t, std::uint16_t running) {
    t = std::max(t, last_change_);
    if (ContextChange::is_handler(last_running_)) handlers += t - last_change_;
    if (change_time.size() % kSumEach == 0) [[unlikely]]
        handler_before.push_back(handlers);
    change_time.push_back(t);
    change_running.push_back(running);
    last_change_ = t;
    last_running_ = running;
    thread_seen = thread_seen || running == 0;
}

inline void CoreTrail::add_visit(std::uint16_t handler, Time entry, Time exit, Time back) {
    if (change_time.size() % kSumEach != 0 && change_time.room() >= 3 && change_running.room() >= 3 &&
        entry >= last_change_) [[likely]] {
        if (ContextChange::is_handler(last_running_)) handlers += entry - last_change_;
        handlers += back - entry;
        change_time.push_small<3>({entry, exit, back});
        change_running.push_small<3>({handler, ContextChange::kBetween, 0});
        last_change_ = back;
        last_running_ = 0;
        thread_seen = true;
        return;
    }
    add_change(entry, handler);
    add_change(exit, ContextChange::kBetween);
    add_change(back, 0);
}

/// Raw bytes between two checkpoints.
inline constexpr std::size_t kCheckpointBytes = 64 * 1024;

/// State of one stream's decoder about every 64 KiB: from here any window is decoded again.
struct Checkpoint {
    std::uint64_t raw_offset = 0;
    std::uint64_t packets = 0, events = 0;  ///< how many came out before
    Time time;                              ///< latest time that came out before
    std::shared_ptr<const ItmPipe> pipe;
    bool lost = false;  ///< the connection was lost here: ItmPipe::lose comes before the next bytes
};

struct StreamTrail {
    std::string file, core;
    std::uint64_t raw_bytes = 0, read_bytes = 0, bytes = 0, bad_bytes = 0, packets = 0, events = 0;
    std::array<std::uint64_t, kItmKinds> counts{};
    std::array<std::uint64_t, 256> ports{};
    std::array<std::uint64_t, 4> comparators{};
    std::uint64_t lead_in = 0;  ///< bytes before the first synchronisation: they cannot be read
    std::uint64_t timestamps = 0, undated = 0, unknown_lengths = 0, restored_lengths = 0, clock_changes = 0;
    double global_rate = 0;
    Column<GlobalCheck::Stray> strays;  ///< where global and local timestamps tell different times, and no loss is told
    std::uint64_t samples_outside = 0;  ///< program-counter samples where the image holds no code
    std::uint64_t first_outside = 0;    ///< the first such address
    Time first_outside_at;
    bool ended = false;        ///< all of it has been decoded
    bool never_syncs = false;  ///< no synchronisation in the whole stream: decoded on trust
    std::optional<TpiuCounts> formatter;
    Column<Checkpoint> checkpoints;
};

/// A stream of samples of a measuring device, whose channels are values.
struct SampleTrail {
    std::size_t spec = 0;  ///< of the target's streams
    std::string name, file;
    std::uint64_t bytes = 0, taken = 0;  ///< of the file, and of them decoded
    std::uint64_t samples = 0;           ///< of each channel
    std::uint64_t odd_bytes = 0;         ///< at ends: they make no whole sample of all channels
    double rate_hz = 0;
    unsigned breaks = 0;              ///< bytes are missing there
    Time begin;                       ///< when its device's clock started
    bool arrived = false;             ///< … as its first byte came then
    std::vector<std::size_t> lanes;   ///< indices into tasks.values, a channel each
};

/// A doubt about the recording as a whole: a sentence, what to do, and what of it can be done at once.
struct Doubt {
    std::string text, advice;
    std::vector<Mend> mends = {};
};

/// A moment that a person marked while the recording was made.
struct Note {
    Time time;  ///< the last known moment when it was marked
    std::string text, core;
};

/// A file measured elsewhere, and how its clock was brought to the recording's:
/// measured = offset + (1 + drift / 10^6) * recording.
struct LaidSignals {
    enum class How : std::uint8_t { by_start, by_hand, aligned };
    std::string file, name, format;
    std::size_t lanes = 0;
    How how = How::by_start;
    double offset_ns = 0, drift_ppm = 0, uncertainty_ns = 0;  ///< uncertainty: where aligned
    std::uint64_t matched = 0, unmatched = 0;                 ///< edges
};

struct Trail {
    std::vector<CoreTrail> cores;
    std::vector<StreamTrail> streams;
    std::vector<StepTrail> steps;  ///< one for each stream of instruction trace
    std::vector<SampleTrail> measured;  ///< one for each stream of samples
    TaskTrail tasks;               ///< what an operating system's events tell
    std::vector<TextLog> texts;    ///< what was printed through ports and consoles
    GapList gaps;
    /// Where what the lanes and tasks of a core show may be wrong, though it is shown: around losses, up to where
    /// decoding is sure again. A finding that leans on anything in there is none.
    GapList doubtful;
    bool trusted(std::size_t core, Time from, Time to) const { return !doubtful.touch(core, from, to); }
    /// `way`: calls of one number have ascending times.
    void doubt(std::uint16_t core, Time from, Time to, std::uint32_t way = 0) {
        Gap g;
        g.stream = way;
        g.begin = from;
        g.end = std::max(from, to);
        g.core = core;
        doubtful.push_back(g);
    }
    std::vector<Waymark> waymarks;    ///< by time
    std::vector<LaidSignals> beside;  ///< measured elsewhere; their lanes are values
    std::vector<Doubt> doubts;
    std::vector<Note> notes;
    Time end;                ///< the last known moment
    bool complete = false;   ///< decoding has reached the end of all streams
    bool cancelled = false;  ///< a person stopped it before the end
    double decode_seconds = 0;
};

/// Orders lanes by urgency: a lane that was seen to cut into another stands above it; where nothing was
/// seen, faults come first, then interrupts by number, then SVCall, PendSV and SysTick.
std::vector<std::size_t> order_by_priority(const CoreTrail& core);

}  // namespace mt
