// Tasks that get no processor, cores that never rest, queues that overflow, and faults that the system reports.
#include <algorithm>
#include <cmath>
#include <cstdio>
#include <map>
#include <set>

#include "base/text.h"
#include "judge/detector.h"
#include "judge/witness.h"
#include "measure/tasks.h"

namespace mt {
namespace {

struct Stretch {
    std::size_t task = 0;
    Time begin, end;
    Time usual;  ///< 95 % of its other such stretches are shorter
};

// Times from becoming ready, or from losing the core, to running again, far beyond what is usual for the task.
void find_starvation(const Judged& judged, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Starvation& limits = judged.thresholds.starvation;
    const auto& tasks = trail.tasks;
    std::vector<Stretch> starved;
    for (std::size_t t = 0; t < tasks.tasks.size(); ++t) {
        const TaskLane& lane = tasks.tasks[t];
        if (lane.idle) continue;
        std::vector<Time> lengths;
        std::vector<Stretch> all;
        for (std::size_t s = 0; s < lane.stretches.size(); ++s) {
            if (lane.stretches[s].state != TaskState::ready) continue;
            const Time begin = lane.stretches[s].begin,
                       end = s + 1 < lane.stretches.size() ? lane.stretches[s + 1].begin : trail.end;
            lengths.push_back(end - begin);
            all.push_back({t, begin, end, {}});
        }
        if (lengths.size() < limits.fewest) continue;
        const Time usual = quantile(lengths, 0.95), median = quantile(lengths, 0.5);
        std::vector<Time> responses;
        for (std::size_t i = 0; i < lane.jobs.size(); ++i)
            if (lane.jobs[i].whole()) responses.push_back(lane.jobs[i].response());
        const Time answer = responses.empty() ? Time{} : quantile(responses, 0.5);
        const Time bar = std::max({times(usual, limits.of_p95), times(median, limits.of_median),
                                   times(answer, limits.of_response), limits.least});
        for (Stretch& s : all)
            if (s.end - s.begin > bar) {
                s.usual = usual;
                starved.push_back(s);
            }
    }
    std::sort(starved.begin(), starved.end(), [](const Stretch& a, const Stretch& b) { return a.begin < b.begin; });
    for (std::size_t i = 0; i < starved.size();) {
        std::size_t k = i;
        Time until = starved[i].end;
        Stretch worst = starved[i];
        while (k < starved.size() && starved[k].begin < until) {
            until = std::max(until, starved[k].end);
            if (starved[k].end - starved[k].begin > worst.end - worst.begin) worst = starved[k];
            ++k;
        }
        const TaskLane& lane = tasks.tasks[worst.task];
        Finding f = about_job(FindingKind::starvation, trail, worst.task, lane.job_from(worst.begin));
        f.begin = worst.begin;
        f.end = worst.end;
        const auto ran = tasks_that_ran(trail, lane.core, worst.begin, worst.end);
        f.fact("waited", worst.end - worst.begin);
        f.fact("usual", worst.usual);
        for (const auto& [task, time] : ran) {
            if (task >= tasks.tasks.size() || f.involved.size() > 3 || time.ps * 10 < (worst.end - worst.begin).ps)
                continue;
            f.involve(Role::runner, tasks.task_name(task), task_lane(trail, task));
            f.fact("ran", share_of(time, worst.end - worst.begin), tasks.task_name(task));
        }
        if (f.with(Role::runner) != nullptr) {  // does the one that has it work more than it usually does?
            for (const auto& [task, time] : ran) {
                if (task >= tasks.tasks.size() || tasks.tasks[task].idle) continue;
                std::vector<Time> then, all;
                const TaskLane& hog = tasks.tasks[task];
                for (std::size_t j = 0; j < hog.jobs.size(); ++j) {
                    if (!hog.jobs[j].whole()) continue;
                    all.push_back(hog.jobs[j].run);
                    if (hog.jobs[j].ready < worst.end && worst.begin < hog.jobs[j].end) then.push_back(hog.jobs[j].run);
                }
                if (then.empty()) break;
                const Factor factor = ratio(quantile(then, 0.5), quantile(all, 0.5));
                if (factor.value > 1.5) f.fact("worked_times", factor, hog.name);
                break;
            }
        }
        std::set<std::size_t> victims{worst.task};
        for (std::size_t m = i; m < k; ++m)
            if (victims.insert(starved[m].task).second) {
                f.involve(Role::victim, tasks.task_name(static_cast<std::uint32_t>(starved[m].task)),
                          task_lane(trail, starved[m].task));
                f.evidence.push_back({starved[m].begin, tasks.task_name(static_cast<std::uint32_t>(starved[m].task)) +
                                                            " starves too, for " +
                                                            duration_text(starved[m].end - starved[m].begin)});
            }
        f.evidence.insert(f.evidence.begin(), {worst.begin, lane.name + " is ready"});
        f.evidence.push_back({worst.end, lane.name + " runs"});
        f.severity = 0.78;
        out.push_back(std::move(f));
        i = k;
    }
}

// A long stretch without any idle time.
void find_overload(const Judged& judged, std::size_t c, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Overload& limits = judged.thresholds.overload;
    const CoreTasks& core = trail.tasks.cores[c];
    const auto& tasks = trail.tasks.tasks;
    if (core.idle.ps <= 0) return;
    std::vector<Time> lengths;
    Time begin{}, worst_begin{}, worst{};
    bool busy = false;
    for (std::size_t i = 0; i < core.runs.size(); ++i) {
        const std::uint32_t who = core.runs[i].who;
        const bool idle = who < tasks.size() && tasks[who].idle;
        const bool unknown = who == CoreRun::kUnknown;
        if (!idle && !unknown && !busy) {
            begin = core.runs[i].begin;
            busy = true;
        }
        const bool last = i + 1 == core.runs.size();
        if (busy && (idle || unknown || last)) {
            const Time length = (last && !idle && !unknown ? trail.end : core.runs[i].begin) - begin;
            lengths.push_back(length);
            if (length > worst) {
                worst = length;
                worst_begin = begin;
            }
            busy = false;
        }
    }
    if (lengths.size() < limits.fewest) return;
    const Time p99 = quantile(lengths, 0.99);
    if (worst < times(p99, limits.of_p99) || worst < limits.least) return;
    Finding f;
    f.kind = FindingKind::overload;
    f.core_index = c;
    f.core = trail.cores[c].name;
    f.begin = worst_begin;
    f.end = worst_begin + worst;
    f.fact("lasted", worst);
    f.fact("p99", p99);
    for (const auto& [task, time] : tasks_that_ran(trail, c, f.begin, f.end)) {
        if (task >= tasks.size() || time.ps * 10 < worst.ps) continue;
        if (!f.lane) f.lane = task_lane(trail, task);
        f.involve(Role::runner, tasks[task].name, task_lane(trail, task));
        f.fact("ran", share_of(time, worst), tasks[task].name);
    }
    f.severity = 0.45;
    f.evidence = {{f.begin, "the last rest ends"}, {f.end, "the core rests again"}};
    out.push_back(std::move(f));
}

// Nothing was lost, but a sender had to wait because the queue was full: told where that is no habit (a sender that is
// slowed down by its reader again and again is meant to be), and the queue is nowhere near full as a rule.
void find_full_wait(const Judged& judged, const QueueLane& queue, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Queue& limits = judged.thresholds.queue;
    const auto& tasks = trail.tasks;
    struct Wait {
        std::uint32_t task = 0;
        Time begin, end;
        Time length() const { return end - begin; }
    };
    std::optional<Wait> worst;
    std::uint64_t waits = 0;
    for (std::uint32_t t = 0; t < tasks.tasks.size(); ++t) {
        const TaskLane& lane = tasks.tasks[t];
        for (std::size_t i = 0; i + 1 < lane.stretches.size(); ++i) {
            const TaskStretch& s = lane.stretches[i];
            if (!is_waiting(s.state) || s.object != queue.id ||
                s.reason != static_cast<std::uint16_t>(BlockReason::queue_full))
                continue;
            ++waits;
            const Wait wait{t, s.begin, lane.stretches[i + 1].begin};
            if (!worst || worst->length() < wait.length()) worst = wait;
        }
    }
    if (!worst || queue.sent < limits.fewest_sent ||
        waits > std::max<std::uint64_t>(limits.waits, part(queue.sent, limits.waits_share)))
        return;
    std::uint64_t low = 0;
    for (std::size_t i = 0; i < queue.ops.size(); ++i) low += queue.ops[i].fill <= queue.peak / 2 ? 1u : 0u;
    if (low * 10 < queue.ops.size() * 9) return;
    Finding f =
        about_job(FindingKind::queue_overflow, trail, worst->task, tasks.tasks[worst->task].job_from(worst->begin));
    f.begin = worst->begin;
    f.end = worst->end;
    f.involve(Role::queue, queue.name, queue_lane(trail, queue.id));
    f.fact("waited", worst->length());
    f.fact("peak", queue.peak);
    f.fact("usual_most", queue.peak / 2);
    f.fact("waits", waits);
    f.alike = waits;
    f.severity = 0.4;
    f.evidence = {{worst->begin, "it is full: the sender waits"}, {worst->end, "there is room again"}};
    out.push_back(std::move(f));
}

void find_full_queue(const Judged& judged, const QueueLane& queue, std::vector<Finding>& out) {
    if (queue.failed == 0) return find_full_wait(judged, queue, out);
    const Trail& trail = judged.trail;
    const auto& tasks = trail.tasks;
    // An episode ends when the queue has been emptied to half.
    struct Episode {
        std::size_t first = 0, last = 0;
        std::uint64_t failed = 0;
    };
    std::vector<Episode> episodes;
    bool open = false;
    std::map<std::uint32_t, std::size_t> senders, readers;
    for (std::size_t i = 0; i < queue.ops.size(); ++i) {
        const QueueOp& op = queue.ops[i];
        if (op.kind == QueueOp::receive) ++readers[op.who];
        if (op.kind != QueueOp::failed) {
            if (op.fill <= queue.capacity / 2) open = false;
            continue;
        }
        ++senders[op.who];
        if (!open) episodes.push_back({i, i, 0});
        open = true;
        episodes.back().last = i;
        ++episodes.back().failed;
    }
    const auto most = [](const std::map<std::uint32_t, std::size_t>& of) {
        return std::max_element(of.begin(), of.end(), [](const auto& a, const auto& b) { return a.second < b.second; })
            ->first;
    };
    const std::uint32_t sender = most(senders), reader = readers.empty() ? kNobody : most(readers);
    for (const Episode& e : episodes) {
        Finding f;
        f.kind = FindingKind::queue_overflow;
        f.begin = queue.ops[e.first].time;
        f.end = queue.ops[e.last].time;
        if (reader < tasks.tasks.size()) {
            f = about_job(f.kind, trail, reader, tasks.tasks[reader].job_from(f.begin));
            f.begin = queue.ops[e.first].time;
            f.end = queue.ops[e.last].time;
        }
        f.involved.clear();
        if (reader != kNobody) f.involve(Role::subject, tasks.actor_name(reader), task_lane(trail, reader));
        f.involve(Role::queue, queue.name, queue_lane(trail, queue.id));
        const bool by_interrupt = Actor::is_interrupt(sender);
        std::string sender_name = tasks.actor_name(sender);
        f.involve(Role::sender, by_interrupt ? sender_name.substr(std::string("interrupt ").size()) : sender_name,
                  task_lane(trail, sender));
        if (f.core.empty() && !trail.cores.empty()) f.core = trail.cores[0].name;
        f.fact("lost", e.failed);
        f.fact("sender", sender_name);
        f.fact("capacity", queue.capacity);
        if (reader < tasks.tasks.size()) {
            const TaskLane& lane = tasks.tasks[reader];
            // What its reader did from when the queue began to fill.
            std::size_t filling = e.first;
            while (filling > 0 && queue.ops[filling - 1].fill > 1) --filling;
            const Time from = queue.ops[filling].time, to = f.end;
            const JobParts parts = parts_of(trail, reader, from, std::max(to, from + Time{1}));
            f.fact("reader", lane.name);
            if (parts.others.ps * 2 > (to - from).ps && !parts.by_task.empty()) {
                f.involve(Role::runner, tasks.task_name(parts.by_task[0].first),
                          task_lane(trail, parts.by_task[0].first));
                f.fact("held_off", parts.others);
            } else if (parts.lock.ps * 2 > (to - from).ps)
                f.fact("waited_for_lock", parts.lock);
            else {
                std::vector<Time> then, all;
                for (std::size_t j = 0; j < lane.jobs.size(); ++j) {
                    if (!lane.jobs[j].whole()) continue;
                    (lane.jobs[j].end >= from && lane.jobs[j].ready <= to ? then : all).push_back(lane.jobs[j].run);
                }
                const Time now = then.empty() ? Time{} : quantile(then, 0.5),
                           usual = all.empty() ? now : quantile(all, 0.5);
                if (now.ps > usual.ps * 2) {
                    f.fact("run", now);
                    f.fact("usual", usual);
                } else {
                    add_parts(f, trail, reader, from, to);
                }
            }
            f.evidence.push_back({from, "the queue begins to fill"});
        }
        f.alike = 1;
        f.severity = 0.7;
        f.evidence.push_back({f.begin, "the first entry refused"});
        f.evidence.push_back({f.end, "the last entry refused"});
        out.push_back(std::move(f));
    }
}

void find_task_faults(const Trail& trail, std::vector<Finding>& out) {
    const auto& tasks = trail.tasks;
    for (const auto& fault : tasks.faults) {
        Finding f;
        f.kind = FindingKind::fault;
        f.core_index = fault.core;
        f.core = trail.cores[fault.core].name;
        f.begin = f.end = fault.time;
        const bool in_task = fault.task < tasks.tasks.size();
        if (in_task) {
            f.set_about(job_ref(fault.task, tasks.tasks[fault.task].job_from(fault.time)));
        }
        std::string kind = fault.what.kind.empty() ? "fault" : fault.what.kind;
        std::replace(kind.begin(), kind.end(), '_', ' ');
        const std::string where = fault.interrupt != kNobody ? tasks.actor_name(Actor::interrupt(fault.interrupt))
                                                             : tasks.task_name(fault.task);
        f.involve(Role::subject,
                  fault.interrupt != kNobody && tasks.interrupt_names.count(fault.interrupt) != 0
                      ? tasks.interrupt_names.at(fault.interrupt)
                      : where,
                  f.lane);
        f.fact("fault", kind + " in " + where);
        f.fact("pc", Address{fault.what.pc});
        if (fault.what.address != 0) f.fact("touched", Address{fault.what.address});
        if (trail.end > fault.time) f.fact("before_end", trail.end - fault.time);
        // A mark value that was never seen before, written shortly before.
        for (const auto& lane : tasks.marks) {
            const std::size_t n = lane.marks.partition_point([&](const TaskMark& m) { return !(fault.time < m.time); });
            if (n == 0 || lane.foreign) continue;
            const TaskMark& last = lane.marks[n - 1];
            bool fresh = (fault.time - last.time).ps * 20 < trail.end.ps;
            for (std::size_t i = 0; i + 1 < n && fresh; ++i) fresh = lane.marks[i].value != last.value;
            if (fresh)
                f.evidence.push_back({last.time, lane.name + " = " + std::to_string(last.value) + ", written by " +
                                                     tasks.actor_name(last.who) + "; never seen before"});
        }
        f.evidence.push_back(
            {fault.time,
             kind + " in " + where +
                 (fault.what.address != 0 ? ", which touched " + hex_text(fault.what.address) : std::string())});
        f.severity = 1;
        out.push_back(std::move(f));
    }
}

}  // namespace

const Detector& load_trouble_detector();
const Detector& load_trouble_detector() {
    static constexpr Detector detector{"load trouble", 70, [](const Judged& judged, std::vector<Finding>& out) {
                                           if (judged.trail.tasks.streams.empty()) return;
                                           find_starvation(judged, out);
                                           for (std::size_t c = 0; c < judged.trail.tasks.cores.size(); ++c)
                                               if (judged.trail.tasks.cores[c].present) find_overload(judged, c, out);
                                           for (const auto& queue : judged.trail.tasks.queues)
                                               find_full_queue(judged, queue, out);
                                           find_task_faults(judged.trail, out);
                                       }};
    return detector;
}

}  // namespace mt
