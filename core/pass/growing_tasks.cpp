#include "pass/growing_tasks.h"

#include <algorithm>

namespace mt {
namespace {
constexpr std::uint32_t kBeginPort = 1, kEndPort = 2;  // marks that bracket the use of a resource
constexpr std::size_t kMostTasks = 1u << 20;
constexpr std::uint32_t kNestDoubts = ~0u;  // doubts about interrupts ascend by themselves
constexpr std::uint32_t kSmall = 4096;      // numbers that are looked up without a map

// The code of an interrupt as the operating system counts it.
std::uint16_t code_of(std::uint32_t number) { return ExceptionId::make(ExceptionId::Space::system, number).code(); }

}  // namespace

// Sums of many lengths, each rounded to picoseconds, are whole ticks all the same.
Time GrowingTasks::whole_ticks(Time sum, std::size_t core) const {
    const Clock& clock = out_.cores[core].only_switches ? trail_.cores[core].clock : clock_;
    return clock.at(clock.cycles(sum));
}

struct GrowingTasks::LiveTask {
    TaskState state = TaskState::unknown;
    bool ended_a_job = false;  ///< its last job's end was seen, and nothing was lost since
    bool job_open = false;
    TaskJob job;
    Time run;                           ///< processor time so far, lost or not
    Time job_from;                      ///< `run` when the job became ready
    bool broken = true;                 ///< no period ends with its next job
    std::uint32_t wait_lock = kNobody;  ///< index of the lock that it waits for
    LockWait wait;
    std::vector<std::size_t> held;
    std::vector<std::pair<std::uint32_t, Time>> uses;  ///< resource and begin
};

struct GrowingTasks::LiveCore {
    std::uint32_t running = CoreRun::kUnknown;
    bool observed = false;
    Time last;
    struct Open {
        std::uint32_t number;
        Time since;
        unsigned blocks = 0;  ///< tasks that blocked themselves since
    };
    std::vector<Open> interrupts;  ///< outermost first
    ExceptionNest nest;
    PerException<int> lane_of{-1};
    bool critical = false;
    UseSpan critical_span;
};

struct GrowingTasks::LiveLock {
    std::uint32_t holder = kNobody;
    bool taken = false;  ///< by mutex_take; else handed over and not yet taken
    Time since, given;
    bool handing_over = false;
    std::vector<std::size_t> waiters;
};

GrowingTasks::GrowingTasks(const Recording& recording, Trail& trail, std::vector<bool> lanes_of_core)
    : recording_(recording), trail_(trail), out_(trail.tasks), make_lanes_(std::move(lanes_of_core)) {
    if (recording.events) clock_.hz = recording.events->clock_hz;
    cores_.resize(trail.cores.size());
    out_.cores.resize(trail.cores.size());
}
GrowingTasks::~GrowingTasks() = default;

void GrowingTasks::contradict(const OsEvent& e, const std::string& what, std::size_t task) {
    ++out_.contradictions;
    if (!out_.first_contradiction) out_.first_contradiction = {e.time, e.offset, e.core, what};
    if (task >= out_.tasks.size()) {
        ++unexplained_;
        return;
    }
    TaskLane& lane = out_.tasks[task];
    const Time since = lane.stretches.empty() ? Time{} : lane.stretches.back().begin;
    if (!trail_.doubtful.touch(since, e.time)) ++unexplained_;  // a task of one core is made ready by another
    doubt_lane(lane, since, e.time);
}

void GrowingTasks::doubt_lane(TaskLane& lane, Time from, Time to) {
    if (!lane.doubtful.empty()) {
        const auto& [first, last] = lane.doubtful.back();
        if (first <= from && to <= last) return;
        from = std::max(from, first);
    }
    lane.doubtful.push_back({from, std::max(from, to)});
}

// What a doubted packet of one core says of a task of another is no surer there.
void GrowingTasks::doubt_from_afar(const OsEvent& e) {
    TaskLane& lane = out_.tasks[task(e.subject, e.core)];
    if (lane.core != e.core && trail_.doubtful.touch(e.core, e.time, e.time)) doubt_lane(lane, e.time, e.time);
}

std::size_t GrowingTasks::task(std::uint32_t id, std::uint16_t core) {
    if (id < small_tasks_.size() && small_tasks_[id] != kNobody) return small_tasks_[id];
    const auto [found, fresh] = task_index_.try_emplace(id, out_.tasks.size());
    if (!fresh) return found->second;
    if (id < kSmall && out_.tasks.size() < kMostTasks) {
        if (small_tasks_.size() <= id) small_tasks_.resize(id + 1, kNobody);
        small_tasks_[id] = static_cast<std::uint32_t>(out_.tasks.size());
    }
    if (out_.tasks.size() >= kMostTasks) return found->second = 0;
    TaskLane lane;
    lane.id = id;
    lane.name = core < recording_.target.cores.size()
                    ? recording_.target.task_name(recording_.target.cores[core].name, id)
                    : std::string();
    if (lane.name.empty()) lane.name = "task " + std::to_string(id);
    lane.core = core;
    apply_rule(lane);
    out_.tasks.push_back(std::move(lane));
    tasks_.emplace_back();
    return out_.tasks.size() - 1;
}

void GrowingTasks::apply_rule(TaskLane& lane) const {
    for (const TaskSpec& spec : recording_.target.tasks)
        if (spec.name == lane.name || spec.name == std::to_string(lane.id)) lane.rule = spec.rule;
}

bool GrowingTasks::ends_job(const TaskLane& lane, BlockReason reason, std::uint32_t object) const {
    switch (lane.rule.ends) {
        case JobRule::Ends::any_wait:
            return reason != BlockReason::mutex;
        case JobRule::Ends::wait_for: {
            if (lane.rule.object == std::to_string(object)) return true;
            const auto name = object_names_.find(object);
            return name != object_names_.end() ? name->second == lane.rule.object
                                               : object == 0 && lane.rule.object == "the timer";
        }
        case JobRule::Ends::marks:
            return false;
        case JobRule::Ends::next_job:
            break;
    }
    return reason == BlockReason::activation;
}

void GrowingTasks::begin_job(std::size_t i, Time t, bool certain) {
    LiveTask& live = tasks_[i];
    if (live.job_open) close_job(i, t, TaskJob::kUncertain);
    live.job = TaskJob{};
    live.job.ready = t;
    live.job.core = out_.tasks[i].core;
    if (!certain) live.job.flags |= TaskJob::kUncertain;
    live.job_open = true;
    live.job_from = live.run;
}

std::size_t GrowingTasks::lock(std::uint32_t id) {
    if (id < small_locks_.size() && small_locks_[id] != kNobody) return small_locks_[id];
    const auto [found, fresh] = lock_index_.try_emplace(id, out_.locks.size());
    if (fresh) {
        if (id < kSmall) {
            if (small_locks_.size() <= id) small_locks_.resize(id + 1, kNobody);
            small_locks_[id] = static_cast<std::uint32_t>(out_.locks.size());
        }
        LockLane lane;
        lane.id = id;
        const auto name = object_names_.find(id);
        lane.name = name != object_names_.end() ? name->second : "lock " + std::to_string(id);
        out_.locks.push_back(std::move(lane));
        locks_.emplace_back();
    }
    return found->second;
}

QueueLane& GrowingTasks::queue(std::uint32_t id) {
    const auto [found, fresh] = queue_index_.try_emplace(id, out_.queues.size());
    if (fresh) {
        QueueLane lane;
        lane.id = id;
        const auto name = object_names_.find(id);
        lane.name = name != object_names_.end() ? name->second : "queue " + std::to_string(id);
        out_.queues.push_back(std::move(lane));
    }
    return out_.queues[found->second];
}

// The time since the core's last event belongs to whoever had it.
void GrowingTasks::account(std::size_t c, Time t) {
    LiveCore& core = cores_[c];
    const Time passed = t - core.last;
    core.last = t;
    if (!core.observed || passed.ps <= 0) return;
    CoreTasks& sums = out_.cores[c];
    sums.observed += passed;
    if (!core.interrupts.empty()) {
        sums.interrupts += passed;
    } else if (core.running < out_.tasks.size()) {
        tasks_[core.running].run += passed;
        out_.tasks[core.running].cpu += passed;
        if (out_.tasks[core.running].idle) sums.idle += passed;
    } else {
        sums.kernel += passed;
    }
}

void GrowingTasks::set_state(std::size_t i, Time t, TaskState state, std::uint32_t object, std::uint16_t core,
                             BlockReason reason) {
    tasks_[i].state = state;
    TaskLane& lane = out_.tasks[i];
    if (!lane.stretches.empty() && lane.stretches.back().state == TaskState::running)
        lane.running += t - lane.stretches.back().begin;
    if (lane.stretches.size() % TaskLane::kSumEach == 0) lane.running_before.push_back(lane.running);
    lane.stretches.push_back({t, object, state, static_cast<std::uint8_t>(core), static_cast<std::uint16_t>(reason)});
}

void GrowingTasks::run(std::size_t c, Time t, std::uint32_t who) {
    CoreTasks& core = out_.cores[c];
    if (!core.runs.empty()) {
        const CoreRun& last = core.runs.back();
        if (last.who < out_.tasks.size() && !out_.tasks[last.who].idle) core.busy += t - last.begin;
    }
    if (core.runs.size() % CoreTasks::kSumEach == 0) core.busy_before.push_back(core.busy);
    core.runs.push_back({t, who});
    cores_[c].running = who;
}

std::uint32_t GrowingTasks::actor(std::size_t c) const {
    const LiveCore& core = cores_[c];
    if (!core.interrupts.empty()) return Actor::interrupt(core.interrupts.back().number);
    return core.running < out_.tasks.size() ? core.running : kNobody;
}

void GrowingTasks::close_job(std::size_t i, Time end, std::uint8_t flags) {
    LiveTask& t = tasks_[i];
    if (!t.job_open) return;
    t.job.end = std::max(end, t.job.ready);
    t.job.run = whole_ticks(t.run - t.job_from, out_.tasks[i].core);
    t.job.flags = static_cast<std::uint8_t>(t.job.flags | flags | (t.broken ? TaskJob::kBreak : 0));
    t.broken = !t.job.whole();
    TaskLane& lane = out_.tasks[i];
    lane.longest_response.push_back(t.job.whole() ? t.job.response() : Time{});
    lane.jobs.push_back(t.job);
    t.job_open = false;
}

void GrowingTasks::switch_in(const OsEvent& e) {
    const std::size_t i = task(e.subject, e.core);
    LiveCore& core = cores_[e.core];
    if (core.running == i) {
        account(e.core, e.time);
        return;
    }
    account(e.core, e.time);
    core.observed = true;
    if (out_.cores[e.core].only_switches) {
        if (core.running < out_.tasks.size()) {
            close_job(core.running, e.time, 0);
            set_state(core.running, e.time, TaskState::unknown, 0, e.core);
        }
        LiveTask& next = tasks_[i];
        next.job = TaskJob{};
        next.job.ready = e.time;
        next.job.flags = core.running == CoreRun::kUnknown ? std::uint8_t{TaskJob::kUncertain} : std::uint8_t{0};
        next.job_open = true;
        next.job_from = next.run;
    } else if (core.running < out_.tasks.size()) {  // it did not block: held off
        LiveTask& before = tasks_[core.running];
        if (before.job_open) ++before.job.preemptions;
        set_state(core.running, e.time, TaskState::ready, static_cast<std::uint32_t>(i), e.core);
    }
    LiveTask& t = tasks_[i];
    TaskLane& lane = out_.tasks[i];
    if (is_waiting(t.state) && !lane.idle) contradict(e, lane.name + " runs though it waits", i);
    if (lane.ran && lane.core != e.core) lane.migrates = true;
    lane.core = e.core;
    if (!lane.ran) lane.first_run = e.time;
    lane.ran = true;
    if (t.job_open && (t.job.flags & TaskJob::kStarted) == 0) {
        t.job.start = e.time;
        t.job.flags |= TaskJob::kStarted;
    }
    t.job.core = e.core;
    run(e.core, e.time, static_cast<std::uint32_t>(i));
    set_state(i, e.time, TaskState::running, 0, e.core);
}

void GrowingTasks::ready(const OsEvent& e) {
    const std::size_t i = task(e.subject, e.core);
    LiveTask& t = tasks_[i];
    if (t.state == TaskState::running || t.state == TaskState::ready) {
        contradict(e, out_.tasks[i].name + " becomes ready though it is ready already", i);
        return;
    }
    const bool marked = out_.tasks[i].rule.ends == JobRule::Ends::marks;
    if (!marked && (t.state == TaskState::waits_next_job || !t.job_open)) begin_job(i, e.time, t.ended_a_job);
    if (t.state == TaskState::waits_lock && t.wait_lock < locks_.size()) {
        LiveLock& l = locks_[t.wait_lock];
        if (l.handing_over) {  // given back while others wait: the one made ready next owns it
            l.handing_over = false;
            l.holder = static_cast<std::uint32_t>(i);
            l.taken = false;
            l.since = e.time;
            t.wait.released = l.given;
        }
    }
    set_state(i, e.time, TaskState::ready, actor(e.core), out_.tasks[i].core);
}

void GrowingTasks::block(const OsEvent& e) {
    const std::size_t i = task(e.subject, e.core);
    account(e.core, e.time);
    LiveTask& t = tasks_[i];
    const auto reason = static_cast<BlockReason>(e.code);
    TaskState state = TaskState::waits_data;
    switch (reason) {
        case BlockReason::activation:
            state = TaskState::waits_next_job;
            break;
        case BlockReason::delay:
            state = TaskState::waits_time;
            break;
        case BlockReason::mutex:
            state = TaskState::waits_lock;
            break;
        case BlockReason::ended:
            state = TaskState::absent;
            break;
        default:
            break;
    }
    const bool ends = ends_job(out_.tasks[i], reason, static_cast<std::uint32_t>(e.value));
    if (ends)
        state = TaskState::waits_next_job;
    else if (state == TaskState::waits_next_job && out_.tasks[i].rule.ends != JobRule::Ends::marks)
        state = TaskState::waits_time;
    if (ends || reason == BlockReason::ended) {
        close_job(i, e.time, 0);
        t.ended_a_job = ends;
    }
    if (reason == BlockReason::mutex && t.wait_lock == kNobody) {  // the attempt itself was not recorded
        const std::size_t l = lock(static_cast<std::uint32_t>(e.value));
        t.wait_lock = static_cast<std::uint32_t>(l);
        t.wait = LockWait{};
        t.wait.begin = e.time;
        t.wait.task = static_cast<std::uint32_t>(i);
        t.wait.holder = locks_[l].holder;
        locks_[l].waiters.push_back(i);
        ++out_.locks[l].contention;
    }
    LiveCore& core = cores_[e.core];
    if (core.running == i) {
        doubt_open_interrupts(e);
        run(e.core, e.time, CoreRun::kKernel);
    }
    set_state(i, e.time, state, static_cast<std::uint32_t>(e.value), e.core, reason);
}

void GrowingTasks::isr(const OsEvent& e) {
    LiveCore& core = cores_[e.core];
    const std::uint32_t number = std::min(e.subject, ExceptionId::kMost);
    const unsigned lane = code_of(number);
    account(e.core, e.time);
    const std::uint64_t contradictions = core.nest.contradictions();
    if (e.kind == OsKind::isr_enter) {
        const auto same = std::find_if(core.interrupts.begin(), core.interrupts.end(),
                                       [number](const LiveCore::Open& open) { return open.number == number; });
        if (same != core.interrupts.end()) {
            contradict_nest(e, "interrupt " + std::to_string(number) + " begins though it has not ended", same->since);
            core.interrupts.erase(same, core.interrupts.end());
        }
        core.interrupts.push_back({number, e.time, 0});
        if (make_lanes_[e.core]) core.nest.enter(lane, {e.time, e.time}, e.offset);
        return;
    }
    if (!core.interrupts.empty() && core.interrupts.back().number == number) {
        core.interrupts.pop_back();
    } else if (!core.interrupts.empty()) {
        contradict_nest(e,
                        "interrupt " + std::to_string(number) + " ends though " +
                            std::to_string(core.interrupts.back().number) + " is the innermost",
                        core.interrupts.back().since);
        core.interrupts.clear();
    }
    if (!make_lanes_[e.core]) return;
    core.nest.exit(lane, {e.time, e.time}, e.offset);
    core.nest.back_in(core.interrupts.empty() ? 0 : code_of(core.interrupts.back().number), {e.time, e.time}, e.offset);
    if (core.nest.contradictions() != contradictions) ++unexplained_;
}

// A task does not block itself while a handler runs; some systems tell it from the handler that switches tasks, but
// that one ends soon.
void GrowingTasks::doubt_open_interrupts(const OsEvent& e) {
    constexpr unsigned kMostBlocks = 8;
    LiveCore& core = cores_[e.core];
    if (core.interrupts.empty() || ++core.interrupts.front().blocks < kMostBlocks) return;
    const LiveCore::Open open = core.interrupts.front();
    contradict_nest(e, "tasks go on though interrupt " + std::to_string(open.number) + " has not ended", open.since);
    core.interrupts.clear();
    if (make_lanes_[e.core]) core.nest.back_in(0, {e.time, e.time}, e.offset);
}

// Whether an interrupt ran since then, or tasks, is not known.
void GrowingTasks::contradict_nest(const OsEvent& e, const std::string& what, Time since) {
    contradict(e, what);
    if (!trail_.doubtful.covers(e.core, since, e.time)) trail_.doubt(e.core, since, e.time, kNestDoubts);
}

void GrowingTasks::take_lock(const OsEvent& e) {
    const std::size_t l = lock(e.subject);
    const std::uint32_t who = cores_[e.core].running;
    LiveLock& live = locks_[l];
    if (who >= out_.tasks.size()) return;
    LiveTask& t = tasks_[who];
    if (e.kind == OsKind::mutex_take_blocked) {
        ++out_.locks[l].contention;
        t.wait_lock = static_cast<std::uint32_t>(l);
        t.wait = LockWait{};
        t.wait.begin = e.time;
        t.wait.task = who;
        t.wait.holder = live.holder;
        live.waiters.push_back(who);
        return;
    }
    if (t.wait_lock == l) {
        t.wait.end = e.time;
        if (t.wait.released.ps == 0) t.wait.released = e.time;
        out_.locks[l].waits.push_back(t.wait);
        t.wait_lock = kNobody;
        live.waiters.erase(std::remove(live.waiters.begin(), live.waiters.end(), std::size_t{who}), live.waiters.end());
    }
    if (live.holder != kNobody && live.holder != who && live.taken)
        contradict(e,
                   out_.task_name(who) + " takes " + out_.locks[l].name + " though " + out_.task_name(live.holder) +
                       " holds it",
                   live.holder);
    live.holder = who;
    live.taken = true;
    live.handing_over = false;
    live.since = e.time;
    t.held.push_back(l);
}

void GrowingTasks::give_lock(const OsEvent& e) {
    const std::size_t l = lock(e.subject);
    const std::uint32_t who = cores_[e.core].running;
    LiveLock& live = locks_[l];
    if (live.holder == who && live.taken && who < out_.tasks.size()) {
        auto& held = tasks_[who].held;
        held.erase(std::remove(held.begin(), held.end(), l), held.end());
        out_.locks[l].holds.push_back({live.since, e.time, who, 0});
    }
    live.holder = kNobody;
    live.taken = false;
    live.given = e.time;
    live.handing_over = !live.waiters.empty();
}

void GrowingTasks::marker(const OsEvent& e) {
    const bool foreign = e.kind == OsKind::other;
    const std::uint32_t key = e.subject | (foreign ? 0x8000'0000 : 0);
    const std::uint32_t who = cores_[e.core].running;
    if (who < out_.tasks.size() && out_.tasks[who].rule.ends == JobRule::Ends::marks && !foreign) {
        const JobRule& rule = out_.tasks[who].rule;
        LiveTask& t = tasks_[who];
        account(e.core, e.time);
        if (e.subject == rule.end_port && e.value == rule.end_value) close_job(who, e.time, 0);
        if (e.subject == rule.begin_port && e.value == rule.begin_value) {
            begin_job(who, e.time, true);
            t.job.start = e.time;
            t.job.flags |= TaskJob::kStarted;
        }
    }
    if (!foreign && (e.subject == kBeginPort || e.subject == kEndPort)) {
        const auto id = static_cast<std::uint32_t>(e.value);
        const auto [found, fresh] = resource_index_.try_emplace(id, out_.resources.size());
        if (fresh) {
            ResourceLane lane;
            lane.id = id;
            const auto name = object_names_.find(id);
            lane.name = name != object_names_.end() ? name->second : "resource " + std::to_string(id);
            out_.resources.push_back(std::move(lane));
        }
        if (who < out_.tasks.size()) {
            auto& uses = tasks_[who].uses;
            if (e.subject == kBeginPort) {
                uses.emplace_back(id, e.time);
                if (uses.size() > 64) uses.erase(uses.begin());
            } else {
                const auto open =
                    std::find_if(uses.rbegin(), uses.rend(), [&](const auto& u) { return u.first == id; });
                if (open != uses.rend()) {
                    out_.resources[found->second].add({open->second, e.time, who, 0});
                    uses.erase(std::next(open).base());
                }
            }
        }
    }
    const auto [found, fresh] = mark_index_.try_emplace(key, out_.marks.size());
    if (fresh) {
        MarkLane lane;
        lane.id = e.subject;
        lane.foreign = foreign;
        const auto name = port_names_.find(e.subject);
        lane.name = foreign ? recording_.events ? recording_.events->metadata->events[e.subject].name
                                                : "event " + std::to_string(e.subject)
                    : name != port_names_.end() ? name->second
                                                : "port " + std::to_string(e.subject);
        out_.marks.push_back(std::move(lane));
    }
    out_.marks[found->second].marks.push_back({e.time, e.value, actor(e.core), e.core});
}

void GrowingTasks::lose(std::uint16_t c, Time from, Time to) {
    LiveCore& core = cores_[c];
    account(c, from);
    core.observed = false;
    core.last = to;
    core.interrupts.clear();
    if (make_lanes_[c]) core.nest.lose(from, to);
    if (core.critical) {
        core.critical_span.end = from;
        core.critical_span.flags = LockHold::kCut;
        out_.cores[c].critical.push_back(core.critical_span);
        core.critical = false;
    }
    if (core.running != CoreRun::kUnknown) run(c, from, CoreRun::kUnknown);
    for (std::size_t i = 0; i < tasks_.size(); ++i) {
        if (out_.tasks[i].core != c) continue;
        LiveTask& t = tasks_[i];
        if (t.state != TaskState::unknown && t.state != TaskState::absent) set_state(i, from, TaskState::unknown, 0, c);
        close_job(i, from, TaskJob::kUncertain);
        t.ended_a_job = false;
        t.broken = true;
        if (t.wait_lock != kNobody) {
            LiveLock& l = locks_[t.wait_lock];
            t.wait.end = from;
            t.wait.flags = LockWait::kCut;
            out_.locks[t.wait_lock].waits.push_back(t.wait);
            l.waiters.erase(std::remove(l.waiters.begin(), l.waiters.end(), i), l.waiters.end());
            t.wait_lock = kNobody;
        }
        for (const std::size_t l : t.held) {
            if (locks_[l].holder == i)
                out_.locks[l].holds.push_back({locks_[l].since, from, static_cast<std::uint32_t>(i), LockHold::kCut});
            locks_[l].holder = kNobody;
            locks_[l].taken = false;
        }
        t.held.clear();
        for (const auto& [id, begin] : t.uses)
            out_.resources[resource_index_[id]].add({begin, from, static_cast<std::uint32_t>(i), LockHold::kCut});
        t.uses.clear();
    }
    for (auto& l : locks_)
        if (l.holder != kNobody && !l.taken && l.holder < out_.tasks.size() && out_.tasks[l.holder].core == c)
            l.holder = kNobody;
}

void GrowingTasks::take(const OsEvent& e, const OsBlock& texts) {
    if (e.core >= cores_.size()) return;
    reached_ = std::max(reached_, e.time);
    LiveCore& core = cores_[e.core];
    if (e.kind == OsKind::lost) {
        lose(e.core, Time{e.value}, e.time);
        return;
    }
    if (!out_.cores[e.core].only_switches) trail_.cores[e.core].density.add_event(e.time);
    if (!trail_.doubtful.empty() &&
        (e.kind == OsKind::task_switch_in || e.kind == OsKind::task_ready || e.kind == OsKind::task_block))
        doubt_from_afar(e);
    switch (e.kind) {
        case OsKind::task_create: {
            TaskLane& lane = out_.tasks[task(e.subject, e.core)];
            const std::string& name = texts.texts[text_of(e.value)];
            if (!name.empty()) lane.name = name;
            apply_rule(lane);
            if (priority_of(e.value) != kNoPriority) {
                lane.priority = priority_of(e.value);
                lane.priority_known = true;
                lane.idle = lane.priority == 0;
            }
            if (recording_.events) lane.idle = lane.idle || recording_.events->binding->idle_name(lane.name);
            // Who had done something before is only named again, for those who began to listen late.
            if (!lane.was_created && lane.stretches.empty()) {
                lane.created = e.time;
                lane.was_created = true;
            }
            break;
        }
        case OsKind::object_name: {
            const std::string& name = texts.texts[text_of(e.value)];
            switch (static_cast<ObjectKind>(e.code)) {
                case ObjectKind::mutex:
                    object_names_[e.subject] = name;
                    out_.locks[lock(e.subject)].name = name;
                    break;
                case ObjectKind::queue:
                    object_names_[e.subject] = name;
                    queue(e.subject).name = name;
                    break;
                case ObjectKind::semaphore: {
                    const auto [found, fresh] = semaphore_index_.try_emplace(e.subject, out_.semaphores.size());
                    if (fresh) out_.semaphores.push_back({e.subject, name, 0, 0, {}});
                    out_.semaphores[found->second].name = name;
                    break;
                }
                case ObjectKind::resource: {
                    const auto [found, fresh] = resource_index_.try_emplace(e.subject, out_.resources.size());
                    if (fresh) out_.resources.push_back({e.subject, name, {}, {}});
                    out_.resources[found->second].name = name;
                    break;
                }
                case ObjectKind::signal:
                    signal_names_[e.subject] = name;
                    if (const auto v = value_index_.find(e.subject); v != value_index_.end())
                        out_.values[v->second].name = name;
                    break;
                case ObjectKind::interrupt: {
                    out_.interrupt_names[e.subject] = name;
                    for (std::size_t c = 0; c < cores_.size(); ++c)
                        if (const int l = cores_[c].lane_of[code_of(e.subject)]; l >= 0)
                            trail_.cores[c].lanes[static_cast<std::size_t>(l)].rename(name);
                    break;
                }
                case ObjectKind::marker_port:
                    port_names_[e.subject] = name;
                    if (const auto m = mark_index_.find(e.subject); m != mark_index_.end())
                        out_.marks[m->second].name = name;
                    break;
                default:
                    break;
            }
            break;
        }
        case OsKind::task_switch_in:
            switch_in(e);
            break;
        case OsKind::task_ready:
            ready(e);
            break;
        case OsKind::task_block:
            block(e);
            break;
        case OsKind::task_priority: {
            out_.tasks[task(e.subject, e.core)].priorities.push_back({e.time, static_cast<std::int32_t>(e.value)});
            break;
        }
        case OsKind::isr_enter:
        case OsKind::isr_exit:
            isr(e);
            break;
        case OsKind::mutex_take:
        case OsKind::mutex_take_blocked:
            take_lock(e);
            break;
        case OsKind::mutex_give:
            give_lock(e);
            break;
        case OsKind::queue_send:
        case OsKind::queue_receive:
        case OsKind::queue_send_failed: {
            QueueLane& q = queue(e.subject);
            QueueOp op;
            op.time = e.time;
            op.fill = static_cast<std::uint32_t>(std::clamp<std::int64_t>(e.value, 0, 0xFFFF'FFFF));
            op.who = actor(e.core);
            op.kind = e.kind == OsKind::queue_send      ? QueueOp::send
                      : e.kind == OsKind::queue_receive ? QueueOp::receive
                                                        : QueueOp::failed;
            std::uint64_t& n = op.kind == QueueOp::send ? q.sent : op.kind == QueueOp::receive ? q.received : q.failed;
            op.serial = static_cast<std::uint32_t>(n++);
            q.peak = std::max(q.peak, op.fill);
            if (op.kind == QueueOp::failed) q.capacity = std::max(q.capacity, op.fill);
            q.ops.push_back(op);
            break;
        }
        case OsKind::sem_give:
        case OsKind::sem_take: {
            const auto [found, fresh] = semaphore_index_.try_emplace(e.subject, out_.semaphores.size());
            if (fresh) out_.semaphores.push_back({e.subject, "semaphore " + std::to_string(e.subject), 0, 0, {}});
            SemaphoreLane& lane = out_.semaphores[found->second];
            const bool given = e.kind == OsKind::sem_give;
            ++(given ? lane.gives : lane.takes);
            lane.uses.push_back({e.time, actor(e.core), given});
            break;
        }
        case OsKind::critical_enter:
            if (!core.critical) core.critical_span = {e.time, e.time, core.running, 0};
            core.critical = true;
            break;
        case OsKind::critical_exit:
            if (core.critical) {
                core.critical_span.end = e.time;
                out_.cores[e.core].critical.push_back(core.critical_span);
            }
            core.critical = false;
            break;
        case OsKind::marker:
        case OsKind::other:
            marker(e);
            break;
        case OsKind::signal:
            value(e.core, e.subject, "", e.time, Value::of(e.value), {});
            break;
        case OsKind::fault: {
            TaskFault f;
            f.time = e.time;
            f.core = e.core;
            f.task = core.running < out_.tasks.size() ? core.running : kNobody;
            if (!core.interrupts.empty()) f.interrupt = core.interrupts.back().number;
            f.what = texts.faults[static_cast<std::size_t>(e.value)];
            f.offset = e.offset;
            if (out_.faults.size() < 1000) out_.faults.push_back(std::move(f));
            break;
        }
        case OsKind::lost:
            break;
    }
    out_.cores[e.core].present = true;
}

void GrowingTasks::only_switches(std::size_t core) { out_.cores[core].only_switches = true; }

void GrowingTasks::doubt_running_job(std::size_t core) {
    if (cores_[core].running < tasks_.size()) tasks_[cores_[core].running].job.flags |= TaskJob::kUncertain;
}

void GrowingTasks::value(std::size_t core, std::uint32_t id, const std::string& name, Time t, Value value,
                         const ValueOrigin& origin, const std::map<std::uint64_t, std::string>* names) {
    const auto [found, fresh] = value_index_.try_emplace(id, out_.values.size());
    if (fresh) {
        ValueLane lane;
        lane.id = id;
        lane.core = static_cast<std::uint16_t>(core);
        const auto named = signal_names_.find(id);
        lane.name = !name.empty() ? name : named != signal_names_.end() ? named->second : "value " + std::to_string(id);
        if (names != nullptr) lane.value_names = *names;
        lane.sort = value.sort;
        out_.values.push_back(std::move(lane));
    }
    out_.values[found->second].append(t, value.bits, origin);
}

void GrowingTasks::mark(std::size_t core, std::uint32_t id, const std::string& name, Time t, std::int64_t value,
                        const std::map<std::uint64_t, std::string>* names) {
    const auto [found, fresh] = mark_index_.try_emplace(id, out_.marks.size());
    if (fresh) {
        MarkLane lane;
        lane.id = id;
        lane.name = name;
        if (names != nullptr) lane.value_names = *names;
        out_.marks.push_back(std::move(lane));
    }
    out_.marks[found->second].marks.push_back({t, value, actor(core), static_cast<std::uint16_t>(core)});
}

void GrowingTasks::enter_interrupt(std::size_t core, unsigned number, Time t) {
    reached_ = std::max(reached_, t);
    account(core, t);
    std::vector<LiveCore::Open>& open = cores_[core].interrupts;
    open.push_back({number, t, 0});
    if (open.size() > 200) {
        ++out_.contradictions;
        open.clear();
    }
    out_.cores[core].present = true;
}

void GrowingTasks::leave_interrupt(std::size_t core, Time t) {
    reached_ = std::max(reached_, t);
    account(core, t);
    if (!cores_[core].interrupts.empty()) cores_[core].interrupts.pop_back();
}

void GrowingTasks::pass_interrupt(std::size_t core, Time from, Time to) {
    account(core, from);
    reached_ = std::max(reached_, to);
    LiveCore& live = cores_[core];
    CoreTasks& sums = out_.cores[core];
    sums.present = true;
    const Time passed = to - from;
    live.last = to;
    if (!live.observed || passed.ps <= 0) return;
    sums.observed += passed;
    sums.interrupts += passed;
}

void GrowingTasks::settle() {
    for (std::size_t c = 0; c < cores_.size(); ++c) {
        LiveCore& live = cores_[c];
        CoreTrail& core = trail_.cores[c];
        if (make_lanes_[c]) {
            for (const auto& x : live.nest.closed()) {
                int& lane = live.lane_of[x.number];
                if (lane < 0) {
                    lane = static_cast<int>(core.lanes.size());
                    const std::uint32_t number = ExceptionId::of(x.number).number;
                    const auto name = out_.interrupt_names.find(number);
                    core.lanes.emplace_back(x.number, name != out_.interrupt_names.end()
                                                          ? name->second
                                                          : "interrupt " + std::to_string(number));
                }
                core.lanes[static_cast<std::size_t>(lane)].append(x);
            }
            for (const auto& change : live.nest.changes()) core.add_change(change.time, change.running);
            live.nest.clear();
        }
        if (out_.cores[c].present) core.end = std::max(core.end, live.last);
    }
    trail_.end = std::max(trail_.end, reached_);
}

void GrowingTasks::finish() {
    for (std::size_t c = 0; c < cores_.size(); ++c) {
        if (!out_.cores[c].present) continue;
        LiveCore& live = cores_[c];
        account(c, std::max(live.last, reached_));
        if (live.critical) {
            live.critical_span.end = reached_;
            live.critical_span.flags = LockHold::kCut;
            out_.cores[c].critical.push_back(live.critical_span);
            live.critical = false;
        }
        if (make_lanes_[c]) live.nest.finish(reached_);
    }
    for (std::size_t i = 0; i < tasks_.size(); ++i) {
        LiveTask& t = tasks_[i];
        close_job(i, reached_, TaskJob::kOpen);
        if (t.wait_lock != kNobody) {
            t.wait.end = reached_;
            t.wait.flags = LockWait::kNeverGot;
            out_.locks[t.wait_lock].waits.push_back(t.wait);
            t.wait_lock = kNobody;
        }
        for (const std::size_t l : t.held)
            if (locks_[l].holder == i)
                out_.locks[l].holds.push_back(
                    {locks_[l].since, reached_, static_cast<std::uint32_t>(i), LockHold::kCut});
        t.held.clear();
        for (const auto& [id, begin] : t.uses)
            out_.resources[resource_index_[id]].uses.push_back(
                {begin, reached_, static_cast<std::uint32_t>(i), LockHold::kCut});
        t.uses.clear();
    }
    for (auto& t : out_.tasks) t.cpu = whole_ticks(t.cpu, t.core);
    settle();
    for (std::size_t c = 0; c < cores_.size(); ++c) {
        if (!make_lanes_[c] || !out_.cores[c].present) continue;
        trail_.cores[c].contradictions += cores_[c].nest.contradictions();
        trail_.cores[c].cuts = cores_[c].nest.cuts();
        trail_.cores[c].by_priority = order_by_priority(trail_.cores[c]);
    }
}

}  // namespace mt
