#include "model/task_trail.h"

#include <algorithm>
#include <array>
#include <cstdio>
#include <numeric>

namespace mt {

std::string_view task_state_name(TaskState state) {
    constexpr std::array<std::string_view, 8> names = {
        "not known",        "not there",      "running",        "ready",
        "waits for a lock", "waits for data", "waits for time", "waits for its next job"};
    return names[static_cast<std::size_t>(state)];
}

Time TaskLane::running_time(Time from, Time to) const {
    const auto before = [&](Time t) {
        const std::size_t n = stretches.partition_point([t](const TaskStretch& s) { return s.begin < t; });
        if (n == 0) return Time{};
        const std::size_t block = (n - 1) / kSumEach;
        Time sum = running_before[block];
        for (std::size_t i = block * kSumEach; i < n; ++i)
            if (stretches[i].state == TaskState::running)
                sum += (i + 1 < n ? stretches[i + 1].begin : t) - stretches[i].begin;
        return sum;
    };
    return to <= from ? Time{} : before(to) - before(from);
}

std::string TaskTrail::actor_name(std::uint32_t actor) const {
    if (actor == kNobody) return "nobody that is known";
    if (!Actor::is_interrupt(actor)) return task_name(actor);
    const auto found = interrupt_names.find(actor & 0xFFFF);
    return "interrupt " + (found != interrupt_names.end() ? found->second : std::to_string(actor & 0xFFFF));
}

std::string TaskTrail::object_name(std::uint32_t id) const {
    if (id == 0) return "the timer";
    if (const LockLane* l = lock(id)) return l->name;
    if (const QueueLane* q = queue(id)) return q->name;
    for (const auto& s : semaphores)
        if (s.id == id) return s.name;
    for (const auto& r : resources)
        if (r.id == id) return r.name;
    return "object " + std::to_string(id);
}

const LockLane* TaskTrail::lock(std::uint32_t id) const {
    for (const auto& l : locks)
        if (l.id == id) return &l;
    return nullptr;
}
const QueueLane* TaskTrail::queue(std::uint32_t id) const {
    for (const auto& q : queues)
        if (q.id == id) return &q;
    return nullptr;
}

bool TaskTrail::tells_load(std::size_t core) const {
    if (core >= cores.size() || !cores[core].present) return false;
    return !cores[core].only_switches ||
           std::any_of(tasks.begin(), tasks.end(), [&](const TaskLane& t) { return t.core == core && t.idle; });
}

Time TaskTrail::busy(std::size_t core, Time from, Time to) const {
    if (core >= cores.size() || to <= from) return {};
    const CoreTasks& c = cores[core];
    const auto is_busy = [&](std::uint32_t who) { return who < tasks.size() && !tasks[who].idle; };
    const auto before = [&](Time t) {
        const std::size_t n = c.runs.partition_point([t](const CoreRun& r) { return r.begin < t; });
        if (n == 0) return Time{};
        const std::size_t block = (n - 1) / CoreTasks::kSumEach;
        Time sum = c.busy_before[block];
        for (std::size_t i = block * CoreTasks::kSumEach; i < n; ++i) {
            const Time end = i + 1 < n ? c.runs[i + 1].begin : t;
            if (is_busy(c.runs[i].who)) sum += end - c.runs[i].begin;
        }
        return sum;
    };
    return before(to) - before(from);
}

std::vector<std::size_t> TaskTrail::order() const {
    std::vector<std::size_t> all(tasks.size());
    std::iota(all.begin(), all.end(), std::size_t{0});
    std::stable_sort(all.begin(), all.end(), [&](std::size_t a, std::size_t b) {
        const TaskLane &x = tasks[a], &y = tasks[b];
        if (x.core != y.core) return x.core < y.core;
        if (x.idle != y.idle) return y.idle;
        if (x.priority != y.priority) return x.priority > y.priority;
        return x.id < y.id;
    });
    return all;
}

}  // namespace mt
