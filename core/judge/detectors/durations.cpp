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
bool find_lone_burst(const Trail& trail, std::size_t c, std::size_t l, std::vector<Finding>& out) {
    const ExceptionLane& lane = trail.cores[c].lanes[l];
    std::vector<Time> periods;
    for (std::size_t i = 1; i < lane.size(); ++i)
        if (const auto p = period_of(trail, lane, i)) periods.push_back(*p);
    if (periods.size() < 50) return false;
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
    if (inside * 10 < lane.size() * 8 || (end - begin).ps * 10 > trail.end.ps || touches_ends) return false;
    Finding f = about_instance(FindingKind::interrupt_storm, trail, c, l, worst.first);
    f.end = end;
    f.title = lane.name() + " came " + count_text(inside) + " times in " + duration_text(end - begin);
    f.cause = "In all the rest of the recording it came " + plural(lane.size() - inside, "time", "times") +
              "; here every " + duration_text(quantile(periods, 0.5)) + ". It had " +
              share_text(static_cast<double>(lane.busy(begin, end).ps) / static_cast<double>((end - begin).ps)) +
              " of the core meanwhile.";
    f.severity = 0.7;
    f.evidence = {{begin, "first entry of the burst"}, {end, "last of " + count_text(inside)}};
    out.push_back(std::move(f));
    return true;
}

void find_long_executions(const Recording& recording, const Trail& trail, std::size_t c, std::size_t l,
                          std::vector<Finding>& out) {
    const ExceptionLane& lane = trail.cores[c].lanes[l];
    std::vector<Time> own;
    for (std::size_t i = 0; i < lane.size(); ++i)
        if (lane.whole(i)) own.push_back(lane.own(i));
    if (own.size() < 50) return;
    const Time median = quantile(own, 0.5), p95 = quantile(own, 0.95), p99 = quantile(own, 0.99);
    const Time spread = std::max({p95 - median, Time{median.ps / 20}, Time::from_ns(100)});
    const Time bar = std::max({Time{p99.ps * 2}, median + Time{spread.ps * 8}, median + Time::from_us(1)});
    std::vector<std::size_t> longest;
    for (std::size_t i = 0; i < lane.size(); ++i)
        if (lane.whole(i) && certain_own(lane, i) > bar && trail.trusted(c, lane.begin(i), lane.end(i)))
            longest.push_back(i);
    if (longest.empty() || longest.size() > std::max<std::size_t>(2, own.size() / 250)) return;
    const std::size_t worst = *std::max_element(
        longest.begin(), longest.end(), [&](std::size_t a, std::size_t b) { return lane.own(a) < lane.own(b); });
    Finding f = about_instance(FindingKind::duration_outlier, trail, c, l, worst);
    f.alike = longest.size();
    char times[32];
    std::snprintf(times, sizeof times, "%.1f",
                  static_cast<double>(lane.own(worst).ps) / static_cast<double>(std::max<std::int64_t>(median.ps, 1)));
    f.title = lane.name() + " took " + times + " × its usual time";
    f.cause = duration_text(lane.own(worst)) + " of its own against " + duration_text(median) + " (99 % under " +
              duration_text(p99) + "). ";
    const Time cut_in = lane.length(worst) - lane.own(worst);
    f.cause += cut_in.ps > 0 ? "What cut in, " + duration_text(cut_in) + ", is not counted in that."
                             : "Nothing cut in: the time is its own work.";
    std::vector<std::pair<Time, Time>> stretches;
    std::map<std::string, std::uint64_t> inside;
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

void find_storms(const Recording&, const Trail& trail, std::size_t c, std::size_t l, std::vector<Finding>& out) {
    constexpr std::size_t kRun = 16;
    const CoreTrail& core = trail.cores[c];
    const ExceptionLane& lane = core.lanes[l];
    if (find_lone_burst(trail, c, l, out) || lane.size() < 20 * kRun) return;
    std::vector<Time> spans;
    std::vector<std::size_t> starts;
    std::size_t unbroken = 0;
    for (std::size_t i = 1; i < lane.size(); ++i) {
        unbroken = period_of(trail, lane, i) ? unbroken + 1 : 0;
        if (unbroken < kRun) continue;
        spans.push_back(lane.begin(i) - lane.begin(i - kRun));
        starts.push_back(i - kRun);
    }
    if (spans.size() < 10 * kRun) return;
    const Time usual = quantile(spans, 0.5);
    // A source that keeps coming in bursts is meant to; one or two dense stretches in all are not.
    std::size_t worst = 0, episodes = 0, last_dense = 0;
    for (std::size_t k = 0; k < spans.size(); ++k) {
        if (spans[k].ps * 4 > usual.ps) continue;
        if (episodes == 0 || k > last_dense + kRun) ++episodes;
        if (episodes == 1 && last_dense == 0) worst = k;
        last_dense = k;
        if (spans[k] < spans[worst]) worst = k;
    }
    if (episodes == 0 || episodes > 2 || spans[worst].ps <= 0) return;
    const std::size_t first = starts[worst];
    Finding f = about_instance(FindingKind::interrupt_storm, trail, c, l, first);
    f.end = lane.end(first + kRun);
    const Time busy = lane.busy(f.begin, f.end);
    f.title = lane.name() + " came in a burst";
    f.cause = std::to_string(kRun + 1) + " entries within " + duration_text(spans[worst]) +
              ", where as many usually take " + duration_text(usual) + "; it had " +
              share_text(static_cast<double>(busy.ps) / static_cast<double>((f.end - f.begin).ps)) +
              " of the core meanwhile.";
    f.severity = 0.5;
    f.evidence = {{f.begin, "first entry of the burst"}, {f.end, "last of " + std::to_string(kRun + 1)}};
    out.push_back(std::move(f));
}

void find_deep_nests(const Recording&, const Trail& trail, std::size_t c, std::vector<Finding>& out) {
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
    if (deepest < 3 || all < 2000 || at_depth[deepest] > std::max<std::uint64_t>(1, all / 20000)) return;
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
            f.title = "Nest of " + std::to_string(deepest) + " handlers";
            f.cause = chain + lane.name() + ". Of " + count_text(all) + " handler executions " +
                      plural(at_depth[deepest], "was", "were") + " this deep: mind the stack.";
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
                                               find_deep_nests(judged.recording, judged.trail, core, out);
                                           judged.each_lane([&](std::size_t core, std::size_t lane) {
                                               find_long_executions(judged.recording, judged.trail, core, lane, out);
                                               find_storms(judged.recording, judged.trail, core, lane, out);
                                           });
                                       }};
    return detector;
}

}  // namespace mt
