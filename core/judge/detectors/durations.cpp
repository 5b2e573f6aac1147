// Executions that took unusually long by their own work, storms of entries, and unusually deep nests.
#include <algorithm>
#include <map>

#include "base/text.h"
#include "judge/detector.h"
#include "judge/witness.h"

namespace mt {
namespace {

// The own time that an instance took at the least, whatever its bounds hide.
Time certain_own(const ExceptionLane& lane, std::size_t i) {
    const ExceptionInstance x = lane.instance(i);
    return std::max(Time{}, x.own - x.end_slack);
}

// An interrupt that hardly ever comes but in one or two dense stretches.
bool find_lone_burst(const Judged& judged, std::size_t c, std::size_t l, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Storm& limits = judged.thresholds.storm;
    const ExceptionLane& lane = trail.cores[c].lanes[l];
    std::vector<Time> periods;
    for (std::size_t i = 1; i < lane.size(); ++i)
        if (const auto p = period_of(trail, lane, i)) periods.push_back(*p);
    if (periods.size() < limits.lone_fewest) return false;
    const Time apart{std::max<std::int64_t>(quantile(periods, 0.5).ps * 50, trail.end.ps / 200)};
    struct Episode {
        std::size_t first = 0, last = 0;
    };
    std::vector<Episode> episodes{{0, 0}};
    for (std::size_t i = 1; i < lane.size(); ++i) {
        if (lane.begin(i) - lane.begin(i - 1) > apart) episodes.push_back({i, i});
        episodes.back().last = i;
    }
    const Episode worst = *std::max_element(episodes.begin(), episodes.end(), [](const Episode& a, const Episode& b) {
        return a.last - a.first < b.last - b.first;
    });
    const std::size_t inside = worst.last - worst.first + 1;
    const Time begin = lane.begin(worst.first), end = lane.end(worst.last);
    const bool touches_ends = begin.ps < trail.end.ps / 50 || (trail.end - end).ps < trail.end.ps / 50;
    if (inside < part(lane.size(), limits.lone_share) || end - begin > times(trail.end, limits.lone_span) ||
        touches_ends)
        return false;
    Finding f = about_instance(FindingKind::interrupt_storm, trail, c, l, worst.first);
    f.end = end;
    f.fact("entries", inside);
    f.fact("within", end - begin);
    f.fact("elsewhere", lane.size() - inside);
    f.fact("period", quantile(periods, 0.5));
    f.fact("share", share_of(lane.busy(begin, end), end - begin));
    f.severity = 0.7;
    f.evidence = {{begin, "first entry of the burst"}, {end, "last of " + count_text(inside)}};
    out.push_back(std::move(f));
    return true;
}

void find_long_executions(const Judged& judged, std::size_t c, std::size_t l, std::vector<Finding>& out) {
    const Recording& recording = judged.recording;
    const Trail& trail = judged.trail;
    const Thresholds::Execution& limits = judged.thresholds.execution;
    const ExceptionLane& lane = trail.cores[c].lanes[l];
    std::vector<Time> own;
    for (std::size_t i = 0; i < lane.size(); ++i)
        if (lane.whole(i)) own.push_back(lane.own(i));
    if (own.size() < limits.fewest) return;
    const Time median = quantile(own, 0.5), p95 = quantile(own, 0.95), p99 = quantile(own, 0.99);
    const Time spread = std::max({p95 - median, Time{median.ps / 20}, Time::from_ns(100)});
    const Time bar =
        std::max({times(p99, limits.of_p99), median + times(spread, limits.spreads), median + limits.least});
    std::vector<std::size_t> longest;
    for (std::size_t i = 0; i < lane.size(); ++i)
        if (lane.whole(i) && certain_own(lane, i) > bar && trail.trusted(c, lane.begin(i), lane.end(i)))
            longest.push_back(i);
    if (longest.empty() || longest.size() > std::max<std::size_t>(2, part(own.size(), limits.rare))) return;
    const std::size_t worst = *std::max_element(
        longest.begin(), longest.end(), [&](std::size_t a, std::size_t b) { return lane.own(a) < lane.own(b); });
    Finding f = about_instance(FindingKind::duration_outlier, trail, c, l, worst);
    f.alike = longest.size();
    f.fact("times", ratio(lane.own(worst), median));
    f.fact("took", lane.own(worst));
    f.fact("usual", median);
    f.fact("p99", p99);
    if (const Time cut_in = lane.length(worst) - lane.own(worst); cut_in.ps > 0) f.fact("cut_in", cut_in);
    each_packet_between(recording, trail, c, f.begin, f.end, [&](std::size_t, const TimedPacket& p) {
        if (p.packet.kind == ItmKind::pc && p.latest > f.begin && p.latest <= f.end &&
            trail.cores[c].running_at(p.latest) == lane.code())
            f.evidence.push_back({p.latest, "sampled in " + place_text(recording, c, p.packet.value)});
    });
    if (f.evidence.size() > 8) f.evidence.resize(8);
    f.evidence.insert(f.evidence.begin(), {f.begin, "entered"});
    f.evidence.push_back({f.end, "left"});
    f.severity = 0.6;
    out.push_back(std::move(f));
}

void find_storms(const Judged& judged, std::size_t c, std::size_t l, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Storm& limits = judged.thresholds.storm;
    const std::size_t run = std::max<std::size_t>(limits.run, 1);
    const CoreTrail& core = trail.cores[c];
    const ExceptionLane& lane = core.lanes[l];
    if (ExceptionId::of(lane.code()).is_call()) return;  // code that calls the kernel often is no storm
    if (find_lone_burst(judged, c, l, out) || lane.size() < 20 * run) return;
    std::vector<Time> spans;
    std::vector<std::size_t> starts;
    std::size_t unbroken = 0;
    for (std::size_t i = 1; i < lane.size(); ++i) {
        unbroken = period_of(trail, lane, i) ? unbroken + 1 : 0;
        if (unbroken < run) continue;
        spans.push_back(lane.begin(i) - lane.begin(i - run));
        starts.push_back(i - run);
    }
    if (spans.size() < 10 * run) return;
    const Time usual = quantile(spans, 0.5);
    // A source that keeps coming in bursts is meant to; one or two dense stretches in all are not.
    std::size_t worst = 0, episodes = 0, last_dense = 0;
    for (std::size_t k = 0; k < spans.size(); ++k) {
        if (times(spans[k], limits.denser) > usual) continue;
        if (episodes == 0 || k > last_dense + run) ++episodes;
        if (episodes == 1 && last_dense == 0) worst = k;
        last_dense = k;
        if (spans[k] < spans[worst]) worst = k;
    }
    if (episodes == 0 || episodes > limits.episodes || spans[worst].ps <= 0) return;
    const std::size_t first = starts[worst];
    Finding f = about_instance(FindingKind::interrupt_storm, trail, c, l, first);
    f.end = lane.end(first + run);
    f.fact("entries", run + 1);
    f.fact("within", spans[worst]);
    f.fact("usual", usual);
    f.fact("share", share_of(lane.busy(f.begin, f.end), f.end - f.begin));
    f.severity = 0.5;
    f.evidence = {{f.begin, "first entry of the burst"}, {f.end, "last of " + std::to_string(run + 1)}};
    out.push_back(std::move(f));
}

void find_deep_nests(const Judged& judged, std::size_t c, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Nest& limits = judged.thresholds.nest;
    const CoreTrail& core = trail.cores[c];
    std::array<std::uint64_t, 256> at_depth{};
    std::uint64_t all = 0;
    for (const auto& lane : core.lanes)
        for (std::size_t i = 0; i < lane.size(); ++i) {
            ++at_depth[lane.depth(i)];
            ++all;
        }
    std::size_t deepest = 255;
    while (deepest > 0 && at_depth[deepest] == 0) --deepest;
    // The deepest level by far the rarest, and deeper than two that preempt each other now and then.
    if (deepest < limits.least || all < limits.fewest ||
        at_depth[deepest] > std::max<std::uint64_t>(1, part(all, limits.rare)))
        return;
    for (std::size_t l = 0; l < core.lanes.size(); ++l) {
        const ExceptionLane& lane = core.lanes[l];
        for (std::size_t i = 0; i < lane.size(); ++i) {
            if (lane.depth(i) != deepest) continue;
            Finding f = about_instance(FindingKind::deep_nest, trail, c, l, i);
            std::vector<std::pair<unsigned, std::string>> nest;
            for (const auto& other : core.lanes) {
                const auto k = other.at(lane.begin(i));
                if (k && other.code() != lane.code()) nest.emplace_back(other.depth(*k), other.name());
            }
            std::sort(nest.begin(), nest.end());
            std::string chain;
            for (const auto& n : nest) {
                chain += n.second + " ◂ ";
                f.involve(Role::nested, n.second);
            }
            f.fact("depth", deepest);
            f.fact("chain", chain + lane.name());
            f.fact("executions", all);
            f.fact("so_deep", at_depth[deepest]);
            f.alike = at_depth[deepest];
            f.severity = 0.3;
            f.evidence = {{f.begin, "the deepest handler entered"}};
            out.push_back(std::move(f));
            return;
        }
    }
}

}  // namespace

const Detector& durations_detector();
const Detector& durations_detector() {
    static constexpr Detector detector{"durations", 20, [](const Judged& judged, std::vector<Finding>& out) {
                                           for (std::size_t core = 0;
                                                core < judged.trail.cores.size() && !judged.stopped(); ++core)
                                               find_deep_nests(judged, core, out);
                                           judged.each_lane([&](std::size_t core, std::size_t lane) {
                                               find_long_executions(judged, core, lane, out);
                                               find_storms(judged, core, lane, out);
                                           });
                                       }};
    return detector;
}

}  // namespace mt
