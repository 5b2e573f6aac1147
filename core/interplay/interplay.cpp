#include "interplay/interplay.h"

#include <algorithm>
#include <array>
#include <map>
#include <tuple>
#include <utility>

#include "base/text.h"
#include "measure/refs.h"

namespace mt {
namespace {

using Sort = InterplayNode::Sort;
using Key = std::pair<Sort, std::uint64_t>;
constexpr std::uint64_t kNoLane = std::uint64_t{1} << 63;  // an interrupt that has no lane: by its number
constexpr std::size_t kAskEach = 4096;                     // instances between two looks at the cancel flag

constexpr std::uint64_t interrupt_number(std::size_t core, std::size_t lane) {
    return std::uint64_t{core} << 32 | lane;
}

// Who stands behind the actors of events, and who had a core when something was written.
class Actors {
  public:
    explicit Actors(const Trail& trail) : trail_(trail) {}

    Key of(std::uint32_t who, Time t) {
        if (who == kNobody) return {Sort::unknown, 0};
        if (!Actor::is_interrupt(who)) return {Sort::task, who};
        const auto [found, fresh] = lanes_.try_emplace(who);
        if (fresh) found->second = lanes_of(who & 0xFFFF);
        if (found->second.empty()) return {Sort::interrupt, kNoLane | (who & 0xFFFF)};
        for (const auto& [core, lane] : found->second)  // one number on several cores: where it ran then
            if (found->second.size() == 1 || trail_.cores[core].lanes[lane].at(t))
                return {Sort::interrupt, interrupt_number(core, lane)};
        return {Sort::interrupt, interrupt_number(found->second[0].first, found->second[0].second)};
    }

    // Whoever ran at this moment, or up to it: what a task does last bears the time at which it is left.
    Key writer(std::size_t c, Time t) {
        const Key then = at(c, t);
        return then.first != Sort::unknown || t.ps == 0 ? then : at(c, t - Time{1});
    }

  private:
    Key at(std::size_t c, Time t) const {
        if (c >= trail_.cores.size() || trail_.gaps.touch(c, t, t)) return {Sort::unknown, 0};
        const CoreTrail& core = trail_.cores[c];
        const std::uint16_t running = core.running_at(t);
        if (ContextChange::is_handler(running)) {
            const auto lane = core.lane_index(running);
            return lane ? Key{Sort::interrupt, interrupt_number(c, *lane)} : Key{Sort::unknown, 0};
        }
        if (c < trail_.tasks.cores.size() && trail_.tasks.cores[c].present) {
            const CoreTasks& tasks = trail_.tasks.cores[c];
            const std::size_t run = tasks.run_at(t);
            if (run < tasks.runs.size() && tasks.runs[run].who < trail_.tasks.tasks.size())
                return {Sort::task, tasks.runs[run].who};
            return {Sort::unknown, 0};
        }
        return running == 0 && core.thread_seen ? Key{Sort::thread, c} : Key{Sort::unknown, 0};
    }

    std::vector<std::pair<std::size_t, std::size_t>> lanes_of(std::uint32_t number) const {
        std::vector<std::pair<std::size_t, std::size_t>> all;
        for (std::size_t c = 0; c < trail_.cores.size(); ++c)
            for (std::size_t l = 0; l < trail_.cores[c].lanes.size(); ++l) {
                const ExceptionId id = trail_.cores[c].lanes[l].id();
                if (trail_.cores[c].system_lanes && id.number == number) all.emplace_back(c, l);
            }
        return all;
    }

    const Trail& trail_;
    std::map<std::uint32_t, std::vector<std::pair<std::size_t, std::size_t>>> lanes_;
};

// What a task waits for, if that is an object that the recording tells of.
std::optional<Key> object_key(const TaskTrail& tasks, std::uint32_t id) {
    const auto index = [id](const auto& all) -> std::optional<std::size_t> {
        const auto found = std::find_if(all.begin(), all.end(), [id](const auto& x) { return x.id == id; });
        if (found == all.end()) return std::nullopt;
        return static_cast<std::size_t>(found - all.begin());
    };
    if (id == 0) return std::nullopt;
    if (const auto i = index(tasks.queues); i && tasks.queues[*i].ops.size() > 0) return Key{Sort::queue, *i};
    if (const auto i = index(tasks.semaphores); i && tasks.semaphores[*i].uses.size() > 0)
        return Key{Sort::semaphore, *i};
    if (const auto i = index(tasks.locks); i && tasks.locks[*i].holds.size() > 0) return Key{Sort::lock, *i};
    return std::nullopt;
}

// A wait for an object: what it would do, and until when.
struct Wait {
    Key object;
    Deed deed = Deed::received;
    Time begin, end;
    bool whole = true, endless = false;
};
Deed waited_for(Sort object, std::uint16_t reason) {
    if (object == Sort::queue)
        return static_cast<BlockReason>(reason) == BlockReason::queue_full ? Deed::sends : Deed::received;
    return Deed::taken;
}
// What follows a wait tells whether it ended; waits for locks are kept with these.
std::optional<Wait> wait_of(const Trail& trail, const TaskLane& lane, std::size_t i,
                            const std::map<std::uint32_t, std::optional<Key>>& objects) {
    const TaskStretch& s = lane.stretches[i];
    if (!is_waiting(s.state) || s.object == 0) return std::nullopt;
    const auto found = objects.find(s.object);
    if (found == objects.end() || !found->second || found->second->first == Sort::lock) return std::nullopt;
    Wait wait{*found->second, waited_for(found->second->first, s.reason), s.begin, trail.end};
    if (i + 1 == lane.stretches.size()) {
        wait.whole = false;
        wait.endless = true;
        return wait;
    }
    const TaskStretch& next = lane.stretches[i + 1];
    wait.end = next.begin;
    wait.whole = next.state == TaskState::ready || next.state == TaskState::running;
    return wait;
}
// Who ended a wait that no object tells of; nothing if this is no such moment.
std::optional<std::uint32_t> waker_of(const TaskLane& lane, std::size_t i,
                                      const std::map<std::uint32_t, std::optional<Key>>& objects) {
    const TaskStretch& s = lane.stretches[i];
    if (i == 0 || s.state != TaskState::ready || !is_waiting(lane.stretches[i - 1].state)) return std::nullopt;
    // The next activation was due already when the job ended: nobody had to wake it.
    if (s.object == kNobody && lane.stretches[i - 1].begin == s.begin) return std::nullopt;
    const auto found = objects.find(lane.stretches[i - 1].object);
    return found != objects.end() && found->second ? std::nullopt : std::optional(s.object);
}
std::map<std::uint32_t, std::optional<Key>> objects_of(const TaskTrail& tasks) {
    std::map<std::uint32_t, std::optional<Key>> all;
    for (const auto& q : tasks.queues) all[q.id] = object_key(tasks, q.id);
    for (const auto& s : tasks.semaphores) all[s.id] = object_key(tasks, s.id);
    for (const auto& l : tasks.locks) all[l.id] = object_key(tasks, l.id);
    return all;
}

template <class Row, class TimeOf>
std::size_t first_at(const Column<Row>& column, Time from, TimeOf time_of) {
    return column.partition_point([&](const Row& r) { return time_of(r) < from; });
}

// Everything that comes about within [from, to], told to `each(actor, object, deed, InterplayCall)` whose call has no
// edge and no wait yet. Each object's, and each task's wakes, in order of time.
template <class Each>
void each_queue_call(const QueueLane& queue, std::size_t index, Actors& actors, Time from, Time to, Each each) {
    for (std::size_t i = first_at(queue.ops, from, [](const QueueOp& o) { return o.time; });
         i < queue.ops.size() && queue.ops[i].time <= to; ++i) {
        const QueueOp& op = queue.ops[i];
        InterplayCall call{
            op.time, {}, 0, i, op.kind == QueueOp::failed ? InterplayCall::refused : InterplayCall::done};
        if (!each(actors.of(op.who, op.time), Key{Sort::queue, index},
                  op.kind == QueueOp::receive ? Deed::received : Deed::sends, call))
            return;
    }
}
template <class Each>
void each_semaphore_call(const SemaphoreLane& semaphore, std::size_t index, Actors& actors, Time from, Time to,
                         Each each) {
    for (std::size_t i = first_at(semaphore.uses, from, [](const SemaphoreUse& u) { return u.time; });
         i < semaphore.uses.size() && semaphore.uses[i].time <= to; ++i) {
        const SemaphoreUse& use = semaphore.uses[i];
        if (!each(actors.of(use.who, use.time), Key{Sort::semaphore, index}, use.given ? Deed::gives : Deed::taken,
                  InterplayCall{use.time, {}, 0, i, InterplayCall::done}))
            return;
    }
}
template <class Each>
void each_lock_call(const LockLane& lock, std::size_t index, Time from, Time to, Each each) {
    for (std::size_t i = first_at(lock.holds, from, [](const LockHold& h) { return h.begin; });
         i < lock.holds.size() && lock.holds[i].begin <= to; ++i)
        if (!each(lock.holds[i].task == kNobody ? Key{Sort::unknown, 0} : Key{Sort::task, lock.holds[i].task},
                  Key{Sort::lock, index}, Deed::locks,
                  InterplayCall{lock.holds[i].begin, {}, 0, i, InterplayCall::done}))
            return;
}
template <class Each>
void each_resource_call(const ResourceLane& resource, std::size_t index, Time from, Time to, Each each) {
    for (std::size_t i = first_at(resource.uses, from, [](const UseSpan& u) { return u.end; });
         i < resource.uses.size() && resource.uses[i].end - resource.longest <= to; ++i) {
        const UseSpan& use = resource.uses[i];
        if (use.begin < from || use.begin > to) continue;
        if (!each(use.task == kNobody ? Key{Sort::unknown, 0} : Key{Sort::task, use.task}, Key{Sort::resource, index},
                  Deed::uses, InterplayCall{use.begin, {}, 0, i, InterplayCall::done}))
            return;
    }
}
template <class Each>
void each_value_call(const ValueLane& value, std::size_t index, Actors& actors, Time from, Time to, Each each) {
    if (value.samples.even()) return;  // nobody in the program did that
    for (std::size_t i = value.samples.before(from);
         i < value.samples.size() && value.samples.time(i) <= to; ++i) {
        const ValueAccess access = value.origin(i).access;
        if (access >= ValueAccess::sampled) continue;  // nobody in the program did that
        const Time t = value.samples.time(i);
        if (!each(actors.writer(value.core, t), Key{Sort::value, index},
                  access == ValueAccess::written ? Deed::writes : Deed::read,
                  InterplayCall{t, {}, 0, i, InterplayCall::done}))
            return;
    }
}
template <class Each>
void each_wake(const TaskLane& task, std::size_t index, const std::map<std::uint32_t, std::optional<Key>>& objects,
               Actors& actors, Time from, Time to, Each each) {
    const auto [first, last] = task.touching(from, to);
    for (std::size_t i = first; i < last; ++i)
        if (const auto who = waker_of(task, i, objects); who && task.stretches[i].begin >= from) {
            const Time t = task.stretches[i].begin;
            if (!each(actors.of(*who, t), Key{Sort::task, index}, Deed::wakes,
                      InterplayCall{t, t - task.stretches[i - 1].begin, 0, i, InterplayCall::done}))
                return;
        }
}
// Whole waits end within [from, to]; those without an end began by `to`.
template <class Each>
void each_wait(const Trail& trail, const TaskLane& task, const std::map<std::uint32_t, std::optional<Key>>& objects,
               Time from, Time to, Each each) {
    const auto [first, last] = task.touching(from, to);
    for (std::size_t i = first; i < last; ++i)
        if (const auto wait = wait_of(trail, task, i, objects);
            wait && (wait->endless || (wait->end >= from && wait->end <= to)))
            each(*wait);
}

class Builder {
  public:
    Builder(const Trail& trail, Time from, Time to, const Progress& progress)
        : trail_(trail), tasks_(trail.tasks), actors_(trail), progress_(progress) {
        out_.from = from;
        out_.to = to;
    }

    Interplay build() {
        const Time from = out_.from, to = out_.to;
        if (progress_.cancelled()) return std::move(out_);
        const auto count = [this](const Key& actor, const Key& object, Deed deed, const InterplayCall& call) {
            InterplayEdge& e = edge(actor, object, deed);
            ++(call.outcome == InterplayCall::refused ? e.failed : e.count);
            if (e.count + e.failed == 1) e.worst_from = e.worst_to = call.time;
            if (deed == Deed::wakes) take_wait(e, call.time - call.waited, call.time);
            stop_ = stop_ || (++told_ % kAskEach == 0 && progress_.cancelled());
            return !stop_;
        };
        for (std::size_t i = 0; i < tasks_.queues.size(); ++i)
            each_queue_call(tasks_.queues[i], i, actors_, from, to, count);
        for (std::size_t i = 0; i < tasks_.semaphores.size(); ++i)
            each_semaphore_call(tasks_.semaphores[i], i, actors_, from, to, count);
        for (std::size_t i = 0; i < tasks_.locks.size(); ++i) {
            each_lock_call(tasks_.locks[i], i, from, to, count);
            const auto& waits = tasks_.locks[i].waits;
            for (std::size_t w = first_at(waits, from, [](const LockWait& x) { return x.end; });
                 w < waits.size() && waits[w].end <= to; ++w)
                if (waits[w].whole() && waits[w].task != kNobody)
                    take_wait(edge({Sort::task, waits[w].task}, {Sort::lock, i}, Deed::locks), waits[w].begin,
                              waits[w].end);
        }
        for (std::size_t i = 0; i < tasks_.resources.size(); ++i)
            each_resource_call(tasks_.resources[i], i, from, to, count);
        for (std::size_t i = 0; i < tasks_.values.size(); ++i)
            each_value_call(tasks_.values[i], i, actors_, from, to, count);
        const auto objects = objects_of(tasks_);
        for (std::size_t i = 0; i < tasks_.tasks.size() && !progress_.cancelled(); ++i) {
            each_wake(tasks_.tasks[i], i, objects, actors_, from, to, count);
            each_wait(trail_, tasks_.tasks[i], objects, from, to, [&](const Wait& wait) {
                if (wait.whole) take_wait(edge({Sort::task, i}, wait.object, wait.deed), wait.begin, wait.end);
            });
        }
        sort();
        return std::move(out_);
    }

  private:
    std::size_t node(const Key& key) {
        const auto [found, fresh] = nodes_.try_emplace(key, out_.nodes.size());
        if (fresh) out_.nodes.push_back(named(key));
        return found->second;
    }
    InterplayEdge& edge(const Key& actor, const Key& object, Deed deed) {
        const auto key = std::tuple(actor, object, deed);
        if (last_ && *last_ == key) return out_.edges[last_edge_];
        const auto [found, fresh] = edges_.try_emplace(key, out_.edges.size());
        if (fresh) {
            InterplayEdge e;
            e.from = node(actor);
            e.to = node(object);
            if (acts_at_end(deed)) std::swap(e.from, e.to);
            e.deed = deed;
            out_.edges.push_back(e);
        }
        last_ = key;
        last_edge_ = found->second;
        return out_.edges[last_edge_];
    }
    static void take_wait(InterplayEdge& e, Time begin, Time end) {
        ++e.waits;
        if (e.waits > 1 && end - begin <= e.worst_wait) return;
        e.worst_wait = end - begin;
        e.worst_from = begin;
        e.worst_to = end;
    }

    InterplayNode named(const Key& key) const {
        InterplayNode n;
        n.sort = key.first;
        n.number = key.second;
        const auto i = static_cast<std::size_t>(key.second);
        const auto object = [&n, i](const std::string& name, const LaneKind& kind) {
            n.name = name;
            n.lane = {&kind, i};
        };
        switch (n.sort) {
            case Sort::task:
                n.name = tasks_.task_name(static_cast<std::uint32_t>(i));
                n.lane = task_lane(i);
                break;
            case Sort::interrupt: {
                if ((n.number & kNoLane) != 0) {
                    const auto number = static_cast<std::uint32_t>(n.number & 0xFFFF);
                    const auto found = tasks_.interrupt_names.find(number);
                    n.name = found != tasks_.interrupt_names.end() ? found->second : std::to_string(number);
                    break;
                }
                n.core = i >> 32;
                n.lane = interrupt_lane(n.core, i & 0xFFFF'FFFF);
                n.name = trail_.cores[n.core].lanes[i & 0xFFFF'FFFF].name();
                break;
            }
            case Sort::thread:
                n.core = i;
                n.name = trail_.cores[i].name;
                n.lane = {&threads_kind(), i};
                break;
            case Sort::queue:
                object(tasks_.queues[i].name, queues_kind());
                break;
            case Sort::semaphore:
                object(tasks_.semaphores[i].name, semaphores_kind());
                break;
            case Sort::lock:
                object(tasks_.locks[i].name, locks_kind());
                break;
            case Sort::resource:
                object(tasks_.resources[i].name, resources_kind());
                break;
            case Sort::value:
                object(tasks_.values[i].name, tasks_.values[i].value_names.empty() ? values_kind() : states_kind());
                break;
            case Sort::unknown:
                n.name = "unknown";
                break;
        }
        return n;
    }

    void sort() {
        std::vector<std::size_t> order, place(out_.nodes.size());
        for (const auto& [key, at] : nodes_) order.push_back(at);
        std::vector<InterplayNode> nodes;
        for (std::size_t i = 0; i < order.size(); ++i) {
            place[order[i]] = i;
            nodes.push_back(std::move(out_.nodes[order[i]]));
        }
        out_.nodes = std::move(nodes);
        for (InterplayEdge& e : out_.edges) {
            e.from = place[e.from];
            e.to = place[e.to];
        }
        std::sort(out_.edges.begin(), out_.edges.end(), [](const InterplayEdge& a, const InterplayEdge& b) {
            return std::tuple(a.from, a.to, a.deed) < std::tuple(b.from, b.to, b.deed);
        });
    }

    const Trail& trail_;
    const TaskTrail& tasks_;
    Actors actors_;
    const Progress& progress_;
    Interplay out_;
    std::map<Key, std::size_t> nodes_;
    std::map<std::tuple<Key, Key, Deed>, std::size_t> edges_;
    std::optional<std::tuple<Key, Key, Deed>> last_;
    std::size_t last_edge_ = 0;
    std::uint64_t told_ = 0;
    bool stop_ = false;
};

// Joins the waits of one task for one object, by their ends, with what came of them.
std::vector<InterplayCall> with_waits(std::vector<InterplayCall> calls, const std::vector<Wait>& waits,
                                      std::size_t most) {
    std::vector<InterplayCall> all;
    std::size_t w = 0;
    const auto nothing_came = [&](const Wait& wait) {
        all.push_back({wait.endless ? wait.begin : wait.end, wait.end - wait.begin, 0, 0,
                       wait.endless ? InterplayCall::endless : InterplayCall::nothing});
    };
    for (InterplayCall& call : calls) {
        while (w < waits.size() && waits[w].end <= call.time) {
            if (w + 1 < waits.size() && waits[w + 1].end <= call.time)
                nothing_came(waits[w]);
            else if (waits[w].whole)
                call.waited = waits[w].end - waits[w].begin;
            ++w;
        }
        all.push_back(call);
    }
    // What was still to come lies behind `most` calls.
    for (; w < waits.size() && calls.size() < most; ++w) nothing_came(waits[w]);
    return all;
}

}  // namespace

std::string_view deed_text(Deed deed) {
    static constexpr std::array<std::string_view, 9> kTexts = {
        "sends to", "received by", "gives", "taken by", "locks", "uses", "writes", "read by", "wakes"};
    return kTexts[static_cast<std::size_t>(deed)];
}

std::string_view deed_word(Deed deed) {
    static constexpr std::array<std::string_view, 9> kWords = {"send", "receive", "give", "take", "lock",
                                                               "use",  "write",   "read", "wake"};
    return kWords[static_cast<std::size_t>(deed)];
}

std::string_view node_sort_text(InterplayNode::Sort sort) {
    static constexpr std::array<std::string_view, 9> kTexts = {
        "task", "interrupt", "thread mode", "queue", "semaphore", "lock", "resource", "value", "not known who"};
    return kTexts[static_cast<std::size_t>(sort)];
}

double Interplay::rate(const InterplayEdge& edge) const {
    const double seconds = (to - from).seconds();
    return seconds > 0 ? static_cast<double>(edge.count) / seconds : 0;
}

bool tells_interplay(const Trail& trail) {
    const auto some = [](const auto& all, const auto& column) {
        return std::any_of(all.begin(), all.end(), [&](const auto& x) { return (x.*column).size() > 0; });
    };
    const TaskTrail& t = trail.tasks;
    const bool written = std::any_of(t.values.begin(), t.values.end(), [](const ValueLane& v) {
        return v.samples.size() > 0 && v.origin(0).access < ValueAccess::sampled;
    });
    return written || some(t.queues, &QueueLane::ops) || some(t.semaphores, &SemaphoreLane::uses) ||
           some(t.locks, &LockLane::holds) || some(t.resources, &ResourceLane::uses) ||
           std::any_of(t.tasks.begin(), t.tasks.end(), [](const TaskLane& l) { return l.stretches.size() > 2; });
}

Interplay interplay(const Trail& trail, Time from, Time to, const Progress& progress) {
    return Builder(trail, from, to, progress).build();
}

std::vector<InterplayCall> interplay_calls(const Trail& trail, const Interplay& of,
                                           const std::vector<std::size_t>& edges, std::size_t most,
                                           const Progress& progress) {
    const TaskTrail& tasks = trail.tasks;
    const auto objects = objects_of(tasks);
    Actors actors(trail);
    std::vector<InterplayCall> all;
    for (const std::size_t index : edges) {
        const InterplayEdge& edge = of.edges[index];
        const InterplayNode &actor = of.actor(edge), &object = of.object(edge);
        const Key by{actor.sort, actor.number};
        const auto at = static_cast<std::size_t>(object.number);
        std::vector<InterplayCall> calls;
        std::uint64_t told = 0;
        const auto collect = [&](const Key& who, const Key&, Deed deed, const InterplayCall& call) {
            if (who == by && deed == edge.deed) calls.push_back(call);
            return calls.size() < most && (++told % kAskEach != 0 || !progress.cancelled());
        };
        std::vector<Wait> waits;
        if (object.sort == Sort::queue) each_queue_call(tasks.queues[at], at, actors, of.from, of.to, collect);
        if (object.sort == Sort::semaphore)
            each_semaphore_call(tasks.semaphores[at], at, actors, of.from, of.to, collect);
        if (object.sort == Sort::resource) each_resource_call(tasks.resources[at], at, of.from, of.to, collect);
        if (object.sort == Sort::value) each_value_call(tasks.values[at], at, actors, of.from, of.to, collect);
        if (object.sort == Sort::task) each_wake(tasks.tasks[at], at, objects, actors, of.from, of.to, collect);
        if (object.sort == Sort::lock) {
            each_lock_call(tasks.locks[at], at, of.from, of.to, collect);
            for (std::size_t w = 0; w < tasks.locks[at].waits.size(); ++w) {
                const LockWait& wait = tasks.locks[at].waits[w];
                if (Key{Sort::task, wait.task} != by || wait.end < of.from || wait.begin > of.to) continue;
                waits.push_back({{Sort::lock, at},
                                 Deed::locks,
                                 wait.begin,
                                 wait.end,
                                 wait.whole(),
                                 (wait.flags & LockWait::kNeverGot) != 0});
            }
        } else if (actor.sort == Sort::task && object.sort != Sort::task) {
            each_wait(trail, tasks.tasks[static_cast<std::size_t>(actor.number)], objects, of.from, of.to,
                      [&](const Wait& wait) {
                          if (wait.object == Key{object.sort, object.number} && wait.deed == edge.deed)
                              waits.push_back(wait);
                      });
        }
        for (InterplayCall call : with_waits(std::move(calls), waits, most)) {
            call.edge = index;
            all.push_back(call);
        }
        if (progress.cancelled()) break;
    }
    std::stable_sort(all.begin(), all.end(),
                     [](const InterplayCall& a, const InterplayCall& b) { return a.time < b.time; });
    return all;
}

std::string call_result(const Trail& trail, const Interplay& of, const InterplayCall& call) {
    if (call.outcome == InterplayCall::endless) return "still waiting when the recording ended";
    if (call.outcome == InterplayCall::nothing) return "not acquired";
    const InterplayNode& object = of.object(of.edges[call.edge]);
    const auto i = static_cast<std::size_t>(object.number);
    switch (object.sort) {
        case Sort::queue:
            return call.outcome == InterplayCall::refused
                       ? "send failed (full)"
                       : plural(trail.tasks.queues[i].ops[call.at].fill, "entry", "entries") + " then";
        case Sort::lock: {
            const LockHold& hold = trail.tasks.locks[i].holds[call.at];
            return (hold.flags & LockHold::kCut) != 0 ? "end not seen" : "held " + duration_text(hold.end - hold.begin);
        }
        case Sort::resource: {
            const UseSpan& use = trail.tasks.resources[i].uses[call.at];
            return (use.flags & LockHold::kCut) != 0 ? "end not seen" : "used " + duration_text(use.end - use.begin);
        }
        case Sort::value:
            return trail.tasks.values[i].value(call.at).text();
        default:
            return {};
    }
}

}  // namespace mt
