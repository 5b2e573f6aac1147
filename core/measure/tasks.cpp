#include "measure/tasks.h"

#include <algorithm>
#include <cmath>
#include <map>

#include "measure/nearest_rank.h"

namespace mt {
namespace {

std::vector<std::pair<std::uint32_t, Time>> most_first(const std::map<std::uint32_t, Time>& of) {
    std::vector<std::pair<std::uint32_t, Time>> all(of.begin(), of.end());
    std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.second > b.second; });
    return all;
}

}  // namespace

Figures figures_of(std::vector<Time> lengths) {
    Figures f;
    f.count = lengths.size();
    if (lengths.empty()) return f;
    long double sum = 0;
    f.least = f.greatest = lengths[0];
    for (const Time t : lengths) {
        sum += static_cast<long double>(t.ps);
        f.least = std::min(*f.least, t);
        f.greatest = std::max(*f.greatest, t);
    }
    const long double n = static_cast<long double>(lengths.size()), mean = sum / n;
    long double squares = 0;
    for (const Time t : lengths)
        squares += (static_cast<long double>(t.ps) - mean) * (static_cast<long double>(t.ps) - mean);
    f.sum = {static_cast<std::int64_t>(std::llround(sum))};
    f.mean = Time{static_cast<std::int64_t>(std::llround(mean))};
    f.deviation = Time{static_cast<std::int64_t>(std::llround(std::sqrt(squares / n)))};
    f.p95 = nearest_rank(lengths, 95);
    f.p99 = nearest_rank(lengths, 99);
    return f;
}

std::optional<Time> ready_period(const TaskLane& lane, std::size_t i) {
    if (i == 0 || (lane.jobs[i].flags & (TaskJob::kBreak | TaskJob::kUncertain | TaskJob::kOpen)) != 0 ||
        !lane.jobs[i - 1].whole())
        return std::nullopt;
    return lane.jobs[i].ready - lane.jobs[i - 1].ready;
}

TaskRow task_row(const Trail& trail, std::size_t index) {
    const TaskLane& lane = trail.tasks.tasks[index];
    TaskRow row;
    row.task = index;
    row.name = lane.name;
    row.core_name = lane.core < trail.cores.size() ? trail.cores[lane.core].name : std::string();
    row.id = lane.id;
    row.priority = lane.priority;
    row.priority_known = lane.priority_known;
    row.idle = lane.idle;
    row.cpu = lane.cpu;
    std::vector<Time> run, response, latency, period, start_period;
    const bool only_switches = lane.core < trail.tasks.cores.size() && trail.tasks.cores[lane.core].only_switches;
    for (std::size_t i = 0; i < lane.jobs.size(); ++i) {
        const TaskJob& j = lane.jobs[i];
        if (!j.whole()) {
            ++((j.flags & TaskJob::kOpen) != 0 ? row.open : row.left_out);
            continue;
        }
        run.push_back(j.run);
        if (!only_switches) response.push_back(j.response());  // when it became ready is not told
        row.preemptions += j.preemptions;
        const bool started = (j.flags & TaskJob::kStarted) != 0;
        if (started && !only_switches) latency.push_back(j.start - j.ready);
        if (const auto p = ready_period(lane, i)) {
            period.push_back(*p);
            if (started && (lane.jobs[i - 1].flags & TaskJob::kStarted) != 0)
                start_period.push_back(j.start - lane.jobs[i - 1].start);
        }
    }
    row.left_out += row.open;
    row.run = figures_of(std::move(run));
    row.response = figures_of(std::move(response));
    row.latency = figures_of(std::move(latency));
    row.period = figures_of(std::move(period));
    row.start_period = figures_of(std::move(start_period));
    if (lane.core < trail.tasks.cores.size()) {
        const Time observed = trail.tasks.cores[lane.core].observed;
        if (observed.ps > 0) row.share = static_cast<double>(lane.cpu.ps) / static_cast<double>(observed.ps);
    }
    return row;
}

std::vector<TaskRow> task_rows(const Trail& trail) {
    std::vector<TaskRow> rows;
    for (const std::size_t i : trail.tasks.order()) rows.push_back(task_row(trail, i));
    return rows;
}

std::vector<LockRow> lock_rows(const Trail& trail) {
    std::vector<LockRow> rows;
    Time observed{};
    for (const auto& c : trail.tasks.cores) observed = std::max(observed, c.observed);
    for (std::size_t i = 0; i < trail.tasks.locks.size(); ++i) {
        const LockLane& lane = trail.tasks.locks[i];
        LockRow row;
        row.lock = i;
        row.name = lane.name;
        row.id = lane.id;
        row.contention = lane.contention;
        std::vector<Time> hold, wait;
        for (std::size_t k = 0; k < lane.holds.size(); ++k) {
            const LockHold& h = lane.holds[k];
            if (h.flags != 0)
                ++row.left_out;
            else
                hold.push_back(h.end - h.begin);
        }
        for (std::size_t k = 0; k < lane.waits.size(); ++k) {
            const LockWait& w = lane.waits[k];
            if (w.whole()) wait.push_back(w.end - w.begin);
            if (w.flags & LockWait::kNeverGot) ++row.never_got;
        }
        row.hold = figures_of(std::move(hold));
        row.wait = figures_of(std::move(wait));
        if (observed.ps > 0) row.share = static_cast<double>(row.hold.sum.ps) / static_cast<double>(observed.ps);
        rows.push_back(std::move(row));
    }
    return rows;
}

std::vector<QueueRow> queue_rows(const Trail& trail) {
    std::vector<QueueRow> rows;
    for (std::size_t i = 0; i < trail.tasks.queues.size(); ++i) {
        const QueueLane& lane = trail.tasks.queues[i];
        QueueRow row;
        row.queue = i;
        row.name = lane.name;
        row.id = lane.id;
        row.peak = lane.peak;
        row.capacity = lane.capacity;
        row.sent = lane.sent;
        row.received = lane.received;
        row.failed = lane.failed;
        std::vector<Time> stay, waiting;
        std::size_t first = 0;
        for (std::size_t k = 0; k < lane.ops.size(); ++k) {
            const QueueOp& op = lane.ops[k];
            if (op.kind == QueueOp::send) waiting.push_back(op.time);
            // The fill tells how many must have been in it: what is more was lost from sight.
            const std::uint64_t were_in = std::uint64_t{op.fill} + (op.kind == QueueOp::receive ? 1 : 0);
            while (op.kind != QueueOp::failed && waiting.size() - first > were_in) ++first;
            if (op.kind == QueueOp::receive && waiting.size() - first == were_in)
                stay.push_back(op.time - waiting[first++]);
            if (first > 4096 && first * 2 > waiting.size()) {
                waiting.erase(waiting.begin(), waiting.begin() + static_cast<std::ptrdiff_t>(first));
                first = 0;
            }
        }
        row.stay = figures_of(std::move(stay));
        rows.push_back(std::move(row));
    }
    return rows;
}

std::vector<std::pair<std::uint32_t, Time>> tasks_that_ran(const Trail& trail, std::size_t core, Time from, Time to,
                                                           bool own) {
    std::map<std::uint32_t, Time> sums;
    const CoreTasks& c = trail.tasks.cores[core];
    std::size_t i = c.run_at(from);
    if (i == c.runs.size()) i = 0;
    for (; i < c.runs.size() && c.runs[i].begin < to; ++i) {
        const Time begin = std::max(from, c.runs[i].begin);
        const Time end = std::min(to, i + 1 < c.runs.size() ? c.runs[i + 1].begin : to);
        if (end > begin) sums[c.runs[i].who] += end - begin - (own ? trail.cores[core].handler_time(begin, end) : Time{});
    }
    return most_first(sums);
}

JobParts parts_of(const Trail& trail, std::size_t index, Time from, Time to) {
    JobParts parts;
    const TaskLane& lane = trail.tasks.tasks[index];
    std::map<std::uint32_t, Time> by_task, by_lock;
    std::size_t s = lane.stretch_at(from);
    if (s == lane.stretches.size()) s = 0;
    for (; s < lane.stretches.size() && lane.stretches[s].begin < to; ++s) {
        const TaskStretch& stretch = lane.stretches[s];
        const Time begin = std::max(from, stretch.begin);
        const Time end = std::min(to, s + 1 < lane.stretches.size() ? lane.stretches[s + 1].begin : to);
        if (end <= begin) continue;
        const Time length = end - begin;
        const std::size_t core = stretch.core < trail.cores.size() ? stretch.core : 0;
        switch (stretch.state) {
            case TaskState::running: {
                const Time handlers = trail.cores[core].handler_time(begin, end);
                parts.interrupts += handlers;
                parts.own += length - handlers;
                break;
            }
            case TaskState::ready: {
                const Time handlers = trail.cores[core].handler_time(begin, end);
                parts.interrupts += handlers;
                Time rest = length - handlers;
                for (const auto& [who, time] : tasks_that_ran(trail, core, begin, end)) {
                    Time t = std::min(time, rest);
                    rest = rest - t;
                    if (who < trail.tasks.tasks.size()) {
                        by_task[who] += t;
                        parts.others += t;
                    } else if (who == CoreRun::kKernel) {
                        parts.kernel += t;
                    } else {
                        parts.unknown += t;
                    }
                }
                parts.kernel += rest;
                break;
            }
            case TaskState::waits_lock:
                parts.lock += length;
                by_lock[stretch.object] += length;
                break;
            case TaskState::waits_data:
            case TaskState::waits_time:
            case TaskState::waits_next_job:
                parts.data += length;
                break;
            default:
                parts.unknown += length;
        }
    }
    parts.by_task = most_first(by_task);
    parts.by_lock = most_first(by_lock);
    return parts;
}

}  // namespace mt
