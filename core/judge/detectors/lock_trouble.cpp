// What goes wrong around locks: inversion of priorities, convoys, deadlock, and resources used without a guard.
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

struct Inversion {
    LockWait wait;
    Time others;
    std::vector<std::pair<std::uint32_t, Time>> by;
};

// Tasks that are neither waiter nor holder, with a base priority between theirs, ran on the holder's core.
std::optional<Inversion> inversion_of(const Trail& trail, const LockWait& w, double least) {
    const auto& tasks = trail.tasks.tasks;
    if (w.task >= tasks.size() || w.holder >= tasks.size()) return std::nullopt;
    const TaskLane &waiter = tasks[w.task], &holder = tasks[w.holder];
    if (!waiter.priority_known || !holder.priority_known || holder.priority >= waiter.priority) return std::nullopt;
    Inversion inversion;
    inversion.wait = w;
    for (const auto& [who, time] : tasks_that_ran(trail, holder.core, w.begin, w.end)) {
        if (who >= tasks.size() || who == w.task || who == w.holder) continue;
        if (tasks[who].priority <= holder.priority || tasks[who].priority >= waiter.priority) continue;
        inversion.others += time;
        inversion.by.emplace_back(who, time);
    }
    if (inversion.by.empty() || inversion.others < times(w.end - w.begin, least)) return std::nullopt;
    return inversion;
}

void find_inversions(const Judged& judged, const LockLane& lock, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    std::vector<Inversion> all;
    for (std::size_t i = 0; i < lock.waits.size(); ++i)
        if ((lock.waits[i].flags & LockWait::kCut) == 0)
            if (auto inversion = inversion_of(trail, lock.waits[i], judged.thresholds.lock.inversion))
                all.push_back(std::move(*inversion));
    if (all.empty()) return;
    const Inversion& worst = *std::max_element(
        all.begin(), all.end(), [](const Inversion& a, const Inversion& b) { return a.others < b.others; });
    const auto& tasks = trail.tasks;
    Finding f = about_job(FindingKind::priority_inversion, trail, worst.wait.task,
                          tasks.tasks[worst.wait.task].job_from(worst.wait.end));
    f.begin = worst.wait.begin;
    f.end = worst.wait.end;
    const std::string waiter = tasks.task_name(worst.wait.task), holder = tasks.task_name(worst.wait.holder);
    f.fact("waited", f.end - f.begin);
    f.fact("others_ran", worst.others);
    // Did the operating system lend the holder its waiter's priority?
    if (tasks.tasks[worst.wait.holder].priorities.size() > 0) f.fact("priority_lent", true);
    f.involve(Role::holder, holder, task_lane(trail, worst.wait.holder));
    for (const auto& [who, time] : worst.by) f.involve(Role::runner, tasks.task_name(who), task_lane(trail, who));
    for (const Inversion& other : all) {  // others that wait for the same release
        if (other.wait.begin < f.end && f.begin < other.wait.end && !f.names(tasks.task_name(other.wait.task))) {
            f.involve(Role::victim, tasks.task_name(other.wait.task), task_lane(trail, other.wait.task));
            f.fact("waited_too", other.wait.end - other.wait.begin, tasks.task_name(other.wait.task));
        }
    }
    f.involve(Role::lock, lock.name, lock_lane(trail, lock.id));
    f.alike = all.size();
    f.evidence = {{worst.wait.begin, waiter + " wants " + lock.name + ", which " + holder + " holds"}};
    for (const auto& [who, time] : worst.by)
        f.evidence.push_back({worst.wait.begin, tasks.task_name(who) + " ran " + duration_text(time) + " of the wait"});
    f.evidence.push_back({worst.wait.released, holder + " gives " + lock.name + " back"});
    f.evidence.push_back({worst.wait.end, waiter + " has " + lock.name});
    f.severity = 0.74;
    out.push_back(std::move(f));
}

// Many waits close together where there are few elsewhere.
void find_convoy(const Judged& judged, const LockLane& lock, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Lock& limits = judged.thresholds.lock;
    std::vector<LockWait> waits;
    for (std::size_t i = 0; i < lock.waits.size(); ++i) waits.push_back(lock.waits[i]);
    if (waits.size() < 12 || trail.end.ps <= 0) return;
    std::sort(waits.begin(), waits.end(), [](const LockWait& a, const LockWait& b) { return a.begin < b.begin; });
    const Time apart{trail.end.ps / static_cast<std::int64_t>(waits.size()) / 3};
    std::size_t best_from = 0, best = 0;
    for (std::size_t i = 0, from = 0; i < waits.size(); ++i) {
        if (i > 0 && waits[i].begin - waits[i - 1].begin > std::max(apart, waits[i - 1].end - waits[i - 1].begin))
            from = i;
        if (i - from + 1 > best) {
            best = i - from + 1;
            best_from = from;
        }
    }
    const Time begin = waits[best_from].begin, end = waits[best_from + best - 1].end;
    if (best < limits.convoy_waits || (end - begin).ps * 4 > trail.end.ps) return;
    const auto takes = [&](Time from, Time to) {
        return lock.holds.partition_point([&](const LockHold& h) { return h.begin < to; }) -
               lock.holds.partition_point([&](const LockHold& h) { return h.begin < from; });
    };
    const std::size_t inside = takes(begin, end + Time{1}), outside = lock.holds.size() - inside;
    const double share_inside = static_cast<double>(best) / static_cast<double>(std::max<std::size_t>(inside, 1)),
                 share_outside =
                     static_cast<double>(waits.size() - best) / static_cast<double>(std::max<std::size_t>(outside, 1));
    if (share_inside < limits.convoy_share || share_inside < limits.convoy_of_others * share_outside) return;
    // Who held it longer than usual then.
    std::map<std::uint32_t, std::vector<Time>> then, else_when;
    for (std::size_t i = 0; i < lock.holds.size(); ++i) {
        const LockHold& h = lock.holds[i];
        (h.begin < end && begin < h.end ? then : else_when)[h.task].push_back(h.end - h.begin);
    }
    std::uint32_t holder = kNobody;
    double worst_ratio = 0;
    for (auto& [who, lengths] : then) {
        const auto usual = else_when.find(who);
        const double longer = usual == else_when.end() || lengths.size() < 2
                                  ? 0
                                  : ratio(quantile(lengths, 0.5), quantile(usual->second, 0.5)).value;
        if (longer > worst_ratio) {
            worst_ratio = longer;
            holder = who;
        }
    }
    std::map<std::uint32_t, std::size_t> waiters;
    Time longest{};
    std::size_t longest_at = best_from;
    for (std::size_t i = best_from; i < best_from + best; ++i) {
        ++waiters[waits[i].task];
        if (waits[i].end - waits[i].begin > longest) {
            longest = waits[i].end - waits[i].begin;
            longest_at = i;
        }
    }
    const auto& tasks = trail.tasks;
    Finding f = about_job(FindingKind::lock_convoy, trail, waits[longest_at].task,
                          tasks.tasks[waits[longest_at].task].job_from(waits[longest_at].end));
    f.begin = begin;
    f.end = end;
    f.involved.clear();
    if (holder != kNobody) f.involve(Role::holder, tasks.task_name(holder), task_lane(trail, holder));
    for (const auto& [who, n] : waiters)
        if (who != holder) f.involve(Role::victim, tasks.task_name(who), task_lane(trail, who));
    f.involve(Role::lock, lock.name, lock_lane(trail, lock.id));
    f.fact("waits", best);
    f.fact("lasted", end - begin);
    f.fact("had_to_wait", Share{share_inside});
    f.fact("elsewhere", Share{share_outside});
    f.fact("longest", longest, tasks.task_name(waits[longest_at].task));
    if (holder != kNobody && worst_ratio > 2) {
        f.fact("held_times", Factor{worst_ratio});
        f.fact("held", quantile(then[holder], 0.5));
        f.fact("held_usual", quantile(else_when[holder], 0.5));
    }
    f.alike = 1;
    f.severity = 0.72;
    f.evidence = {{begin, "the first wait"},
                  {waits[longest_at].begin, "the longest wait begins: " + tasks.task_name(waits[longest_at].task)},
                  {end, "the last wait ends"}};
    out.push_back(std::move(f));
}

// Tasks that wait for each other in a circle when the recording ends.
void find_deadlocks(const Trail& trail, std::vector<Finding>& out) {
    struct Edge {
        std::size_t lock;
        LockWait wait;
        std::uint32_t holder;
        Time since;
    };
    const auto& tasks = trail.tasks;
    std::map<std::uint32_t, Edge> waits_for;
    for (std::size_t l = 0; l < tasks.locks.size(); ++l) {
        const LockLane& lock = tasks.locks[l];
        std::optional<LockHold> held;  // still, at the end
        if (lock.holds.size() > 0 && (lock.holds.back().flags & LockHold::kCut) != 0) held = lock.holds.back();
        for (std::size_t i = lock.waits.size(); i-- > 0;) {
            const LockWait& w = lock.waits[i];
            if ((w.flags & LockWait::kNeverGot) == 0) break;
            const std::uint32_t holder = held ? held->task : w.holder;
            waits_for[w.task] = {l, w, holder, held ? held->begin : w.begin};
        }
    }
    std::set<std::uint32_t> done;
    for (const auto& [start, edge] : waits_for) {
        std::vector<std::uint32_t> path;
        std::uint32_t at = start;
        while (waits_for.count(at) != 0 && std::find(path.begin(), path.end(), at) == path.end() &&
               done.count(at) == 0) {
            path.push_back(at);
            at = waits_for[at].holder;
        }
        const auto loop = std::find(path.begin(), path.end(), at);
        const bool circle = loop != path.end();
        for (const auto p : path) done.insert(p);
        if (!circle) continue;
        const std::vector<std::uint32_t> members(loop, path.end());
        Finding f = about_job(FindingKind::deadlock, trail, members.front(), tasks.tasks[members.front()].jobs.size());
        f.involved.clear();
        f.begin = Time{};
        f.end = trail.end;
        for (const std::uint32_t m : members) {
            const Edge& e = waits_for[m];
            f.involve(m == members.front() ? Role::subject : Role::victim, tasks.task_name(m), task_lane(trail, m));
            f.begin = std::max(f.begin, e.wait.begin);
            f.fact("wants", tasks.locks[e.lock].name, tasks.task_name(m));
            f.fact("held_by", tasks.task_name(e.holder), tasks.locks[e.lock].name);
            f.evidence.push_back({e.since, tasks.task_name(e.holder) + " takes " + tasks.locks[e.lock].name});
            f.evidence.push_back({e.wait.begin, tasks.task_name(m) + " wants " + tasks.locks[e.lock].name});
        }
        for (const std::uint32_t m : members)
            f.involve(Role::lock, tasks.locks[waits_for[m].lock].name,
                      lock_lane(trail, tasks.locks[waits_for[m].lock].id));
        std::sort(f.evidence.begin(), f.evidence.end(),
                  [](const Finding::Evidence& a, const Finding::Evidence& b) { return a.time < b.time; });
        f.fact("members", members.size());
        f.fact("before_end", trail.end - f.begin);
        f.severity = 0.95;
        out.push_back(std::move(f));
    }
}

// The locks that a task held over a stretch.
std::set<std::uint32_t> guards_of(const TaskTrail& tasks, const UseSpan& use) {
    std::set<std::uint32_t> all;
    for (const auto& lock : tasks.locks) {
        std::size_t i = lock.holds.partition_point([&](const LockHold& h) { return !(use.begin < h.begin); });
        if (i == 0) continue;
        const LockHold& h = lock.holds[i - 1];
        if (h.task == use.task && use.end <= h.end) all.insert(lock.id);
    }
    return all;
}

void find_overlaps(const Judged& judged, const ResourceLane& resource, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    std::vector<UseSpan> uses;
    for (std::size_t i = 0; i < resource.uses.size(); ++i) uses.push_back(resource.uses[i]);
    std::sort(uses.begin(), uses.end(), [](const UseSpan& a, const UseSpan& b) { return a.begin < b.begin; });
    struct Overlap {
        UseSpan first, second;
        Time begin, end;
    };
    std::vector<Overlap> overlaps;
    for (std::size_t i = 1; i < uses.size(); ++i)
        for (std::size_t k = i; k-- > 0 && i - k < 16;)
            if (uses[k].task != uses[i].task && uses[i].begin < uses[k].end)
                overlaps.push_back({uses[k], uses[i], uses[i].begin, std::min(uses[i].end, uses[k].end)});
    if (overlaps.empty() || overlaps.size() > part(uses.size(), judged.thresholds.lock.overlap_common)) return;
    const auto& tasks = trail.tasks;
    const Overlap& worst = *std::max_element(overlaps.begin(), overlaps.end(), [](const Overlap& a, const Overlap& b) {
        return a.end - a.begin < b.end - b.begin;
    });
    // The lock that nearly all uses are guarded by.
    std::map<std::uint32_t, std::size_t> guarded;
    const std::size_t step = std::max<std::size_t>(1, uses.size() / 500);
    std::size_t looked = 0;
    for (std::size_t i = 0; i < uses.size(); i += step, ++looked)
        for (const auto id : guards_of(tasks, uses[i])) ++guarded[id];
    Finding f = about_job(FindingKind::unguarded_overlap, trail, worst.first.task,
                          tasks.tasks[worst.first.task].job_from(worst.begin));
    const std::string first = tasks.task_name(worst.first.task), second = tasks.task_name(worst.second.task);
    f.involve(Role::victim, second, task_lane(trail, worst.second.task));
    f.involve(Role::resource, resource.name);
    f.begin = worst.begin;
    f.end = worst.end;
    f.alike = overlaps.size();
    f.fact("overlap", worst.end - worst.begin);
    for (const auto& [id, n] : guarded) {
        if (n * 10 < looked * 9) continue;
        for (const UseSpan* use : {&worst.first, &worst.second})
            if (guards_of(tasks, *use).count(id) == 0)
                f.fact("unguarded", tasks.object_name(id), tasks.task_name(use->task));
    }
    f.severity = 0.8;
    f.evidence = {{worst.first.begin, first + " begins to use " + resource.name},
                  {worst.second.begin, second + " begins to use it too"},
                  {worst.end, (worst.first.end < worst.second.end ? first : second) + " ends"}};
    out.push_back(std::move(f));
}

void find_lock_trouble(const Judged& judged, std::vector<Finding>& out) {
    for (const auto& lock : judged.trail.tasks.locks) {
        find_inversions(judged, lock, out);
        find_convoy(judged, lock, out);
    }
    if (judged.trail.complete) find_deadlocks(judged.trail, out);
    for (const auto& resource : judged.trail.tasks.resources) find_overlaps(judged, resource, out);
}

}  // namespace

const Detector& lock_trouble_detector();
const Detector& lock_trouble_detector() {
    static constexpr Detector detector{"lock trouble", 60, [](const Judged& judged, std::vector<Finding>& out) {
                                           if (!judged.trail.tasks.streams.empty()) find_lock_trouble(judged, out);
                                       }};
    return detector;
}

}  // namespace mt
