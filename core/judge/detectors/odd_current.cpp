// Currents that nothing that ran accounts for, and clocks of measuring devices that run wrong.
#include <algorithm>
#include <cmath>
#include <map>
#include <optional>

#include "base/text.h"
#include "judge/detector.h"
#include "judge/witness.h"
#include "measure/charge.h"

namespace mt {
namespace {

constexpr std::size_t kMostMeans = 200'000;  ///< of one owner that say what is usual

struct Mean {
    Owner owner;
    Time from, to;
    double current = 0;
};
// Of all stretches that are long enough to be told from what is beside them.
std::vector<Mean> means_of(const Judged& judged, const ValueLane& lane, std::size_t core) {
    const Time reach = reach_of(judged.trail, lane);
    Integral integral(lane);
    std::vector<Mean> all;
    std::uint64_t n = 0;
    each_own_stretch(judged.trail, core, [&](const Owner& o, Time from, Time to) {
        if (++n % 4096 == 0 && judged.stopped()) return false;
        if (to - from < times(reach, 3) || !judged.trail.trusted(core, from, to)) return true;
        const auto q = integral.over(from + reach, to - reach);
        if (q.known_s > 0) all.push_back({o, from, to, q.value / q.known_s});
        return true;
    });
    return all;
}

struct Usual {
    double median = 0, bar = 0;
};
std::map<Owner, Usual> usual_of(const std::vector<Mean>& means, double span, const Thresholds::Current& limits) {
    std::map<Owner, std::vector<double>> values;
    for (const Mean& m : means)
        if (auto& of = values[m.owner]; of.size() < kMostMeans) of.push_back(m.current);
    std::map<Owner, Usual> all;
    for (auto& [owner, v] : values) {
        if (v.size() < limits.fewest) continue;
        std::sort(v.begin(), v.end());
        const double spread = v[v.size() * 3 / 4] - v[v.size() / 4], median = v[v.size() / 2];
        all[owner] = {median, std::max(limits.spreads * spread, limits.of_span * span)};
    }
    return all;
}

// A time in which more flows than whoever runs usually draws, until it falls again.
struct Episode {
    std::size_t first = 0, last = 0;  ///< of the means
    Time raised;                      ///< time of those that are above their bar
    double excess_s = 0;              ///< excess times seconds
    double level = 0;
};
std::vector<Episode> episodes_of(const std::vector<Mean>& means, const std::map<Owner, Usual>& usual) {
    std::vector<Episode> all;
    std::optional<Episode> open;
    for (std::size_t i = 0; i < means.size(); ++i) {
        const Mean& m = means[i];
        const auto u = usual.find(m.owner);
        if (u == usual.end()) continue;
        const double excess = m.current - u->second.median;
        if (excess > u->second.bar) {
            if (!open) open = Episode{i, i, {}, 0, m.current};
            open->last = i;
            open->raised += m.to - m.from;
            open->excess_s += excess * (m.to - m.from).seconds();
            open->level = std::min(open->level, m.current);
        } else if (open && m.current < open->level - u->second.bar / 2) {
            all.push_back(*open);
            open.reset();
        }
    }
    if (open) all.push_back(*open);
    return all;
}

std::string amount(double value, const std::string& unit) {
    char text[48];
    std::snprintf(text, sizeof text, "%.*f ", std::fabs(value) < 10 ? 2 : std::fabs(value) < 100 ? 1 : 0, value);
    return text + unit;
}

void find_unaccounted(const Judged& judged, std::size_t lane_index, std::size_t core, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Current& limits = judged.thresholds.current;
    const ValueLane& lane = trail.tasks.values[lane_index];
    const double span = lane.value_of(lane.greatest).number() - lane.value_of(lane.least).number();
    if (!(span > 0)) return;
    const auto means = means_of(judged, lane, core);
    const auto usual = usual_of(means, span, limits);
    const auto episodes = episodes_of(means, usual);
    if (episodes.empty()) return;
    std::vector<Time> raised;
    for (const Episode& e : episodes) raised.push_back(e.raised);
    std::sort(raised.begin(), raised.end());
    const auto worst = std::max_element(episodes.begin(), episodes.end(),
                                        [](const Episode& a, const Episode& b) { return a.raised < b.raised; });
    // Others as long mean that it is meant to be so.
    const Time others = raised.size() > limits.most ? raised[raised.size() - 1 - limits.most] : Time{};
    const Time least = std::max({times(others, limits.of_others), times(reach_of(trail, lane), limits.samples), limits.least});
    if (worst->raised < least) return;
    const Mean &begin = means[worst->first], &end = means[worst->last];
    Finding f;
    f.kind = FindingKind::unaccounted_current;
    f.severity = 0.76;
    f.begin = begin.from;
    f.end = end.to;
    f.core_index = core;
    f.core = trail.cores[core].name;
    f.set_about({{&values_kind(), lane_index}, 0, std::min(lane.at(begin.from), lane.samples.size() - 1)});
    f.involve(Role::subject, lane.name, f.lane);
    f.fact("lasted", f.end - f.begin);
    f.fact("above", amount(worst->excess_s / worst->raised.seconds(), lane.unit));
    // Who ran longest meanwhile, and what that draws as a rule.
    std::map<Owner, Time> ran;
    for (std::size_t i = worst->first; i <= worst->last; ++i) ran[means[i].owner] += means[i].to - means[i].from;
    const auto most = std::max_element(ran.begin(), ran.end(), [](auto& a, auto& b) { return a.second < b.second; });
    f.involve(Role::runner, owner_name(trail, most->first), activity_of(most->first));
    f.fact("ran", most->second, owner_name(trail, most->first));
    if (const auto u = usual.find(most->first); u != usual.end())
        f.fact("usual", amount(u->second.median, lane.unit), owner_name(trail, most->first));
    double charge = worst->excess_s * amperes_of(lane.unit);
    f.fact("charge", amount(charge * (charge < 0.1 ? 1e3 : 1), charge < 0.1 ? "mC" : "C"));
    // Who ran last before, other than those who run on and on: it left something on.
    for (std::size_t i = worst->first, looked = 0; i-- > 0 && looked < 64; ++looked)
        if (means[i].owner != most->first && means[i].owner.sort == Owner::task) {
            f.involve(Role::also, owner_name(trail, means[i].owner), activity_of(means[i].owner));
            f.fact("ran_before", f.begin - means[i].to, owner_name(trail, means[i].owner));
            break;
        }
    f.evidence.push_back({f.begin, lane.name + " " + amount(begin.current, lane.unit) + " while " +
                                       owner_name(trail, begin.owner) + " runs"});
    f.evidence.push_back({f.end, "it falls again"});
    out.push_back(std::move(f));
}

// A job that drew more than its peers while it ran: not because it ran longer, but all the while.
void find_greedy_jobs(const Judged& judged, std::size_t lane_index, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Current& limits = judged.thresholds.current;
    const ValueLane& lane = trail.tasks.values[lane_index];
    const Time reach = reach_of(trail, lane);
    for (std::size_t t = 0; t < trail.tasks.tasks.size() && !judged.stopped(); ++t) {
        const TaskLane& task = trail.tasks.tasks[t];
        if (task.idle || task.jobs.size() < limits.jobs) continue;
        ChargeRow row;
        row.owner = {Owner::task, task.core, t};
        std::vector<Drawn> jobs;
        for (Drawn& d : drawn_by(trail, lane, row, judged.progress))  // what is shorter cannot be told from its surroundings
            if (d.ran > times(reach, 4) && trail.trusted(task.core, d.begin, d.end)) jobs.push_back(std::move(d));
        if (jobs.size() < limits.jobs) continue;
        const auto mean = [](const Drawn& d) { return d.charge / d.ran.seconds(); };
        std::vector<double> means;
        for (const Drawn& d : jobs) means.push_back(mean(d));
        std::sort(means.begin(), means.end());
        const double median = means[means.size() / 2], spread = means[means.size() * 3 / 4] - means[means.size() / 4];
        const double bar = median + std::max(limits.of_median * std::fabs(median), limits.job_spreads * spread);
        const auto above = static_cast<std::size_t>(means.end() - std::upper_bound(means.begin(), means.end(), bar));
        if (above == 0 || above > std::max<std::size_t>(1, part(means.size(), limits.rare))) continue;
        const auto worst = std::max_element(jobs.begin(), jobs.end(),
                                            [&](const Drawn& a, const Drawn& b) { return mean(a) < mean(b); });
        Finding f = about_job(FindingKind::charge_outlier, trail, t, static_cast<std::size_t>(worst->span.index));
        f.severity = 0.6;
        const double in_unit = 1 / amperes_of(lane.unit);
        f.fact("drew", amount(mean(*worst) * in_unit, lane.unit));
        f.fact("usual", amount(median * in_unit, lane.unit));
        f.fact("jobs", std::uint64_t{means.size()});
        f.fact("charge", amount(worst->charge * 1e6, "µC"));
        f.involve(Role::also, lane.name, {&values_kind(), lane_index});
        f.alike = above;
        out.push_back(std::move(f));
    }
}

// Of several lanes that tell of the same time, the one in which it stands out most; the others are named in it.
void join(std::vector<Finding>& found, std::vector<Finding>& out) {
    for (Finding& f : found) {
        bool told = false;
        for (Finding& other : out)
            if (f.begin < other.end && other.begin < f.end && other.kind == FindingKind::unaccounted_current) {
                if (f.kind == other.kind) {
                    other.fact("also_in", f.who());
                    other.involve(Role::also, f.who(), f.lane);
                }
                told = true;  // a job within such a time only shows it
                break;
            } else if (f.kind == other.kind && f.about == other.about) {
                told = true;  // by another lane
            }
        if (!told) out.push_back(std::move(f));
    }
}

void find_device_clocks(const Judged& judged, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    for (const LaidSignals& laid : trail.beside) {
        const double off = std::fabs(laid.drift_ppm);
        if (laid.how != LaidSignals::How::aligned || off < judged.thresholds.current.clock_ppm) continue;
        Finding f;
        f.kind = FindingKind::device_clock;
        f.severity = 0.2;
        f.end = trail.end;
        if (!trail.cores.empty()) f.core = trail.cores[0].name;
        for (std::size_t v = 0; v < trail.tasks.values.size() && !f.lane; ++v)
            if (trail.tasks.values[v].source == laid.name) f.lane = {&values_kind(), v};
        f.involve(Role::subject, laid.name, f.lane);
        char text[32];
        std::snprintf(text, sizeof text, "%.0f ppm", off);
        f.fact("off", std::string(text));
        if (laid.drift_ppm < 0) f.fact("slow", true);
        f.fact("matched", laid.matched);
        f.fact("grows_to", Time{static_cast<std::int64_t>(static_cast<double>(trail.end.ps) * off / 1e6)});
        out.push_back(std::move(f));
    }
}

void find_odd_current(const Judged& judged, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    find_device_clocks(judged, out);
    // The core that tells most of what runs.
    std::optional<std::size_t> core;
    for (std::size_t c = 0; c < trail.cores.size() && !core; ++c)
        if (trail.cores[c].timed && c < trail.tasks.cores.size() && trail.tasks.cores[c].runs.size() > 1) core = c;
    for (std::size_t c = 0; c < trail.cores.size() && !core; ++c)
        if (trail.cores[c].timed && trail.cores[c].change_time.size() > 1) core = c;
    if (!core) return;
    std::vector<Finding> found;
    for (std::size_t v = 0; v < trail.tasks.values.size() && !judged.stopped(); ++v)
        if (amperes_of(trail.tasks.values[v].unit) > 0 && trail.tasks.values[v].samples.size() >= 1000) {
            find_unaccounted(judged, v, *core, found);
            find_greedy_jobs(judged, v, found);
        }
    std::vector<Finding> told;
    join(found, told);
    for (Finding& f : told) out.push_back(std::move(f));
}

}  // namespace

const Detector& odd_current_detector();
const Detector& odd_current_detector() {
    static constexpr Detector detector{"odd current", 80, find_odd_current};
    return detector;
}

}  // namespace mt
