// Jobs of tasks that are unlike their peers: longer work, late ends, missed or jittering activations, slow growth.
#include <algorithm>
#include <array>
#include <cmath>
#include <cstdio>
#include <cstdlib>

#include "base/text.h"
#include "judge/detector.h"
#include "judge/sentences.h"
#include "judge/witness.h"
#include "measure/tasks.h"

namespace mt {
namespace {

struct Jobs {
    std::vector<std::size_t> index;  ///< whole jobs
    std::vector<Time> run, response;
    Time run_median, run_p95, response_median, response_p95;
};

// Those that are known from begin to end, and not near a loss.
Jobs whole_jobs(const Trail& trail, const TaskLane& lane) {
    Jobs all;
    for (std::size_t i = 0; i < lane.jobs.size(); ++i) {
        const TaskJob& j = lane.jobs[i];
        if (!j.whole() || !trail.trusted(lane.core, j.ready, j.end) || !lane.trusted(j.ready, j.end)) continue;
        all.index.push_back(i);
        all.run.push_back(j.run);
        all.response.push_back(j.response());
    }
    if (all.run.empty()) return all;
    all.run_median = quantile(all.run, 0.5);
    all.run_p95 = quantile(all.run, 0.95);
    all.response_median = quantile(all.response, 0.5);
    all.response_p95 = quantile(all.response, 0.95);
    return all;
}

// Deviants that stand close together are one episode: at most `apart` jobs between them.
std::vector<std::vector<std::size_t>> episodes_of(const std::vector<std::size_t>& deviants, std::size_t apart) {
    std::vector<std::vector<std::size_t>> all;
    for (const std::size_t k : deviants) {
        if (all.empty() || k > all.back().back() + apart) all.emplace_back();
        all.back().push_back(k);
    }
    return all;
}

void find_long_jobs(const Judged& judged, std::size_t t, const Jobs& jobs, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Job& limits = judged.thresholds.job;
    const TaskLane& lane = trail.tasks.tasks[t];
    // The middle half says what is usual; an episode may hold many long jobs and must not raise the bar.
    const Time spread = quantile(jobs.run, 0.75) - quantile(jobs.run, 0.25);
    const double factor = jobs.run.size() < 20 ? limits.of_median_few : limits.of_median;  // few say little
    const Time bar =
        jobs.run_median + std::max({times(jobs.run_median, factor), times(spread, limits.spreads), limits.least});
    std::vector<std::size_t> deviants;
    for (std::size_t k = 0; k < jobs.index.size(); ++k)
        if (jobs.run[k] > bar) deviants.push_back(k);
    if (deviants.empty() || deviants.size() > part(jobs.index.size(), limits.common)) return;
    const auto episodes = episodes_of(deviants, 8);
    if (episodes.size() > 3 && deviants.size() * 50 > jobs.index.size()) return;  // that is how this task is
    for (const auto& episode : episodes) {
        const std::size_t worst = *std::max_element(episode.begin(), episode.end(),
                                                    [&](auto a, auto b) { return jobs.run[a] < jobs.run[b]; });
        Finding f = about_job(FindingKind::duration_outlier, trail, t, jobs.index[worst]);
        const TaskJob& j = lane.jobs[jobs.index[worst]];
        const Factor longer = ratio(j.run, jobs.run_median);
        f.fact("times", longer);
        f.fact("took", j.run);
        f.fact("usual", jobs.run_median);
        f.fact("p95", jobs.run_p95);
        add_parts(f, trail, t, j.ready, j.end);
        if (episode.size() > 1) {
            f.begin = lane.jobs[jobs.index[episode.front()]].ready;
            f.end = lane.jobs[jobs.index[episode.back()]].end;
            f.fact("beside", episode.size() - 1);
        }
        f.alike = episode.size();
        f.severity = 0.62 + 0.08 * std::min(1.0, std::log10(std::max(longer.value, 1.0)));
        f.evidence.push_back({j.ready, lane.name + " became ready"});
        if (j.flags & TaskJob::kStarted) f.evidence.push_back({j.start, lane.name + " began to run"});
        f.evidence.push_back({j.end, lane.name + " ended its job: " + parts_text(f)});
        out.push_back(std::move(f));
    }
}

void find_late_jobs(const Judged& judged, std::size_t t, const Jobs& jobs, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Job& limits = judged.thresholds.job;
    const TaskLane& lane = trail.tasks.tasks[t];
    if (jobs.run.size() < 20) return;
    const Time spread = quantile(jobs.response, 0.75) - quantile(jobs.response, 0.25);
    const Time bar = std::max({times(jobs.response_p95, limits.response_of_p95),
                               times(jobs.response_median, limits.response_of_median),
                               jobs.response_median + times(spread, limits.response_spreads), limits.response_least});
    std::vector<std::size_t> deviants;
    for (std::size_t k = 0; k < jobs.index.size(); ++k)
        if (jobs.response[k] > bar) deviants.push_back(k);
    if (deviants.empty() || deviants.size() > part(jobs.index.size(), limits.response_common)) return;
    for (const auto& episode : episodes_of(deviants, 8)) {
        const std::size_t worst = *std::max_element(
            episode.begin(), episode.end(), [&](auto a, auto b) { return jobs.response[a] < jobs.response[b]; });
        Finding f = about_job(FindingKind::late_response, trail, t, jobs.index[worst]);
        const TaskJob& j = lane.jobs[jobs.index[worst]];
        f.fact("response", j.response());
        f.fact("usual", jobs.response_median);
        f.fact("p95", jobs.response_p95);
        add_parts(f, trail, t, j.ready, j.end);
        f.begin = lane.jobs[jobs.index[episode.front()]].ready;
        f.end = lane.jobs[jobs.index[episode.back()]].end;
        const JobParts parts = parts_of(trail, t, j.ready, j.end);
        for (const auto& [id, time] : parts.by_lock)
            if (time.ps * 3 > j.response().ps) f.involve(Role::lock, trail.tasks.object_name(id));
        for (const auto& [who, time] : parts.by_task)
            if (f.involved.size() < 4 && time.ps * 5 > j.response().ps)
                f.involve(Role::runner, trail.tasks.task_name(who), task_lane(trail, who));
        f.alike = episode.size();
        f.severity = 0.5;
        f.evidence = {{j.ready, lane.name + " became ready"}, {j.end, lane.name + " ended its job"}};
        out.push_back(std::move(f));
    }
}

// A steady growth of the work per job: a trend far beyond chance, seen in every quarter of the recording.
void find_growth(const Judged& judged, std::size_t t, const Jobs& jobs, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Job& limits = judged.thresholds.job;
    const TaskLane& lane = trail.tasks.tasks[t];
    const std::size_t n = jobs.run.size();
    if (n < 20) return;
    const Time spread = quantile(jobs.run, 0.75) - quantile(jobs.run, 0.25);
    const Time low = jobs.run_median - Time{spread.ps * 3}, high = jobs.run_median + Time{spread.ps * 3};
    long double sx = 0, sy = 0, sxx = 0, sxy = 0, syy = 0;
    std::vector<Time> kept;
    for (std::size_t k = 0; k < n; ++k) {
        const long double x = static_cast<long double>(k) / static_cast<long double>(n);
        const long double y = static_cast<long double>(std::clamp(jobs.run[k], low, high).ps);
        sx += x, sy += y, sxx += x * x, sxy += x * y, syy += y * y;
    }
    const long double m = static_cast<long double>(n);
    const long double vx = sxx - sx * sx / m, vy = syy - sy * sy / m, vxy = sxy - sx * sy / m;
    if (vx <= 0 || vy <= 0) return;
    const long double r = vxy / std::sqrt(vx * vy), slope = vxy / vx;
    const long double t_value = r * std::sqrt((m - 2) / std::max<long double>(1e-9L, 1 - r * r));
    const double growth =
        static_cast<double>(slope) / static_cast<double>(std::max<std::int64_t>(jobs.run_median.ps, 1));
    if (static_cast<double>(t_value) < limits.growth_certain || growth < limits.growth) return;
    std::array<Time, 4> quarters;
    for (std::size_t q = 0; q < 4; ++q) {
        const auto at = [&](std::size_t k) { return jobs.run.begin() + static_cast<std::ptrdiff_t>(n * k / 4); };
        quarters[q] = quantile({at(q), at(q + 1)}, 0.5);
    }
    const Time whole = quarters[3] - quarters[0];
    for (std::size_t q = 1; q < 4; ++q)  // a step is no growth
        if ((quarters[q] - quarters[q - 1]).ps * 10 < whole.ps ||
            (quarters[q] - quarters[q - 1]).ps * 10 > whole.ps * 7)
            return;
    Finding f = about_job(FindingKind::slow_growth, trail, t, jobs.index.back());
    f.begin = lane.jobs[jobs.index.front()].ready;
    f.end = lane.jobs[jobs.index.back()].end;
    f.fact("growth", Share{growth});
    f.fact("first_quarter", quarters[0]);
    f.fact("last_quarter", quarters[3]);
    f.fact("jobs", n);
    f.severity = 0.6;
    f.evidence = {{f.begin, "first job: " + duration_text(jobs.run.front())},
                  {lane.jobs[jobs.index.back()].ready, "last job: " + duration_text(jobs.run.back())}};
    out.push_back(std::move(f));
}

// A stretch of jobs that come at another rate than all others: each period a little off, and all to the same side.
void find_period_drift(const Judged& judged, std::size_t t, const std::vector<std::optional<Time>>& periods,
                       Time median, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Beat& limits = judged.thresholds.beat;
    const TaskLane& lane = trail.tasks.tasks[t];
    // What periods usually are off by is told by the middle of them: a drift must not raise its own bar.
    std::vector<Time> sizes;
    for (const auto& p : periods)
        if (p) sizes.push_back({std::llabs(p->ps - median.ps)});
    if (sizes.size() < 4 * limits.drift_row) return;
    const std::int64_t bar = std::max(times(median, limits.drift).ps, quantile(sizes, 0.5).ps * 4);
    std::size_t first = 0, count = 0, best_first = 0, best = 0, stretches = 0;
    int side = 0;
    std::size_t drifting = 0;
    const auto close = [&] {
        if (count >= limits.drift_row) {
            ++stretches;
            drifting += count;
            if (count > best) best = count, best_first = first;
        }
        count = 0;
    };
    for (std::size_t i = 1; i < periods.size(); ++i) {
        // Many times off is another thing: activations were missed, or it was caught up with.
        const std::int64_t off = periods[i] ? periods[i]->ps - median.ps : 0;
        const TaskJob& before = lane.jobs[i - 1];
        const bool overran =
            before.end + Time{median.ps / 50} > before.ready + median;  // its own length made the period
        const int here = !periods[i] || overran || std::llabs(off) < bar || std::llabs(off) * 2 > median.ps ? 0
                         : off > 0                                                                          ? 1
                                                                                                            : -1;
        if (here == 0 || here != side) close();
        if (here != 0 && count++ == 0) first = i;
        side = here;
    }
    close();
    // Many such stretches, or most of the recording: that is how this task is.
    if (best == 0 || stretches > 3 || drifting * 3 > sizes.size()) return;
    Time sum{};
    for (std::size_t i = best_first; i < best_first + best; ++i) sum += *periods[i];
    const Time mean{sum.ps / static_cast<std::int64_t>(best)};
    Finding f = about_job(FindingKind::period_drift, trail, t, best_first);
    f.begin = lane.jobs[best_first - 1].ready;
    f.end = lane.jobs[best_first + best - 1].ready;
    f.alike = stretches;
    f.fact("period", mean);
    f.fact("usual", median);
    f.fact("periods", best);
    f.fact("off_by", share_of({std::llabs((mean - median).ps)}, median));
    if (mean > median) f.fact("longer", true);
    f.fact("usual_off", quantile(sizes, 0.5));
    f.severity = 0.6;
    f.evidence = {{f.begin, "the last at the usual rate"}, {f.end, "the last at the other rate"}};
    out.push_back(std::move(f));
}

void find_missed_and_jitter(const Judged& judged, std::size_t t, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    const Thresholds::Beat& limits = judged.thresholds.beat;
    const TaskLane& lane = trail.tasks.tasks[t];
    std::vector<Time> known;
    std::vector<std::optional<Time>> periods;
    for (std::size_t i = 0; i < lane.jobs.size(); ++i) {
        periods.push_back(ready_period(lane, i));
        if (i > 0 && (!trail.trusted(lane.core, lane.jobs[i - 1].ready, lane.jobs[i].ready) ||
                      !lane.trusted(lane.jobs[i - 1].ready, lane.jobs[i].ready)))
            periods.back().reset();
        if (periods.back()) known.push_back(*periods.back());
    }
    if (known.size() < limits.fewest) return;
    const Time median = quantile(known, 0.5);
    std::size_t near = 0;
    for (const Time p : known) near += std::llabs(p.ps - median.ps) * 20 < median.ps ? 1 : 0;
    if (median.ps <= 0 || static_cast<double>(near) < limits.steady * static_cast<double>(known.size()))
        return;  // it follows no grid
    std::vector<Time> sizes;
    for (const Time p : known) sizes.push_back({std::llabs(p.ps - median.ps)});
    const Time bar = std::max(times(median, limits.jitter), std::min(times(quantile(sizes, 0.9), limits.jitter_of_p90),
                                                                     times(median, limits.jitter_most)));

    std::vector<std::size_t> missed, jittery;
    // After a job that overran, what it made late comes in a hurry until the grid is reached again: no jitter.
    bool catching_up = false;
    std::size_t anchor = 0, steady = 0;
    for (std::size_t i = 1; i < lane.jobs.size(); ++i) {
        const bool overran = lane.jobs[i - 1].end + Time{median.ps / 50} > lane.jobs[i - 1].ready + median;
        if (overran || !periods[i]) {
            if (!catching_up) anchor = i - 1;
            catching_up = true;
            steady = 0;
        }
        if (!periods[i]) continue;
        const bool on_beat = std::llabs(periods[i]->ps - median.ps) < bar.ps;
        if (catching_up) {
            const double behind = static_cast<double>((lane.jobs[i].ready - lane.jobs[anchor].ready).ps) /
                                      static_cast<double>(median.ps) -
                                  static_cast<double>(i - anchor);
            steady = on_beat ? steady + 1 : 0;
            if (on_beat && (std::fabs(behind) < 0.1 || steady >= 5)) catching_up = false;
            continue;
        }
        if (on_beat) continue;
        const double turns = static_cast<double>(periods[i]->ps) / static_cast<double>(median.ps);
        if (turns > 1.6 && std::fabs(turns - std::round(turns)) < 0.15)
            missed.push_back(i);
        else
            jittery.push_back(i);
    }
    if (!missed.empty() && missed.size() * 100 <= known.size() + 200) {
        const std::size_t worst =
            *std::max_element(missed.begin(), missed.end(), [&](auto a, auto b) { return *periods[a] < *periods[b]; });
        const double turns = std::round(static_cast<double>(periods[worst]->ps) / static_cast<double>(median.ps));
        Finding f = about_job(FindingKind::missed_activation, trail, t, worst);
        f.begin = lane.jobs[worst - 1].ready;
        f.end = lane.jobs[worst].ready;
        f.alike = missed.size();
        f.fact("missed", static_cast<std::uint64_t>(turns) - 1);
        f.fact("period", median);
        f.fact("passed", *periods[worst]);
        f.severity = 0.75;
        f.evidence = {{f.begin, lane.name + " became ready"},
                      {lane.jobs[worst - 1].end, lane.name + " ended that job"},
                      {f.begin + median, "it was due again"},
                      {f.end, lane.name + " became ready"}};
        out.push_back(std::move(f));
    }
    find_period_drift(judged, t, periods, median, out);
    for (const auto& episode : episodes_of(jittery, 6)) {
        if (episode.size() < limits.jitter_fewest || episode.size() * 10 > known.size()) continue;
        const bool drift = std::any_of(out.begin(), out.end(), [&](const Finding& d) {
            return d.kind == FindingKind::period_drift && d.lane == task_lane(trail, t) &&
                   d.begin <= lane.jobs[episode.front()].ready && lane.jobs[episode.back()].ready <= d.end;
        });
        if (drift) continue;
        std::vector<Time> off;
        std::size_t worst = episode.front();
        for (const std::size_t i : episode) {
            off.push_back({std::llabs(periods[i]->ps - median.ps)});
            if (std::llabs(periods[i]->ps - median.ps) > std::llabs(periods[worst]->ps - median.ps)) worst = i;
        }
        Finding f = about_job(FindingKind::jitter_burst, trail, t, worst);
        f.begin = lane.jobs[episode.front() - 1].ready;
        f.end = lane.jobs[episode.back()].ready;
        f.alike = episode.size();
        f.fact("lasted", f.end - f.begin);
        f.fact("periods", episode.size());
        f.fact("off_by", Time{std::llabs(periods[worst]->ps - median.ps)});
        f.fact("period", median);
        f.fact("usual_off", quantile(sizes, 0.9));
        f.severity = 0.58;
        f.evidence = {{f.begin, "the last on the beat"},
                      {lane.jobs[worst].ready, "the furthest off: " + duration_text(*periods[worst])},
                      {f.end, "the last off the beat"}};
        out.push_back(std::move(f));
    }
}

void find_odd_jobs(const Judged& judged, std::vector<Finding>& out) {
    const Trail& trail = judged.trail;
    for (std::size_t t = 0; t < trail.tasks.tasks.size(); ++t) {
        const TaskLane& lane = trail.tasks.tasks[t];
        if (lane.idle) continue;
        if (lane.was_created && !lane.ran && trail.gaps.empty() && trail.complete &&
            trail.end - lane.created > times(trail.end, judged.thresholds.beat.never_ran)) {
            Finding f = about_job(FindingKind::never_ran, trail, t, 0);
            f.begin = f.end = lane.created;
            f.fact("before_end", trail.end - lane.created);
            if (lane.stretches.size() > 0) f.fact("was_ready", true);
            f.severity = 0.5;
            f.evidence = {{lane.created, lane.name + " was created"}};
            out.push_back(std::move(f));
            continue;
        }
        const Jobs jobs = whole_jobs(trail, lane);
        if (jobs.index.size() < judged.thresholds.job.fewest) continue;
        find_long_jobs(judged, t, jobs, out);
        find_late_jobs(judged, t, jobs, out);
        find_growth(judged, t, jobs, out);
        find_missed_and_jitter(judged, t, out);
    }
}

}  // namespace

const Detector& odd_jobs_detector();
const Detector& odd_jobs_detector() {
    static constexpr Detector detector{"odd jobs", 50, [](const Judged& judged, std::vector<Finding>& out) {
                                           if (!judged.trail.tasks.streams.empty()) find_odd_jobs(judged, out);
                                       }};
    return detector;
}

}  // namespace mt
