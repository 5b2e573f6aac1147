// The detectors behind find_all, one file each. Each appends its findings; none knows of the others.
#pragma once

#include "judge/finding.h"
#include "measure/refs.h"

namespace mt {

/// Periodic interrupts that came late though nothing more urgent ran, or much too late; and activations
/// that did not happen at all.
void find_late_and_missed(const Recording&, const Trail&, std::size_t core, std::size_t lane,
                          std::vector<Finding>& out);
/// Executions whose own time is far from that of their peers.
void find_long_executions(const Recording&, const Trail&, std::size_t core, std::size_t lane,
                          std::vector<Finding>& out);
/// Runs of entries much denser than this interrupt ever is otherwise.
void find_storms(const Recording&, const Trail&, std::size_t core, std::size_t lane, std::vector<Finding>& out);
/// Nests deeper than all but the fewest.
void find_deep_nests(const Recording&, const Trail&, std::size_t core, std::vector<Finding>& out);
/// HardFault and its relatives.
void find_faults(const Recording&, const Trail&, std::size_t core, std::vector<Finding>& out);
/// Overflow, damage, and what is not known because of them.
void find_gaps(const Recording&, const Trail&, std::vector<Finding>& out);
/// A periodic tick whose rate contradicts the stated clock.
void find_clock_doubt(const Recording&, const Trail&, std::size_t core, std::vector<Finding>& out);
/// Program-counter samples that the image cannot explain.
void find_image_doubt(const Recording&, const Trail&, std::vector<Finding>& out);

/// Calls of functions, from instruction trace, that are unlike their peers.
void find_odd_calls(const Recording&, const Trail&, std::size_t steps, std::vector<Finding>& out);

/// Jobs unlike their peers, growth over the recording, activations missed or jittering, tasks that never ran.
void find_odd_jobs(const Trail&, std::vector<Finding>& out);
/// Priority inversion, lock convoys, deadlock, and resources used by two tasks at a time.
void find_lock_trouble(const Trail&, std::vector<Finding>& out);
/// Starvation, overload, and queues that overflow.
void find_load_trouble(const Trail&, std::vector<Finding>& out);
/// Faults that the operating system reports.
void find_task_faults(const Trail&, std::vector<Finding>& out);
/// What another finding brought about is told there: late jobs under a starvation, the steps that led to a fault.
void join_consequences(std::vector<Finding>& all);

/// Lanes that findings involve; none if there is no such task, lock or queue.
LaneId task_lane(const Trail& trail, std::uint64_t task);
LaneId lock_lane(const Trail& trail, std::uint32_t id);
LaneId queue_lane(const Trail& trail, std::uint32_t id);

/// A finding about one job, with the fields that all of them share filled in.
Finding about_job(FindingKind kind, const Trail& trail, std::size_t task, std::size_t job);
/// "its own work 4.1 ms, other tasks 2.0 ms (link 1.6 ms, …), interrupts 0.1 ms": where a response went.
std::string parts_text(const Trail& trail, std::size_t task, Time from, Time to);

/// A finding about one instance, with the fields that all of them share filled in.
Finding about_instance(FindingKind kind, const Trail& trail, std::size_t core, std::size_t lane, std::size_t instance);

}  // namespace mt
