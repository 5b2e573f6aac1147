// Late and missed activations of periodic interrupts. The stream does not say when an interrupt was
// requested, so the request is taken from the interrupt's own grid: where its neighbours on both sides
// say that it was due.
#include <algorithm>
#include <array>
#include <cmath>
#include <optional>

#include "base/text.h"
#include "judge/detector.h"
#include "judge/witness.h"

namespace mt {
namespace {

constexpr std::size_t kMostWindows = 64;  // alike places that are looked into for witnesses

using Limits = Thresholds::Lateness;

struct Grid {
    std::vector<std::optional<Time>> periods;  // ending with the entry of instance i
    Time median;
    bool steady = false;
};

// Steady: nearly all periods lie close to the median. Bursts with pauses between them are not.
Grid grid_of(const Trail& trail, const ExceptionLane& lane, const Limits& limits) {
    Grid g;
    std::vector<Time> known;
    for (std::size_t i = 0; i < lane.size(); ++i) {
        g.periods.push_back(period_of(trail, lane, i));
        if (g.periods.back()) known.push_back(*g.periods.back());
    }
    if (known.size() < limits.fewest) return g;
    g.median = quantile(known, 0.5);
    std::size_t near = 0;
    for (const Time p : known) near += std::llabs(p.ps - g.median.ps) * 5 < g.median.ps ? 1 : 0;
    g.steady = g.median.ps > 0 && static_cast<double>(near) > limits.steady * static_cast<double>(known.size()) &&
               (quantile(known, 0.95) - quantile(known, 0.05)).ps * 8 < g.median.ps;
    return g;
}

// How late instance i came against the grid of its neighbours; both sides must say so, since a shift of
// the whole grid is another thing than one late entry.
std::optional<Time> lateness(const ExceptionLane& lane, const Grid& g, std::size_t i) {
    constexpr std::size_t reach = 4;
    if (i < reach || i + reach >= lane.size()) return std::nullopt;
    std::array<Time, 2 * reach> periods;
    for (std::size_t k = 0; k < 2 * reach; ++k) {
        const auto& p = g.periods[i - reach + 1 + k];
        if (!p) return std::nullopt;
        periods[k] = *p;
    }
    std::nth_element(periods.begin(), periods.begin() + reach, periods.end());
    const Time local = periods[reach];
    std::array<Time, 3> before, after;
    for (int k = 1; k <= 3; ++k) {
        before[static_cast<std::size_t>(k - 1)] =
            lane.begin(i) - lane.begin(i - static_cast<std::size_t>(k)) - Time{local.ps * k};
        after[static_cast<std::size_t>(k - 1)] =
            lane.begin(i) - lane.begin(i + static_cast<std::size_t>(k)) + Time{local.ps * k};
    }
    std::sort(before.begin(), before.end());
    std::sort(after.begin(), after.end());
    return std::min(before[1], after[1]) - lane.instance(i).begin_slack;
}

struct Late {
    std::size_t instance;
    Time by;
};

// Time within [from, to) in which handlers other than `self` had the core, or a gap hides who had it.
Time held_off(const CoreTrail& core, Time from, Time to, std::uint16_t self) {
    Time sum{};
    for (const auto& [who, time] : who_ran(core, from, to))
        if (who != 0 && who != self) sum += time;
    return sum;
}

// Facts: the three handlers that had the core for longest.
void add_others(Finding& f, const CoreTrail& core, Time from, Time to, std::uint16_t self) {
    int n = 0;
    for (const auto& [who, time] : who_ran(core, from, to))
        if (who != 0 && who != self && who < ContextChange::kBetween && n++ < 3)
            f.fact("ran", time, core.running_name(who));
}

// The longest stretch within [from, to) in which a task masked interrupts, with the usual length of such stretches.
std::optional<std::pair<UseSpan, Time>> masked_by(const Trail& trail, std::size_t c, Time from, Time to) {
    if (c >= trail.tasks.cores.size()) return std::nullopt;
    const auto& critical = trail.tasks.cores[c].critical;
    std::optional<UseSpan> longest;
    std::size_t i = critical.partition_point([&](const UseSpan& s) { return s.end < from; });
    for (; i < critical.size() && critical[i].begin < to; ++i)
        if (!longest || critical[i].end - critical[i].begin > longest->end - longest->begin) longest = critical[i];
    if (!longest || (longest->end - longest->begin).ps * 2 < (to - from).ps) return std::nullopt;
    std::vector<Time> lengths;
    for (std::size_t k = 0; k < critical.size(); ++k) lengths.push_back(critical[k].end - critical[k].begin);
    return std::pair(*longest, quantile(lengths, 0.5));
}

// One finding for a set of late instances of one lane with the same sort of cause.
void report_late(const Recording& recording, const Trail& trail, std::size_t c, std::size_t l,
                 const std::vector<Late>& late, Time normal, Time median, bool masked, std::vector<Finding>& out) {
    const CoreTrail& core = trail.cores[c];
    const ExceptionLane& lane = core.lanes[l];
    const Late worst =
        *std::max_element(late.begin(), late.end(), [](const Late& a, const Late& b) { return a.by < b.by; });
    Finding f = about_instance(FindingKind::late_response, trail, c, l, worst.instance);
    const Time due = lane.begin(worst.instance) - worst.by;
    f.begin = due;
    f.alike = late.size();
    f.fact("late_by", worst.by);
    f.fact("normal", normal);
    f.fact("period", median);
    add_others(f, core, due, lane.begin(worst.instance), lane.code());
    f.evidence.push_back({due, lane.name() + " was due (from its entries before and after)"});
    if (masked) {
        std::vector<std::pair<Time, Time>> stretches;
        for (const Late& x : late)
            if (stretches.size() < kMostWindows)
                stretches.emplace_back(lane.begin(x.instance) - x.by, lane.begin(x.instance));
        const auto functions = sampled_functions(recording, trail, c, stretches);
        f.fact("kept_by_threads", true);
        if (const auto masker = masked_by(trail, c, due, lane.begin(worst.instance))) {
            const auto& [span, usual] = *masker;
            const std::string who = trail.tasks.task_name(span.task);
            f.fact("masked_for", span.end - span.begin, who);
            f.fact("masked_usual", usual, who);
            f.involve(Role::masker, who, task_lane(trail, span.task));
            f.evidence.insert(f.evidence.begin(), {span.begin, who + " masks interrupts"});
            f.evidence.push_back({span.end, who + " unmasks interrupts"});
        }
        if (!functions.empty() && functions.front().first != "asleep") {
            f.fact("samples", functions.front().second, functions.front().first);
            f.involve(Role::function, functions.front().first);
        } else if (!functions.empty() && f.with(Role::masker) == nullptr) {
            f.fact("asleep", true);
        }
        f.severity = 0.72;
    } else {
        f.severity = 0.55;
    }
    f.severity += 0.1 * std::min(1.0, std::log10(1 + static_cast<double>(worst.by.ps) /
                                                         static_cast<double>(std::max<std::int64_t>(normal.ps, 1000))) /
                                          3);
    for (const auto& [who, time] : who_ran(core, due, lane.begin(worst.instance)))
        f.evidence.push_back({due, core.running_name(who) + " had the core for " + duration_text(time)});
    f.evidence.push_back({lane.begin(worst.instance), lane.name() + " entered"});
    out.push_back(std::move(f));
}

void report_missed(const Trail& trail, std::size_t c, std::size_t l, const std::vector<Late>& missed, Time median,
                   std::vector<Finding>& out) {
    const CoreTrail& core = trail.cores[c];
    const ExceptionLane& lane = core.lanes[l];
    const Late worst =
        *std::max_element(missed.begin(), missed.end(), [](const Late& a, const Late& b) { return a.by < b.by; });
    Finding f = about_instance(FindingKind::missed_activation, trail, c, l, worst.instance);
    f.begin = lane.begin(worst.instance - 1) + median;
    f.end = lane.begin(worst.instance);
    const auto count =
        static_cast<std::uint64_t>(std::llround(static_cast<double>(worst.by.ps) / static_cast<double>(median.ps)) - 1);
    f.alike = missed.size();
    f.fact("missed", count);
    f.fact("period", median);
    f.fact("passed", worst.by);
    add_others(f, core, f.begin, f.end, lane.code());
    if (const auto masker = masked_by(trail, c, f.begin, f.end)) {
        const std::string who = trail.tasks.task_name(masker->first.task);
        f.involve(Role::runner, who, task_lane(trail, masker->first.task));
        f.fact("masked_for", masker->first.end - masker->first.begin, who);
    }
    f.severity = 0.8;
    f.evidence = {{lane.begin(worst.instance - 1), "entered"}, {f.begin, "due again"}, {f.end, "entered"}};
    out.push_back(std::move(f));
}

void find_late_and_missed(const Judged& judged, std::size_t c, std::size_t l, std::vector<Finding>& out) {
    const Recording& recording = judged.recording;
    const Trail& trail = judged.trail;
    const Limits& limits = judged.thresholds.lateness;
    const CoreTrail& core = trail.cores[c];
    const ExceptionLane& lane = core.lanes[l];
    const Grid grid = grid_of(trail, lane, limits);
    if (!grid.steady) return;
    std::vector<Late> by, missed;
    std::vector<Time> sizes;
    for (std::size_t i = 0; i < lane.size(); ++i) {
        if (!trail.trusted(c, lane.begin(i > 0 ? i - 1 : 0), lane.begin(i))) continue;
        std::optional<Time> off_grid;
        if (const auto late = lateness(lane, grid, i)) {
            off_grid = *late;
            by.push_back({i, *late});
            sizes.push_back({std::llabs(late->ps)});
        }
        if (!grid.periods[i]) continue;
        // One entry late, the next in its place again: nothing was missed.
        if (i + 1 < lane.size() && grid.periods[i + 1] &&
            std::llabs((*grid.periods[i] + *grid.periods[i + 1]).ps - 2 * grid.median.ps) * 8 < grid.median.ps)
            continue;
        // A few whole periods without an entry; a long pause is the source's own doing.
        const double turns = static_cast<double>(grid.periods[i]->ps) / static_cast<double>(grid.median.ps);
        if (turns <= 1.6 || turns >= limits.missed_turns) continue;
        // Off the grid by more than ever: it did not stay away, it came late, by more than a period. What is late
        // counts from when it was due first; those in between were told in one.
        const bool late = off_grid && off_grid->ps * 20 > grid.median.ps && off_grid->ps * 20 < 19 * grid.median.ps;
        if (late)
            by.back().by = *grid.periods[i] - grid.median;
        else if (std::fabs(turns - std::round(turns)) < 0.25)
            missed.push_back({i, *grid.periods[i]});
    }
    if (!missed.empty() && static_cast<double>(missed.size()) < limits.missed_most * static_cast<double>(lane.size()))
        report_missed(trail, c, l, missed, grid.median, out);
    if (sizes.size() < limits.fewest) return;
    const Time normal = std::max(quantile(sizes, 0.99), Time{grid.median.ps / 2000});
    const Time bar = std::max({times(normal, limits.factor), limits.least,
                               std::min(times(grid.median, limits.of_period), limits.of_period_most)});
    std::vector<Late> masked, pushed;
    for (const Late& x : by) {
        if (x.by < bar) continue;
        const Time due = lane.begin(x.instance) - x.by, held = held_off(core, due, lane.begin(x.instance), lane.code());
        // Held off by handlers that ran as they always do is what priorities are for, unless it eats the period.
        if ((x.by - held).ps * 2 > x.by.ps && (x.by - held) >= bar)
            masked.push_back(x);
        else if (x.by > times(grid.median, limits.eats_period))
            pushed.push_back(x);
    }
    const std::size_t rare = std::max<std::size_t>(3, part(lane.size(), limits.rare));
    if (!masked.empty() && masked.size() <= rare)
        report_late(recording, trail, c, l, masked, normal, grid.median, true, out);
    if (!pushed.empty() && pushed.size() <= rare)
        report_late(recording, trail, c, l, pushed, normal, grid.median, false, out);
}

}  // namespace

const Detector& lateness_detector();
const Detector& lateness_detector() {
    static constexpr Detector detector{"lateness", 30, [](const Judged& judged, std::vector<Finding>& out) {
                                           judged.each_lane([&](std::size_t core, std::size_t lane) {
                                               find_late_and_missed(judged, core, lane, out);
                                           });
                                       }};
    return detector;
}

}  // namespace mt
