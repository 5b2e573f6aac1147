// Measures of tasks and locks, as docs/formats/tables.md defines them.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "model/trail.h"

namespace mt {

/// Least, mean, greatest and the rest of a set of lengths. Percentiles are nearest rank, the deviation is the
/// population's.
struct Figures {
    std::uint64_t count = 0;
    Time sum;
    std::optional<Time> least, mean, greatest, deviation, p95, p99;
};
Figures figures_of(std::vector<Time> lengths);

/// One task. Jobs count that are whole; `run` is processor time, `response` from ready to end.
struct TaskRow {
    std::size_t task = 0;
    std::string name, core_name;
    std::uint32_t id = 0;
    std::int32_t priority = 0;
    bool priority_known = false, idle = false;
    std::uint64_t left_out = 0, open = 0, preemptions = 0;
    Time cpu;  ///< all processor time that was observed, also outside whole jobs
    Figures run, response, latency, period, start_period;
    double share = 0;  ///< of the observed time of its core
};
std::vector<TaskRow> task_rows(const Trail& trail);
TaskRow task_row(const Trail& trail, std::size_t task);

/// One lock: how long it was held and waited for.
struct LockRow {
    std::size_t lock = 0;
    std::string name;
    std::uint32_t id = 0;
    std::uint64_t left_out = 0, contention = 0, never_got = 0;
    Figures hold, wait;
    double share = 0;  ///< of the time known in which it was held
};
std::vector<LockRow> lock_rows(const Trail& trail);

/// One queue.
struct QueueRow {
    std::size_t queue = 0;
    std::string name;
    std::uint32_t id = 0, peak = 0, capacity = 0;
    std::uint64_t sent = 0, received = 0, failed = 0;
    Figures stay;  ///< from an entry's send to its receive, first in first out
};
std::vector<QueueRow> queue_rows(const Trail& trail);

/// The period that ends with the ready of job i, if nothing was lost or left out since the one before.
std::optional<Time> ready_period(const TaskLane& lane, std::size_t i);

/// What had the core, and what the task waited for, between the ready and the end of a job: the parts add up to the
/// response.
struct JobParts {
    Time own;         ///< the task ran
    Time interrupts;  ///< handlers, whoever they cut into
    Time others;      ///< other tasks had the core while it was ready
    Time lock;        ///< it waited for locks
    Time data;        ///< it waited for data or a delay
    Time kernel;      ///< nobody had the core
    Time unknown;
    std::vector<std::pair<std::uint32_t, Time>> by_task;  ///< others by task, most first
    std::vector<std::pair<std::uint32_t, Time>> by_lock;  ///< locks by number, most first
};
JobParts parts_of(const Trail& trail, std::size_t task, Time from, Time to);

/// Processor time of each task on a core within [from, to), most first; handlers in them are included, unless it is
/// their `own` time that is wanted.
std::vector<std::pair<std::uint32_t, Time>> tasks_that_ran(const Trail& trail, std::size_t core, Time from, Time to,
                                                           bool own = false);

}  // namespace mt
