// The state machine behind tasks, locks and queues: events in time order in, a growing TaskTrail out.
#pragma once

#include <memory>
#include <unordered_map>
#include <vector>

#include "flow/exception_nest.h"
#include "flow/os_binding.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// Takes the events of one trace in, in time order over all its cores. Nothing is believed that may have been lost:
/// after a loss the tasks, locks and interrupts of that core are unknown until an event tells. One thread at a time;
/// both arguments must outlive it.
class GrowingTasks {
  public:
    /// `lanes_of_core`: whether interrupt lanes of a core are made from these events (not if another stream of the
    /// core tells its exceptions).
    GrowingTasks(const Recording& recording, Trail& trail, std::vector<bool> lanes_of_core);
    ~GrowingTasks();

    void take(const OsEvent& event, const OsBlock& texts);
    /// Contradictions so far that no doubted stretch before them accounts for.
    std::uint64_t unexplained() const { return unexplained_; }
    /// Of this core nothing but task switches is told: a stretch on the core counts as a job, and a task that does not
    /// run is in no known state. REQUIRES: before its first event.
    void only_switches(std::size_t core);
    /// How long the job of the running task took is not known: the bounds of its ends overlap.
    void doubt_running_job(std::size_t core);
    /// A variable of the program has this value from `t` on; `id` is its own among values; `names`:
    /// what values stand for, may be null or empty.
    void value(std::size_t core, std::uint32_t id, const std::string& name, Time t, Value value,
               const ValueOrigin& origin, const std::map<std::uint64_t, std::string>* names = nullptr);
    /// A mark; `names`: what values stand for, may be null or empty.
    void mark(std::size_t core, std::uint32_t id, const std::string& name, Time t, std::int64_t value,
              const std::map<std::uint64_t, std::string>* names);
    /// An interrupt that other means put into lanes: its time is not its task's. REQUIRES: only_switches(core).
    void enter_interrupt(std::size_t core, unsigned number, Time t);
    /// The innermost interrupt ended, whichever it was.
    void leave_interrupt(std::size_t core, Time t);
    /// Both at once, with nothing in between.
    void pass_interrupt(std::size_t core, Time from, Time to);
    /// Puts what interrupts have closed into their lanes; call now and then, and before a snapshot.
    void settle();
    /// No more events: what is open is cut.
    void finish();

  private:
    struct LiveTask;
    struct LiveCore;
    struct LiveLock;

    std::size_t task(std::uint32_t id, std::uint16_t core);
    std::size_t lock(std::uint32_t id);
    QueueLane& queue(std::uint32_t id);
    void account(std::size_t core, Time t);
    void set_state(std::size_t task, Time t, TaskState state, std::uint32_t object, std::uint16_t core,
                   BlockReason reason = BlockReason::other);
    void run(std::size_t core, Time t, std::uint32_t who);
    void switch_in(const OsEvent& e);
    void ready(const OsEvent& e);
    void block(const OsEvent& e);
    void isr(const OsEvent& e);
    void take_lock(const OsEvent& e);
    void give_lock(const OsEvent& e);
    void marker(const OsEvent& e);
    void lose(std::uint16_t core, Time from, Time to);
    static constexpr std::size_t kNoTask = ~std::size_t{0};
    /// An event does not fit what came before; `task`: whose state is then in doubt since it last changed.
    void contradict(const OsEvent& e, const std::string& what, std::size_t task = kNoTask);
    void doubt_open_interrupts(const OsEvent& e);
    void contradict_nest(const OsEvent& e, const std::string& what, Time since);
    static void doubt_lane(TaskLane& lane, Time from, Time to);
    void doubt_from_afar(const OsEvent& e);
    void apply_rule(TaskLane& lane) const;
    bool ends_job(const TaskLane& lane, BlockReason reason, std::uint32_t object) const;
    void begin_job(std::size_t task, Time t, bool certain);
    void close_job(std::size_t task, Time end, std::uint8_t flags);
    std::uint32_t actor(std::size_t core) const;
    Time whole_ticks(Time sum, std::size_t core) const;

    const Recording& recording_;
    Trail& trail_;
    std::uint64_t unexplained_ = 0;
    TaskTrail& out_;
    std::vector<bool> make_lanes_;
    std::vector<LiveTask> tasks_;
    std::vector<LiveCore> cores_;
    std::vector<LiveLock> locks_;
    std::unordered_map<std::uint32_t, std::size_t> task_index_, lock_index_, queue_index_, semaphore_index_,
        resource_index_, value_index_, mark_index_;
    std::vector<std::uint32_t> small_locks_, small_tasks_;  ///< the same as the maps for small numbers; kNobody: none
    std::map<std::uint32_t, std::string> object_names_, signal_names_, port_names_;
    Time reached_;
    Clock clock_;
};

}  // namespace mt
