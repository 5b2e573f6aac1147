#include "signals/clock_fit.h"

#include <algorithm>
#include <cmath>

#include "base/text.h"

namespace mt {
namespace {

constexpr std::size_t kWindow = 24, kWindows = 24;

double ns_of(Time t) { return static_cast<double>(t.ps) / 1000; }

/// A pair of edges that may be the same.
struct Match {
    double here, difference;  // ns
};

/// How well the edges of a stretch meet at an offset.
struct Vote {
    double here = 0;    ///< the middle of the stretch
    double offset = 0;  ///< there - here
    std::size_t hits = 0, runner_up = 0, asked = 0;
};

// Whether two edges may be the same, as far as is known before.
bool may_be(const std::optional<ClockHint>& hint, double here, double there) {
    return !hint ||
           std::abs(there - here - hint->offset_ns) <= hint->within_ns + kMostDriftPpm * 1e-6 * std::abs(here);
}

// Every difference between an edge of the stretch and one there is a vote for an offset; what is right has a vote of
// nearly every edge, all within the little that the clocks drift apart over the stretch.
Vote vote(const std::vector<SeenByBoth>& seen, double from, double to, const std::optional<ClockHint>& hint) {
    Vote best;
    std::vector<double> differences;
    const double width = std::max(2e-6 * kMostDriftPpm * (to - from) + 30'000.0, 1000.0);
    for (const SeenByBoth& s : seen) {
        const auto first = std::partition_point(s.here.begin(), s.here.end(), [&](Time t) { return ns_of(t) < from; });
        const auto last = std::partition_point(s.here.begin(), s.here.end(), [&](Time t) { return ns_of(t) <= to; });
        for (auto a = first; a != last; ++a) {
            ++best.asked;
            for (const Time b : s.there)
                if (may_be(hint, ns_of(*a), ns_of(b))) differences.push_back(ns_of(b) - ns_of(*a));
        }
    }
    if (differences.empty()) return best;
    best.here = (from + to) / 2;
    std::sort(differences.begin(), differences.end());
    std::size_t low = 0, at = 0;
    for (std::size_t high = 0; high < differences.size(); ++high) {
        while (differences[high] - differences[low] > width) ++low;
        if (high - low + 1 > best.hits) {
            best.hits = high - low + 1;
            at = low;
        }
    }
    best.offset = differences[at + best.hits / 2];
    low = 0;
    for (std::size_t high = 0; high < differences.size(); ++high) {
        while (differences[high] - differences[low] > width) ++low;
        const double middle = differences[low + (high - low) / 2];
        if (std::abs(middle - best.offset) > 2 * width) best.runner_up = std::max(best.runner_up, high - low + 1);
    }
    return best;
}

// The edges that meet within `reach` of the line, each with its nearest.
std::vector<Match> matches(const std::vector<SeenByBoth>& seen, double offset, double slope, double reach) {
    std::vector<Match> all;
    for (const SeenByBoth& s : seen) {
        std::size_t k = 0, taken = s.there.size();
        for (const Time a : s.here) {
            const double here = ns_of(a), expected = here + offset + slope * here;
            while (k + 1 < s.there.size() &&
                   std::abs(ns_of(s.there[k + 1]) - expected) <= std::abs(ns_of(s.there[k]) - expected))
                ++k;
            if (k >= s.there.size() || k == taken || std::abs(ns_of(s.there[k]) - expected) > reach) continue;
            taken = k;
            all.push_back({here, ns_of(s.there[k]) - here});
        }
    }
    return all;
}

/// difference = offset + slope * here, by least squares around the middle.
struct Line {
    double middle = 0, at_middle = 0, slope = 0, spread = 0, sum_of_squares = 0;
    double offset() const { return at_middle - slope * middle; }
};
Line line_through(const std::vector<Match>& all) {
    Line l;
    if (all.empty()) return l;
    long double x = 0, y = 0;
    for (const Match& m : all) x += m.here, y += m.difference;
    const auto n = static_cast<long double>(all.size());
    x /= n, y /= n;
    long double xx = 0, xy = 0;
    for (const Match& m : all) {
        xx += (m.here - x) * (m.here - x);
        xy += (m.here - x) * (m.difference - y);
    }
    l.middle = static_cast<double>(x);
    l.at_middle = static_cast<double>(y);
    l.slope = xx > 0 ? static_cast<double>(xy / xx) : 0;
    l.sum_of_squares = static_cast<double>(xx);
    long double rest = 0;
    for (const Match& m : all) {
        const long double r = m.difference - (l.at_middle + l.slope * (m.here - l.middle));
        rest += r * r;
    }
    l.spread = all.size() > 2 ? static_cast<double>(std::sqrt(rest / (n - 2))) : 0;
    return l;
}

double median(std::vector<double> values) {
    const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
    std::nth_element(values.begin(), middle, values.end());
    return *middle;
}

// So few edges that each pair of them can be tried: all of the fewer side must meet, under one offset alone.
Result<ClockFit> fit_few(const std::vector<SeenByBoth>& seen, const std::optional<ClockHint>& hint) {
    std::vector<std::pair<double, double>> pairs;  // of edges that may be the same
    std::size_t fewer = 0;
    for (const SeenByBoth& s : seen) {
        fewer += std::min(s.here.size(), s.there.size());
        for (const Time a : s.here)
            for (const Time b : s.there)
                if (may_be(hint, ns_of(a), ns_of(b))) pairs.emplace_back(ns_of(a), ns_of(b));
    }
    if (fewer == 0) return failure("one side has no edges", "", "is it the right signal?");
    if (pairs.size() > 4096)
        return failure("there are too few edges on one side to find them among those of the other", "",
                       "name a signal with more");
    std::vector<std::vector<Match>> found;
    const auto met = [&](double offset, double slope) { return matches(seen, offset, slope, 1000.0); };
    for (const auto& [a, b] : pairs) {
        std::vector<Match> best = fewer == 1 ? std::vector<Match>{{a, b - a}} : std::vector<Match>();
        for (const auto& [c, d] : pairs) {
            if (fewer == 1 || c <= a || std::abs((d - b) - (c - a)) > kMostDriftPpm * 1e-6 * (c - a)) continue;
            const double slope = (d - b - (c - a)) / (c - a);
            auto these = met(b - a - slope * a, slope);
            if (these.size() > best.size()) best = std::move(these);
        }
        if (best.size() < fewer) continue;
        const bool same = std::any_of(found.begin(), found.end(), [&](const auto& f) {
            return f.size() == best.size() && std::abs(f[0].difference - best[0].difference) < 1000;
        });
        if (!same) found.push_back(std::move(best));
    }
    if (found.empty()) return failure("the edges do not meet under any offset", "", "is it the same signal?");
    if (found.size() > 1)
        return failure("there are so few edges that several offsets would do", "",
                       "add another entry to align, or give offset_ns");
    const Line line = line_through(found[0]);
    ClockFit fit;
    fit.offset_ns = fewer == 1 ? found[0][0].difference : line.offset();
    fit.drift_ppm = fewer == 1 ? 0 : line.slope * 1e6;
    fit.matched = found[0].size();
    for (const SeenByBoth& s : seen) fit.unmatched += s.here.size() + s.there.size();
    fit.unmatched -= 2 * fit.matched;
    fit.spread_ns = line.spread;
    // One edge says nothing of the drift, two nothing of how well they meet.
    fit.uncertainty_ns = std::max(2 * line.spread, 1.0);
    fit.drift_known = fewer > 1;
    return fit;
}

Time nearest(long double ps) {
    constexpr long double most = 9e18L;
    return {static_cast<std::int64_t>(std::llround(std::clamp(ps, -most, most)))};
}

// As fit_clocks; `hint`: nothing beyond it is looked for.
Result<ClockFit> fit_within(const std::vector<SeenByBoth>& seen, const std::optional<ClockHint>& hint) {
    std::vector<double> here;
    std::size_t there = 0;
    for (const SeenByBoth& s : seen) {
        for (const Time t : s.here) here.push_back(ns_of(t));
        there += s.there.size();
    }
    std::sort(here.begin(), here.end());
    const auto counts = [&] {
        return count_text(here.size()) + " edges in the recording, " + count_text(there) + " there";
    };
    if (here.size() < 8 || there < 8) {
        auto few = fit_few(seen, hint);
        if (!few) few.error().where = counts();
        return few;
    }

    // Stretches of a few edges, spread over the recording: each says an offset of its own.
    std::vector<Vote> votes;
    const std::size_t step = std::max<std::size_t>(1, (here.size() - std::min(kWindow, here.size())) / kWindows);
    for (std::size_t i = 0; i + std::min(kWindow, here.size()) <= here.size(); i += step)
        votes.push_back(vote(seen, here[i], here[i + std::min(kWindow, here.size()) - 1], hint));
    std::vector<Vote> good;
    std::size_t ambiguous = 0;
    for (const Vote& v : votes) {
        const bool most = v.hits * 10 >= v.asked * 6 && v.hits >= 4;
        if (most && v.runner_up * 10 >= v.hits * 8) ++ambiguous;
        if (most && v.runner_up * 10 < v.hits * 8) good.push_back(v);
    }
    if (good.empty()) {
        if (ambiguous > 0)
            return failure("the edges come so evenly that several offsets would do", counts(),
                           "add another entry to align, or give offset_ns");
        return failure("the edges do not meet under any offset", counts(), "is it the same signal?");
    }
    // The line that most stretches agree with: through each pair of them.
    double offset = 0, slope = 0;
    std::size_t agreed = 0;
    const double most_slope = kMostDriftPpm * 1e-6;
    for (std::size_t i = 0; i < good.size(); ++i)
        for (std::size_t k = i; k < good.size(); ++k) {
            const double run = good[k].here - good[i].here;
            const double s = run > 0 ? (good[k].offset - good[i].offset) / run : 0;
            if (std::abs(s) > 2 * most_slope) continue;
            const double o = good[i].offset - s * good[i].here;
            std::size_t n = 0;
            for (const Vote& v : good) n += std::abs(v.offset - (o + s * v.here)) < 200'000 ? 1 : 0;
            if (n > agreed || (n == agreed && std::abs(s) < std::abs(slope))) {
                agreed = n;
                offset = o;
                slope = s;
            }
        }
    // Edges one by one, with a reach that follows how well they meet.
    std::vector<Match> met;
    double reach = 500'000;
    Line line;
    for (int round = 0; round < 12; ++round) {
        met = matches(seen, offset, slope, reach);
        if (met.size() < 4) break;
        line = line_through(met);
        std::vector<double> off;
        for (const Match& m : met)
            off.push_back(std::abs(m.difference - (line.at_middle + line.slope * (m.here - line.middle))));
        const double next = std::max(6 * 1.4826 * median(off), 50.0);
        offset = line.offset();
        slope = line.slope;
        if (round > 2 && std::abs(next - reach) < 0.01 * reach) break;
        reach = std::min(next, round < 2 ? 100'000.0 : next);
    }
    met = matches(seen, offset, slope, reach);
    line = line_through(met);
    if (met.size() < 4 || std::abs(line.slope) > most_slope)
        return failure("the edges do not meet under any offset and drift", counts(), "is it the same signal?");
    ClockFit fit;
    fit.offset_ns = line.offset();
    fit.drift_ppm = line.slope * 1e6;
    fit.matched = met.size();
    fit.spread_ns = line.spread;
    double first = met[0].here, last = met[0].here;
    for (const Match& m : met) first = std::min(first, m.here), last = std::max(last, m.here);
    const double n = static_cast<double>(met.size()), edge = std::max(last - line.middle, line.middle - first);
    const double of_slope = line.sum_of_squares > 0 ? edge * edge / line.sum_of_squares : 0;
    fit.uncertainty_ns = 2 * std::max(line.spread, 0.1) * std::sqrt(1 / n + of_slope);
    // What could have met and did not: within the time of the matched edges.
    std::uint64_t could = 0;
    for (const SeenByBoth& s : seen) {
        const auto within = [&](const std::vector<Time>& times, double from, double to) {
            return static_cast<std::uint64_t>(std::count_if(
                times.begin(), times.end(), [&](Time t) { return ns_of(t) >= from - 1 && ns_of(t) <= to + 1; }));
        };
        could += within(s.here, first, last) + within(s.there, ns_of(fit.to_there(Time::from_ns(first))) - reach,
                                                      ns_of(fit.to_there(Time::from_ns(last))) + reach);
    }
    fit.unmatched = could > 2 * fit.matched ? could - 2 * fit.matched : 0;
    if (fit.unmatched > 2 * fit.matched)
        return failure("most edges do not meet: only " + count_text(fit.matched) + " do", counts(),
                       "is it the same signal?");
    return fit;
}

}  // namespace

Time ClockFit::to_here(Time there) const {
    return nearest((static_cast<long double>(there.ps) - static_cast<long double>(offset_ns) * 1000) /
                   (1 + static_cast<long double>(drift_ppm) * 1e-6L));
}

Time ClockFit::to_there(Time here) const {
    return nearest(static_cast<long double>(offset_ns) * 1000 +
                   (1 + static_cast<long double>(drift_ppm) * 1e-6L) * static_cast<long double>(here.ps));
}

Result<ClockFit> fit_clocks(const std::vector<SeenByBoth>& seen, const std::optional<ClockHint>& hint) {
    constexpr std::uint64_t kMany = 16;
    auto fit = fit_within(seen, hint);
    if (fit || !hint) return fit;
    const auto by_themselves = fit_within(seen, std::nullopt);
    return by_themselves && by_themselves->matched >= kMany ? by_themselves : fit;
}

}  // namespace mt
