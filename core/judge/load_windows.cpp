#include "judge/load_windows.h"

#include <algorithm>

namespace mt {
namespace {

// Recorded stretches: from `begin` to `end`, and cut where a gap of the core lies.
void add_recorded(const Trail& trail, std::size_t core, Time begin, Time end, std::vector<Load::Span>& out) {
    trail.gaps.each(core, begin, end, Time{}, [&](const Gap& g) {
        if (g.begin > begin) out.emplace_back(begin, g.begin);
        begin = std::max(begin, g.end);
    });
    if (end > begin) out.emplace_back(begin, end);
}
void join(std::vector<Load::Span>& spans) {
    std::vector<Load::Span> joined;
    for (const auto& s : spans)
        if (!joined.empty() && joined.back().second >= s.first)
            joined.back().second = std::max(joined.back().second, s.second);
        else
            joined.push_back(s);
    spans = std::move(joined);
}

// Calls `each(from, to)` for the parts of [from, to) in which no handler has the core.
template <class Each>
void without_handlers(const CoreTrail& core, Time from, Time to, Each each) {
    const std::size_t last = core.change_time.lower_bound(to);
    std::size_t k = core.change_time.upper_bound(from);
    bool handler = k > 0 && ContextChange::is_handler(core.change_running[k - 1]);
    for (; k <= last; ++k) {
        const Time until = k < last ? core.change_time[k] : to;
        if (!handler && until > from) each(from, until);
        from = until;
        handler = k < last && ContextChange::is_handler(core.change_running[k]);
    }
}

// `spans` inside of `within`; both ascending.
std::vector<Load::Span> inside(const std::vector<Load::Span>& spans, const std::vector<Load::Span>& within) {
    std::vector<Load::Span> all;
    std::size_t w = 0;
    for (const auto& [begin, end] : spans) {
        while (w < within.size() && within[w].second <= begin) ++w;
        for (std::size_t i = w; i < within.size() && within[i].first < end; ++i)
            all.emplace_back(std::max(begin, within[i].first), std::min(end, within[i].second));
    }
    return all;
}

// Time that pieces take before a moment; moments must ascend.
class Before {
  public:
    explicit Before(const std::vector<Load::Span>& pieces) : pieces_(pieces) {}
    std::int64_t operator()(std::int64_t t) {
        while (at_ < pieces_.size() && pieces_[at_].second.ps <= t) {
            sum_ += pieces_[at_].second.ps - pieces_[at_].first.ps;
            ++at_;
        }
        return sum_ + (at_ < pieces_.size() && pieces_[at_].first.ps < t ? t - pieces_[at_].first.ps : 0);
    }

  private:
    const std::vector<Load::Span>& pieces_;
    std::size_t at_ = 0;
    std::int64_t sum_ = 0;
};

}  // namespace

Load load_of_core(const Trail& trail, std::size_t core) {
    Load load;
    const CoreTasks& tasks = trail.tasks.cores[core];
    bool switched = false;  // before its first task nothing is known of the load
    std::vector<Load::Span> spans, busy;
    for (std::size_t i = 0; i < tasks.runs.size(); ++i) {
        const CoreRun run = tasks.runs[i];
        const Time end = i + 1 < tasks.runs.size() ? tasks.runs[i + 1].begin : trail.cores[core].end;
        if (run.who == CoreRun::kUnknown || end <= run.begin) continue;
        const bool task = run.who < trail.tasks.tasks.size();
        switched = switched || task;
        if (!switched) continue;
        spans.emplace_back(run.begin, end);
        if (!task || !trail.tasks.tasks[run.who].idle) {
            busy.emplace_back(run.begin, end);
            continue;
        }
        Time at = run.begin;
        without_handlers(trail.cores[core], run.begin, end, [&](Time from, Time to) {
            if (from > at) busy.emplace_back(at, from);
            at = to;
        });
        if (end > at) busy.emplace_back(at, end);
    }
    join(spans);
    for (const auto& [begin, end] : spans) add_recorded(trail, core, begin, end, load.recorded);
    join(busy);
    load.busy = inside(busy, load.recorded);
    return load;
}

Load load_of_task(const Trail& trail, std::size_t task) {
    Load load;
    const TaskLane& lane = trail.tasks.tasks[task];
    std::vector<Load::Span> spans;
    for (std::size_t i = 0; i < lane.stretches.size(); ++i) {
        const TaskStretch s = lane.stretches[i];
        const Time end = i + 1 < lane.stretches.size() ? lane.stretches[i + 1].begin : trail.end;
        if (s.state == TaskState::unknown || end <= s.begin) continue;
        spans.emplace_back(s.begin, end);
        if (s.state == TaskState::running && s.core < trail.cores.size())
            without_handlers(trail.cores[s.core], s.begin, end,
                             [&](Time from, Time to) { load.busy.emplace_back(from, to); });
    }
    join(spans);
    for (const auto& [begin, end] : spans) add_recorded(trail, lane.core, begin, end, load.recorded);
    join(load.busy);
    load.busy = inside(load.busy, load.recorded);
    return load;
}

LoadWindows load_windows(const Load& load, Time width, std::optional<double> least, std::optional<double> most,
                         const std::function<void(const LoadStretch&)>& each, const Progress* progress) {
    LoadWindows result;
    const double whole = static_cast<double>(width.ps);
    // Shares of windows are counted in whole picoseconds: a limit is met to within one of them.
    const double most_busy = most ? *most * whole + 1 : 0, least_busy = least ? *least * whole - 1 : 0;
    Before head(load.busy), tail(load.busy);
    std::size_t front = 0, back = 0;  // edges of pieces: at the window's end, and at its begin
    const auto edge = [&](std::size_t i) {
        return (i % 2 == 0 ? load.busy[i / 2].first : load.busy[i / 2].second).ps;
    };
    const std::size_t edges = 2 * load.busy.size();
    for (const auto& [begin, end] : load.recorded) {
        if (end.ps - begin.ps < width.ps) {
            ++result.too_short;
            continue;
        }
        ++result.spans;
        const std::int64_t last = end.ps - width.ps;
        std::optional<LoadStretch> open;
        std::int64_t before = begin.ps;
        double busy_before = 0;
        const auto beyond = [&](double busy) { return (most && busy > most_busy) || (least && busy < least_busy); };
        const auto worse = [&](double a, double b) { return most && a > *most * whole ? a > b : a < b; };
        std::uint64_t looked = 0;
        for (std::int64_t t = begin.ps;;) {
            if ((++looked & 0xFFFF) == 0 && progress != nullptr && progress->cancelled()) return result;
            const double busy = static_cast<double>(head(t + width.ps) - tail(t)), share = busy / whole;
            if (!result.least || share < result.least->second) result.least = {Time{t}, share};
            if (!result.greatest || share > result.greatest->second) result.greatest = {Time{t}, share};
            // Between edges the load is a straight line: where it crosses the limit the stretch begins or ends.
            const auto crossing = [&] {
                if (t == before || busy == busy_before) return t;
                const double limit = most && (busy > most_busy || busy_before > most_busy) ? *most * whole
                                                                                            : *least * whole;
                return before + static_cast<std::int64_t>(static_cast<double>(t - before) *
                                                          ((limit - busy_before) / (busy - busy_before)));
            };
            if (beyond(busy)) {
                if (!open) open = LoadStretch{Time{crossing()}, Time{t}, Time{t}, share};
                open->last = Time{t};
                if (worse(busy, open->share * whole)) {
                    open->worst = Time{t};
                    open->share = share;
                }
            } else if (open) {
                open->last = Time{crossing()};
                each(*open);
                open.reset();
            }
            if (t >= last) break;
            before = t;
            busy_before = busy;
            while (back < edges && edge(back) <= t) ++back;
            while (front < edges && edge(front) <= t + width.ps) ++front;
            std::int64_t next = last;
            if (back < edges) next = std::min(next, edge(back));
            if (front < edges) next = std::min(next, edge(front) - width.ps);
            t = next;
        }
        if (open) each(*open);
    }
    return result;
}

}  // namespace mt
