// Tasks, locks, queues and marks of the model: what an operating system's events tell. Columns only, so that a
// copy is a snapshot (see trail.h).
#pragma once

#include <algorithm>
#include <cstdint>
#include <map>
#include <optional>
#include <memory>
#include <string>
#include <unordered_map>
#include <vector>

#include "base/column.h"
#include "base/time.h"
#include "flow/os_events.h"
#include "model/values.h"
#include "target/target_file.h"

namespace mt {

enum class TaskState : std::uint8_t {
    unknown,  ///< lost, or before the first event that tells
    absent,   ///< not yet created, or ended
    running,
    ready,          ///< could run, and something else has the core
    waits_lock,     ///< for a mutex: the object says which
    waits_data,     ///< for a semaphore or a queue
    waits_time,     ///< a delay within a job
    waits_next_job  ///< for what starts its next job
};
std::string_view task_state_name(TaskState state);
constexpr bool is_waiting(TaskState s) { return s >= TaskState::waits_lock; }

/// Values and marks that ITM streams tell are numbered apart from those of events: by core, and by port or comparator.
inline constexpr std::uint32_t kItmNumbers = 0x4000'0000;
inline constexpr std::uint32_t kBesideNumbers = 0x2000'0000;  ///< values measured elsewhere
constexpr std::uint32_t own_number(std::uint32_t id) { return (id & kItmNumbers) != 0 ? id & 0xFF : id; }

inline constexpr std::uint32_t kNobody = 0xFFFF'FFFF;
/// Who did something: a task's index, an interrupt of a core, or nobody that is known.
struct Actor {
    static constexpr std::uint32_t kInterrupt = 0x8000'0000;
    static constexpr std::uint32_t interrupt(std::uint32_t number) { return kInterrupt | (number & 0xFFFF); }
    static constexpr bool is_interrupt(std::uint32_t a) { return a != kNobody && (a & kInterrupt) != 0; }
};

/// From `begin` on, until the next one of this task.
struct TaskStretch {
    Time begin;
    std::uint32_t object = 0;  ///< waiting: what for; ready: the Actor that made it so
    TaskState state = TaskState::unknown;
    std::uint8_t core = 0;
    std::uint16_t reason = 0;  ///< waiting: a BlockReason
};

/// One job: from ready to the block that ends it (docs/formats/os-events.md, "Jobs").
struct TaskJob {
    enum Flag : std::uint8_t {
        kOpen = 1,       ///< not ended when the recording ended
        kUncertain = 2,  ///< its begin, or part of it, may have been lost
        kBreak = 4,      ///< something was lost, or a job was left out, since the job before
        kStarted = 8
    };
    Time ready, start, end, run;
    std::uint32_t preemptions = 0;
    std::uint16_t core = 0;
    std::uint8_t flags = 0;
    bool whole() const { return (flags & (kOpen | kUncertain)) == 0; }
    Time response() const { return end - ready; }
};

/// Processor time that tasks of a core had up to each job's end is not kept; `TaskLane::cpu` is the sum.
struct TaskLane {
    std::uint32_t id = 0;
    std::string name;
    std::int32_t priority = 0;  ///< base; higher is more urgent
    bool priority_known = false, idle = false;
    JobRule rule;            ///< where its jobs begin and end
    std::uint16_t core = 0;  ///< where it ran last
    bool migrates = false;   ///< it ran on more than one core
    Time created, first_run;
    bool was_created = false, ran = false;
    Column<TaskStretch> stretches;
    static constexpr std::size_t kSumEach = 64;
    Column<Time> running_before;  ///< time spent running (interrupts in it included) before each kSumEach stretches
    Time running;                 ///< … and before the last stretch
    Column<TaskJob> jobs;         ///< by end
    RangeMax<Time> longest_response;
    struct PriorityChange {
        Time time;
        std::int32_t priority;
    };
    Column<PriorityChange> priorities;
    Time cpu;  ///< processor time inside what was observed, without interrupts
    /// Where its state may be wrong: from its last change to an event that contradicts it. Ascending.
    Column<std::pair<Time, Time>> doubtful;
    bool trusted(Time from, Time to) const {
        const std::size_t i = doubtful.partition_point([from](const auto& d) { return d.second < from; });
        return i == doubtful.size() || to < doubtful[i].first;
    }

    /// Index of the stretch that `t` lies in; stretches.size() before the first.
    std::size_t stretch_at(Time t) const {
        const std::size_t n = stretches.partition_point([t](const TaskStretch& s) { return !(t < s.begin); });
        return n == 0 ? stretches.size() : n - 1;
    }
    /// Time for which it had a core within [from, to), interrupts in it included.
    Time running_time(Time from, Time to) const;
    /// Stretches that touch [from, to): indices [first, second).
    std::pair<std::size_t, std::size_t> touching(Time from, Time to) const {
        const std::size_t at = stretch_at(from);
        return {at == stretches.size() ? 0 : at,
                stretches.partition_point([to](const TaskStretch& s) { return s.begin < to; })};
    }
    TaskState state_at(Time t) const {
        const std::size_t i = stretch_at(t);
        return i < stretches.size() ? stretches[i].state : TaskState::unknown;
    }
    /// First job that ends at or after `t`.
    std::size_t job_from(Time t) const {
        return jobs.partition_point([t](const TaskJob& j) { return j.end < t; });
    }
};

struct LockHold {
    enum Flag : std::uint8_t { kCut = 1 };
    Time begin, end;
    std::uint32_t task = kNobody;
    std::uint8_t flags = 0;
};
struct LockWait {
    enum Flag : std::uint8_t {
        kCut = 1,      ///< lost on the way
        kNeverGot = 2  ///< still waiting when the recording ended
    };
    Time begin, end;
    Time released;  ///< when the holder gave it back for this waiter; `end` if that was not seen
    std::uint32_t task = kNobody, holder = kNobody;
    std::uint8_t flags = 0;
    bool whole() const { return flags == 0; }
};
struct LockLane {
    std::uint32_t id = 0;
    std::string name;
    Column<LockHold> holds;  ///< by begin; never two at a time
    Column<LockWait> waits;  ///< by end
    std::uint64_t contention = 0;
};

struct QueueOp {
    enum Kind : std::uint8_t { send, receive, failed };
    Time time;
    std::uint32_t fill = 0;    ///< entries after it
    std::uint32_t serial = 0;  ///< how many of its kind came before
    std::uint32_t who = kNobody;
    Kind kind = send;
};
struct QueueLane {
    std::uint32_t id = 0;
    std::string name;
    Column<QueueOp> ops;
    std::uint64_t sent = 0, received = 0, failed = 0;
    std::uint32_t peak = 0;
    std::uint32_t capacity = 0;  ///< its fill when a send failed; 0 if none did
};

struct SemaphoreUse {
    Time time;
    std::uint32_t who = kNobody;
    bool given = false;  ///< else taken
};
struct SemaphoreLane {
    std::uint32_t id = 0;
    std::string name;
    std::uint64_t gives = 0, takes = 0;
    Column<SemaphoreUse> uses;
};

/// Something had by one task at a time, as its marks say: a resource, or interrupts masked.
struct UseSpan {
    Time begin, end;
    std::uint32_t task = kNobody;
    std::uint8_t flags = 0;  ///< LockHold::kCut
};
struct ResourceLane {
    std::uint32_t id = 0;
    std::string name;
    Column<UseSpan> uses;  ///< by end; those of several tasks may overlap
    Time longest;          ///< of all
    void add(const UseSpan& use) {
        longest = std::max(longest, use.end - use.begin);
        uses.push_back(use);
    }
};

struct TaskMark {
    Time time;
    std::int64_t value = 0;
    std::uint32_t who = kNobody;
    std::uint16_t core = 0;
};
/// Marks of one port, or events that the vocabulary does not know.
struct MarkLane {
    std::uint32_t id = 0;
    std::string name;
    bool foreign = false;                              ///< outside the vocabulary: `id` is the event class
    std::map<std::uint64_t, std::string> value_names;  ///< what values stand for, where that is known
    Column<TaskMark> marks;
};

struct TaskFault {
    Time time;
    std::uint32_t task = kNobody;
    std::uint32_t interrupt = kNobody;  ///< the innermost open interrupt's number
    std::uint16_t core = 0;
    OsFault what;
    std::uint64_t offset = 0;
};

/// Who has a core, interrupts aside.
struct CoreRun {
    static constexpr std::uint32_t kUnknown = kNobody, kKernel = kNobody - 1;
    Time begin;
    std::uint32_t who = kUnknown;  ///< a task's index, kKernel or kUnknown
};
struct CoreTasks {
    bool present = false;
    bool only_switches = false;  ///< nothing but task switches is told: jobs are stretches on the core
    Column<CoreRun> runs;
    Column<UseSpan> critical;  ///< interrupts masked
    Time observed, interrupts, kernel, idle;
    static constexpr std::size_t kSumEach = 64;
    Column<Time> busy_before;  ///< time of tasks that are not idle up to each kSumEach runs
    Time busy;
    std::uint64_t lost_events = 0, lost_packets = 0;

    std::size_t run_at(Time t) const {
        const std::size_t n = runs.partition_point([t](const CoreRun& r) { return !(t < r.begin); });
        return n == 0 ? runs.size() : n - 1;
    }
};

/// One data stream of a trace.
struct EventStream {
    std::string file;
    std::string core;
    std::uint64_t bytes = 0, bad_bytes = 0, packets = 0, events = 0, discarded = 0, lost_packets = 0, backwards = 0;
    std::uint64_t damaged_packets = 0;
    std::string first_trouble;  ///< what was wrong at the first damaged place
    std::uint64_t first_trouble_at = 0;
    std::map<std::string, std::uint64_t> counts;
    Column<std::uint64_t> first_event;  ///< how many events came before each packet
};

/// Everything that operating-system events tell.
struct TaskTrail {
    std::vector<TaskLane> tasks;
    std::vector<LockLane> locks;
    std::vector<QueueLane> queues;
    std::vector<SemaphoreLane> semaphores;
    std::vector<ResourceLane> resources;
    std::vector<ResourceLane> stopwatches;  ///< from one event to another, as the target file asks for
    std::vector<ValueLane> values;
    std::vector<MarkLane> marks;
    std::vector<TaskFault> faults;
    std::vector<CoreTasks> cores;  ///< one per core of the trail
    std::vector<EventStream> streams;
    std::map<std::uint32_t, std::string> interrupt_names;
    std::int64_t origin_ticks = 0;  ///< what the clock read at the recording's zero
    std::uint64_t clock_hz = 0;
    std::uint64_t contradictions = 0;
    struct Contradiction {
        Time time;
        std::uint64_t offset = 0;  ///< of the event, in its file
        std::uint16_t core = 0;    ///< that it came from
        std::string what;          ///< "guide runs though it waits for bus_lock"
    };
    std::optional<Contradiction> first_contradiction;
    bool vocabulary_known = true;

    bool present() const { return !streams.empty() || !tasks.empty() || !values.empty() || !marks.empty(); }
    std::string task_name(std::uint32_t index) const {
        return index < tasks.size() ? tasks[index].name : std::string("nobody");
    }
    /// "clock", "interrupt link rx" or "nobody that is known".
    std::string actor_name(std::uint32_t actor) const;
    /// Name of a lock, queue, semaphore or resource; "the timer" for 0.
    std::string object_name(std::uint32_t id) const;
    const LockLane* lock(std::uint32_t id) const;
    const QueueLane* queue(std::uint32_t id) const;
    /// Time that tasks other than idle had a core within [from, to), interrupts in them included.
    Time busy(std::size_t core, Time from, Time to) const;
    /// Whether the load of a core is known from its tasks: with switches alone it is only if one is the idle task.
    bool tells_load(std::size_t core) const;
    /// Tasks by core, the most urgent first; idle last.
    std::vector<std::size_t> order() const;
};

}  // namespace mt
