#include "compare/quantities.h"

#include <algorithm>
#include <map>

#include "measure/interrupts.h"
#include "measure/refs.h"
#include "measure/tasks.h"

namespace mt {
namespace {

constexpr std::size_t kMostFunctions = 200, kMostCalls = 200'000;
constexpr std::int64_t kLoadWindow = 100'000'000'000;  // ps

double number(Time t) { return static_cast<double>(t.ps); }

class Gathering {
  public:
    Gathering(const Trail& trail, std::vector<Quantity>& out) : trail_(trail), out_(out) {}

    void tasks() {
        for (std::size_t t = 0; t < trail_.tasks.tasks.size(); ++t) {
            const TaskLane& lane = trail_.tasks.tasks[t];
            if (lane.idle) continue;
            const bool jobs = lane.core >= trail_.tasks.cores.size() || !trail_.tasks.cores[lane.core].only_switches;
            const LaneId id = task_lane(t);
            Quantity running = blank("task", lane.name, "", "running", id, t), response = running, period = running;
            response.what = "response";
            period.what = "period";
            period.rate = true;
            for (std::size_t i = 0; i < lane.jobs.size(); ++i) {
                const TaskJob& j = lane.jobs[i];
                if (const auto p = ready_period(lane, i)) period.samples.add(lane.jobs[i - 1].ready, number(*p));
                if (!j.whole()) continue;
                running.samples.add(j.ready, number(j.run));
                response.samples.add(j.ready, number(j.response()));
            }
            for (Quantity* q : {&running, &response, &period}) q->resolution = tick(lane.core);
            running.rate = !jobs;  // else the period tells it
            keep(std::move(running));
            if (jobs) keep(std::move(response));
            if (jobs) keep(std::move(period));
        }
    }
    void interrupts() {
        for (std::size_t c = 0; c < trail_.cores.size(); ++c)
            for (std::size_t l = 0; l < trail_.cores[c].lanes.size() && trail_.cores[c].timed; ++l) {
                const ExceptionLane& lane = trail_.cores[c].lanes[l];
                Quantity duration = blank("interrupt", lane.name(), trail_.cores[c].name, "duration",
                                          interrupt_lane(c, l), l),
                         period = duration;
                period.what = "period";
                period.rate = true;
                for (std::size_t i = 0; i < lane.size(); ++i) {
                    if (const auto p = period_of(trail_, lane, i)) period.samples.add(lane.begin(i - 1), number(*p));
                    if (lane.whole(i)) duration.samples.add(lane.begin(i), number(lane.length(i)));
                }
                duration.resolution = period.resolution = tick(c);
                keep(std::move(duration));
                keep(std::move(period));
            }
    }
    void locks() {
        for (std::size_t i = 0; i < trail_.tasks.locks.size(); ++i) {
            const LockLane& lane = trail_.tasks.locks[i];
            Quantity hold = blank("lock", lane.name, "", "hold", {&locks_kind(), i}, i), wait = hold;
            wait.what = "wait";
            wait.rate = hold.rate = true;
            for (std::size_t k = 0; k < lane.holds.size(); ++k)
                if ((lane.holds[k].flags & LockHold::kCut) == 0)
                    hold.samples.add(lane.holds[k].begin, number(lane.holds[k].end - lane.holds[k].begin));
            for (std::size_t k = 0; k < lane.waits.size(); ++k)  // by end
                if (lane.waits[k].whole())
                    wait.samples.add(lane.waits[k].end, number(lane.waits[k].end - lane.waits[k].begin));
            hold.resolution = wait.resolution = tick(0);
            keep(std::move(hold));
            keep(std::move(wait));
        }
    }
    void queues() {
        for (std::size_t i = 0; i < trail_.tasks.queues.size(); ++i) {
            const QueueLane& lane = trail_.tasks.queues[i];
            Quantity depth = blank("queue", lane.name, "", "depth", {&queues_kind(), i}, i);
            depth.in_time = false;
            for (std::size_t k = 0; k < lane.ops.size(); ++k)
                if (lane.ops[k].kind == QueueOp::send)
                    depth.samples.add(lane.ops[k].time, static_cast<double>(lane.ops[k].fill));
            keep(std::move(depth));
        }
    }
    void load() {
        for (std::size_t c = 0; c < trail_.cores.size(); ++c) {
            if (!trail_.tasks.tells_load(c)) continue;
            const CoreTasks& core = trail_.tasks.cores[c];
            Quantity load = blank("core", trail_.cores[c].name, "", "load", {}, c);
            load.in_time = false;
            load.mean_only = true;
            load.resolution = 0.1;
            const Time first = core.runs.size() > 0 ? core.runs[0].begin : Time{};
            for (std::int64_t at = first.ps; at + kLoadWindow <= trail_.cores[c].end.ps; at += kLoadWindow) {
                const Time from{at}, to{at + kLoadWindow};
                if (trail_.gaps.touch(c, from, to)) continue;
                load.samples.add(from, 100 * number(trail_.tasks.busy(c, from, to)) / static_cast<double>(kLoadWindow));
            }
            keep(std::move(load));
        }
    }
    // Pairs of uses of a resource at the same time.
    void resources() {
        for (std::size_t i = 0; i < trail_.tasks.resources.size(); ++i) {
            const ResourceLane& lane = trail_.tasks.resources[i];
            Quantity overlap = blank("resource", lane.name, "", "overlap", {&resources_kind(), i}, i);
            overlap.rate = true;
            std::vector<UseSpan> uses;
            for (std::size_t k = 0; k < lane.uses.size(); ++k)
                if ((lane.uses[k].flags & LockHold::kCut) == 0) uses.push_back(lane.uses[k]);
            std::sort(uses.begin(), uses.end(), [](const UseSpan& a, const UseSpan& b) { return a.begin < b.begin; });
            std::vector<std::size_t> open;
            for (std::size_t k = 0; k < uses.size(); ++k) {
                std::erase_if(open, [&](std::size_t o) { return !(uses[k].begin < uses[o].end); });
                for (const std::size_t o : open)
                    overlap.samples.add(uses[k].begin, number(std::min(uses[o].end, uses[k].end) - uses[k].begin));
                open.push_back(k);
            }
            // Kept also where there is none: uses without an overlap are what to compare with.
            if (!uses.empty()) out_.push_back(std::move(overlap));
        }
    }
    void functions(const Progress* progress) {
        for (std::size_t s = 0; s < trail_.steps.size(); ++s) {
            const StepTrail& steps = trail_.steps[s];
            if (steps.clock == StepClock::none) continue;
            std::vector<std::uint32_t> order;
            for (std::uint32_t f = 1; f < steps.tallies.size(); ++f)
                if (steps.tallies[f].calls > 0) order.push_back(f);
            std::stable_sort(order.begin(), order.end(),
                             [&](auto a, auto b) { return steps.tallies[a].own > steps.tallies[b].own; });
            if (order.size() > kMostFunctions) order.resize(kMostFunctions);
            std::map<std::uint32_t, std::size_t> place;
            std::vector<Quantity> all;
            for (const std::uint32_t f : order) {
                place[f] = all.size();
                all.push_back(blank("function", (*steps.functions)[f].name, steps.core, "duration", calls_lane(s), f));
                all.back().resolution = tick(steps.core_index);
                all.back().rate = true;
            }
            for (const CallLevel& level : steps.levels)
                for (std::size_t i = 0; i < level.size(); ++i) {
                    if (i % 65536 == 0 && progress != nullptr && progress->cancelled()) return;
                    const CallSpan call = level[i];
                    const auto at = place.find(call.function);
                    if (at == place.end() || !call.whole()) continue;
                    // Of very many calls every so-manieth.
                    const std::uint64_t each = steps.tallies[call.function].calls / kMostCalls + 1;
                    if (each > 1 && call.step % each != 0) continue;
                    all[at->second].samples.add(call.begin, number(call.length));
                }
            for (Quantity& q : all) {
                if (steps.tallies[q.index].calls > kMostCalls) q.rate = false;
                sort(q.samples);
                keep(std::move(q));
            }
        }
    }

  private:
    Quantity blank(std::string kind, std::string name, std::string core, std::string what, LaneId lane,
                   std::size_t index) const {
        Quantity q;
        q.kind = std::move(kind);
        q.activity = std::move(name);
        q.core = std::move(core);
        q.what = std::move(what);
        q.lane = lane;
        q.index = index;
        return q;
    }
    void keep(Quantity q) {
        if (q.samples.size() > 0) out_.push_back(std::move(q));
    }
    double tick(std::size_t core) const {
        const std::uint64_t hz = trail_.tasks.clock_hz != 0 ? trail_.tasks.clock_hz
                                 : core < trail_.cores.size() ? trail_.cores[core].clock.hz
                                                              : 0;
        return hz > 0 ? 1e12 / static_cast<double>(hz) : 0;
    }
    static void sort(Measurements& s) {  // calls stand level by level
        if (std::is_sorted(s.at.begin(), s.at.end())) return;
        std::vector<std::pair<Time, double>> all;
        for (std::size_t i = 0; i < s.size(); ++i) all.emplace_back(s.at[i], s.value[i]);
        std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
        for (std::size_t i = 0; i < all.size(); ++i) std::tie(s.at[i], s.value[i]) = all[i];
    }

    const Trail& trail_;
    std::vector<Quantity>& out_;
};

}  // namespace

std::vector<Quantity> quantities_of(const Trail& trail, const Progress* progress) {
    std::vector<Quantity> all;
    Gathering gathering(trail, all);
    gathering.tasks();
    gathering.interrupts();
    gathering.locks();
    gathering.queues();
    gathering.load();
    gathering.resources();
    gathering.functions(progress);
    return all;
}

Extent extent_of(const Trail& trail) {
    Extent e{Time{}, trail.end, {}};
    std::vector<std::pair<Time, Time>> gaps;
    for (std::size_t i = 0; i < trail.gaps.size(); ++i) gaps.emplace_back(trail.gaps[i].begin, trail.gaps[i].end);
    std::sort(gaps.begin(), gaps.end());
    for (const auto& g : gaps)
        if (!e.gaps.empty() && g.first <= e.gaps.back().second)
            e.gaps.back().second = std::max(e.gaps.back().second, g.second);
        else
            e.gaps.push_back(g);
    return e;
}

}  // namespace mt
