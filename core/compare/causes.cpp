#include "compare/causes.h"

#include <algorithm>
#include <cmath>

#include "measure/tasks.h"

namespace mt {
namespace {

constexpr std::size_t kMostLookedAt = 4000;

struct Piece {
    std::uint32_t task = 0;
    Time begin, end;
    Time length() const { return end - begin; }
};

// Those that the statistic is about: all of them, or the longest. Of very many an even sample.
std::vector<Piece> chosen(std::vector<Piece> all, Statistic statistic) {
    const double share = statistic == Statistic::p99      ? 0.03
                         : statistic == Statistic::p95    ? 0.1
                         : statistic == Statistic::spread ? 0.1
                                                          : 1.0;
    if (share < 1) {
        const auto keep = std::max<std::size_t>(
            std::min<std::size_t>(all.size(), 5), static_cast<std::size_t>(std::ceil(static_cast<double>(all.size()) * share)));
        std::nth_element(all.begin(), all.begin() + static_cast<std::ptrdiff_t>(keep - (keep > 0 ? 1 : 0)), all.end(),
                         [](const Piece& a, const Piece& b) { return a.length() > b.length(); });
        all.resize(std::min(all.size(), keep));
    }
    if (all.size() > kMostLookedAt) {
        std::vector<Piece> some;
        for (std::size_t i = 0; i < kMostLookedAt; ++i) some.push_back(all[i * all.size() / kMostLookedAt]);
        return some;
    }
    return all;
}

void add(const Trail& trail, const Piece& piece, TimeParts& sum) {
    const JobParts p = parts_of(trail, piece.task, piece.begin, piece.end);
    const auto number = [](Time t) { return static_cast<double>(t.ps); };
    ++sum.instances;
    sum.own += number(p.own);
    sum.interrupts += number(p.interrupts);
    sum.data += number(p.data);
    sum.kernel += number(p.kernel);
    for (const auto& [who, t] : p.by_task) sum.tasks[trail.tasks.task_name(who)] += number(t);
    for (const auto& [lock, t] : p.by_lock) sum.locks[trail.tasks.object_name(lock)] += number(t);
}

TimeParts mean_of(const Trail& trail, const std::vector<Piece>& pieces) {
    TimeParts sum;
    for (const Piece& p : pieces) add(trail, p, sum);
    const double n = static_cast<double>(std::max<std::size_t>(1, sum.instances));
    for (double* v : {&sum.own, &sum.interrupts, &sum.data, &sum.kernel}) *v /= n;
    for (auto* list : {&sum.tasks, &sum.locks})
        for (auto& [name, v] : *list) v /= n;
    return sum;
}

}  // namespace

TimeParts parts_of_jobs(const Trail& trail, std::size_t task, Statistic statistic) {
    const TaskLane& lane = trail.tasks.tasks[task];
    std::vector<Piece> all;
    for (std::size_t i = 0; i < lane.jobs.size(); ++i)
        if (lane.jobs[i].whole())
            all.push_back({static_cast<std::uint32_t>(task), lane.jobs[i].ready, lane.jobs[i].end});
    return mean_of(trail, chosen(std::move(all), statistic));
}

TimeParts parts_of_holds(const Trail& trail, std::size_t lock, Statistic statistic) {
    const LockLane& lane = trail.tasks.locks[lock];
    std::vector<Piece> all;
    std::map<std::string, std::size_t> holders;
    for (std::size_t i = 0; i < lane.holds.size(); ++i) {
        const LockHold& h = lane.holds[i];
        if ((h.flags & LockHold::kCut) != 0 || h.task >= trail.tasks.tasks.size()) continue;
        all.push_back({h.task, h.begin, h.end});
        ++holders[trail.tasks.task_name(h.task)];
    }
    std::vector<Piece> some = chosen(std::move(all), statistic);
    TimeParts parts = mean_of(trail, some);
    parts.holders = std::move(holders);
    return parts;
}

std::string released_by(const Trail& trail, std::size_t task) {
    const TaskLane& lane = trail.tasks.tasks[task];
    std::map<std::uint32_t, std::size_t> actors;
    const std::size_t each = lane.jobs.size() / kMostLookedAt + 1;
    for (std::size_t i = 0; i < lane.jobs.size(); i += each) {
        const std::size_t s = lane.stretch_at(lane.jobs[i].ready);
        if (s < lane.stretches.size() && lane.stretches[s].state == TaskState::ready) ++actors[lane.stretches[s].object];
    }
    const auto most = std::max_element(actors.begin(), actors.end(),
                                       [](const auto& a, const auto& b) { return a.second < b.second; });
    if (most == actors.end() || most->first == kNobody) return {};
    const std::string name = trail.tasks.actor_name(most->first);
    constexpr std::string_view kInterrupt = "interrupt ";
    return Actor::is_interrupt(most->first) && name.rfind(kInterrupt, 0) == 0 ? name.substr(kInterrupt.size()) : name;
}

}  // namespace mt
