#include "compare/chance.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <random>

namespace mt {
namespace {

constexpr std::size_t kFewestBlocks = 5, kMostBlocks = 60;
constexpr std::size_t kFewestForMean = 8, kFewestForP95 = 100, kFewestForP99 = 400, kFewestEvents = 12;
constexpr double kUsualBlock = 2e12;  // ps: two seconds

// Blocks of a recording: [edges[i], edges[i + 1]), those that count.
struct Blocks {
    std::vector<std::pair<Time, Time>> spans;
    std::vector<double> seconds;  // recorded in each
    std::size_t size() const { return spans.size(); }
};
Blocks blocks_of(const Extent& e, double length) {
    Blocks all;
    const double whole = static_cast<double>((e.end - e.begin).ps);
    const auto count = static_cast<std::size_t>(std::max(1.0, std::floor(whole / length)));
    const double each = whole / static_cast<double>(count);
    std::size_t gap = 0;
    for (std::size_t i = 0; i < count; ++i) {
        const Time from{e.begin.ps + static_cast<std::int64_t>(each * static_cast<double>(i))};
        const Time to{e.begin.ps + static_cast<std::int64_t>(each * static_cast<double>(i + 1))};
        double lost = 0;
        while (gap < e.gaps.size() && e.gaps[gap].second <= from) ++gap;
        for (std::size_t g = gap; g < e.gaps.size() && e.gaps[g].first < to; ++g)
            lost += static_cast<double>((std::min(to, e.gaps[g].second) - std::max(from, e.gaps[g].first)).ps);
        if (lost > each / 2) continue;
        all.spans.emplace_back(from, to);
        all.seconds.push_back((each - lost) * 1e-12);
    }
    return all;
}

// One figure as sums over blocks: a score S and what it is by, N. The figure is sum(S) / sum(N).
struct Figure {
    std::size_t quantity = 0;
    Statistic statistic = Statistic::mean;
    double floor = 0;              // standard deviation of the difference that is there whatever the blocks say
    std::vector<double> s, n;      // of the blocks of both
    std::vector<double> ss, sn, nn;
};

double sorted_rank(const std::vector<double>& sorted, double share) {
    const auto n = static_cast<double>(sorted.size());
    const auto at = static_cast<std::size_t>(std::max(0.0, std::ceil(n * share) - 1));
    return sorted[std::min(at, sorted.size() - 1)];
}

struct Sums {
    double s = 0, n = 0, ss = 0, sn = 0, nn = 0;
};
// The variance of sum(S) / sum(N), from how the blocks scatter around it.
double variance(const Sums& x, std::size_t blocks) {
    if (x.n <= 0 || blocks < 2) return 0;
    const double r = x.s / x.n;
    const double squares = std::max(0.0, x.ss - 2 * r * x.sn + r * r * x.nn);
    return squares / (x.n * x.n) * static_cast<double>(blocks) / static_cast<double>(blocks - 1);
}
double distance(const Sums& a, std::size_t blocks_a, const Sums& b, std::size_t blocks_b, double floor) {
    if (a.n <= 0 || b.n <= 0) return 0;
    const double scatter = variance(a, blocks_a) + variance(b, blocks_b) + floor * floor;
    return scatter > 0 ? (b.s / b.n - a.s / a.n) / std::sqrt(scatter) : 0;
}

class FigureTable {
  public:
    FigureTable(const std::vector<QuantityPair>& all, Blocks before, Blocks after)
        : all_(all), before_(std::move(before)), after_(std::move(after)) {
        for (std::size_t q = 0; q < all.size(); ++q) add(q);
    }
    std::vector<Figure> figures;
    std::size_t blocks() const { return before_.size() + after_.size(); }

  private:
    // For each sample of both the block it lies in; samples outside of all blocks are left out.
    template <class Each>
    void each_sample(const QuantityPair& q, Each each) const {
        std::size_t first = 0;
        for (const auto& [samples, blocks] :
             {std::pair<const Measurements*, const Blocks*>{&q.before, &before_}, {&q.after, &after_}}) {
            std::size_t b = 0;
            for (std::size_t i = 0; i < samples->size(); ++i) {
                while (b < blocks->size() && blocks->spans[b].second <= samples->at[i]) ++b;
                if (b == blocks->size()) break;
                if (samples->at[i] >= blocks->spans[b].first) each(first + b, samples->value[i]);
            }
            first += blocks->size();
        }
    }
    template <class Score>
    void figure(std::size_t q, Statistic statistic, double floor, Score score) {
        Figure f;
        f.quantity = q;
        f.statistic = statistic;
        f.floor = floor;
        f.s.resize(blocks());
        f.n.resize(blocks());
        each_sample(all_[q], [&](std::size_t b, double v) {
            f.s[b] += score(v);
            ++f.n[b];
        });
        close(std::move(f));
    }
    void close(Figure f) {
        for (std::size_t b = 0; b < blocks(); ++b) {
            f.ss.push_back(f.s[b] * f.s[b]);
            f.sn.push_back(f.s[b] * f.n[b]);
            f.nn.push_back(f.n[b] * f.n[b]);
        }
        figures.push_back(std::move(f));
    }
    void add(std::size_t q) {
        const QuantityPair& pair = all_[q];
        std::vector<double> sorted;
        each_sample(pair, [&](std::size_t, double v) { sorted.push_back(v); });
        std::sort(sorted.begin(), sorted.end());
        const std::size_t least = std::min(pair.before.size(), pair.after.size());
        if (pair.rate && sorted.size() >= kFewestEvents) {
            Figure f;
            f.quantity = q;
            f.statistic = Statistic::rate;
            f.s.resize(blocks());
            f.n = before_.seconds;
            f.n.insert(f.n.end(), after_.seconds.begin(), after_.seconds.end());
            each_sample(pair, [&](std::size_t b, double) { ++f.s[b]; });
            // A block may hold one more or less of what comes at regular times; and rare things come as they like.
            const double seconds = std::accumulate(f.n.begin(), f.n.end(), 0.0) / 2;
            f.floor = 0.5 / seconds * std::sqrt(static_cast<double>(blocks()));
            close(std::move(f));
        }
        if (least < kFewestForMean) return;
        const double n = static_cast<double>(least), median = sorted_rank(sorted, 0.5);
        const double resolution = std::max(pair.resolution, 1e-4 * std::fabs(median));
        // The greatest few values weigh no more than the one that 99.5 % do not exceed: else one of them decides.
        const double top = sorted_rank(sorted, 0.995), bottom = sorted_rank(sorted, 0.005);
        figure(q, Statistic::mean, resolution, [&](double v) { return std::clamp(v, bottom, top); });
        if (pair.mean_only) return;
        const double share_floor = 1 / n;
        const auto above = [](double level) {
            return [level](double v) { return v > level ? 1.0 : v == level ? 0.5 : 0.0; };
        };
        figure(q, Statistic::median, share_floor, above(median));
        // A mode that only one of them has stands in half as great a part of both together: hence several levels each.
        if (least >= kFewestForP95)
            for (const double level : {0.9, 0.95}) figure(q, Statistic::p95, share_floor, above(sorted_rank(sorted, level)));
        if (least >= kFewestForP99)
            for (const double level : {0.97, 0.98, 0.985, 0.99})
                figure(q, Statistic::p99, share_floor, above(sorted_rank(sorted, level)));
        figure(q, Statistic::spread, resolution, [&](double v) { return std::fabs(std::clamp(v, bottom, top) - median); });
    }

    const std::vector<QuantityPair>& all_;
    Blocks before_, after_;
};

double figure_of(const Measurements& s, Statistic statistic, double seconds) {
    if (statistic == Statistic::rate) return static_cast<double>(s.size()) / seconds;
    if (s.size() == 0) return 0;
    if (statistic == Statistic::mean)
        return std::accumulate(s.value.begin(), s.value.end(), 0.0) / static_cast<double>(s.size());
    if (statistic == Statistic::spread) {
        const double mean = std::accumulate(s.value.begin(), s.value.end(), 0.0) / static_cast<double>(s.size());
        double squares = 0;
        for (const double v : s.value) squares += (v - mean) * (v - mean);
        return std::sqrt(squares / static_cast<double>(s.size()));
    }
    std::vector<double> all = s.value;
    const double share = statistic == Statistic::median ? 0.5 : statistic == Statistic::p95 ? 0.95 : 0.99;
    const auto at = static_cast<std::size_t>(std::max(0.0, std::ceil(static_cast<double>(all.size()) * share) - 1));
    std::nth_element(all.begin(), all.begin() + static_cast<std::ptrdiff_t>(at), all.end());
    return all[at];
}

bool matters(const Compared& c, double resolution, const ChanceSettings& s) {
    const double relative = std::fabs(c.relative());
    if (c.statistic != Statistic::rate && std::fabs(c.after - c.before) <= resolution) return false;
    switch (c.statistic) {
        case Statistic::mean:
        case Statistic::median:
            return relative >= s.least_mean;
        case Statistic::p95:
        case Statistic::p99:
            return relative >= s.least_tail;
        case Statistic::spread:
            return relative >= s.least_spread;
        case Statistic::rate:
            return relative >= s.least_rate;
    }
    return false;
}

}  // namespace

std::string_view statistic_name(Statistic s) {
    constexpr std::string_view kNames[] = {"mean", "median", "p95", "p99", "spread", "rate"};
    return kNames[static_cast<std::size_t>(s)];
}

double Compared::relative() const {
    if (before == after) return 0;
    return before == 0 ? HUGE_VAL : (after - before) / std::fabs(before);
}

ChanceResult compare_quantities(const std::vector<QuantityPair>& all, const Extent& before, const Extent& after,
                                const ChanceSettings& settings, const Progress* progress) {
    ChanceResult result;
    const double shorter = static_cast<double>(std::min(before.end - before.begin, after.end - after.begin).ps);
    // Long enough to stand for themselves, and so many that chance can be told.
    double length = std::min(kUsualBlock, shorter / 10);
    length = std::max(length, shorter / static_cast<double>(kMostBlocks));
    if (!(length > 0)) {
        result.too_short = true;
        return result;
    }
    const Blocks blocks_before = blocks_of(before, length), blocks_after = blocks_of(after, length);
    result.block = Time{static_cast<std::int64_t>(length)};
    result.blocks_before = blocks_before.size();
    result.blocks_after = blocks_after.size();
    if (result.blocks_before < kFewestBlocks || result.blocks_after < kFewestBlocks) {
        result.too_short = true;
        return result;
    }
    const FigureTable comparison(all, blocks_before, blocks_after);
    const auto& figures = comparison.figures;
    const std::size_t na = result.blocks_before, nb = result.blocks_after, blocks = na + nb;
    // Distances of every figure in every division; the first division is the true one.
    constexpr std::size_t kMostKept = 60'000'000;  // distances
    const std::size_t rounds =
        std::clamp<std::size_t>(kMostKept / std::max<std::size_t>(1, figures.size()), 1000, settings.permutations) + 1;
    std::vector<std::vector<float>> distances(figures.size(), std::vector<float>(rounds));
    std::mt19937_64 random(settings.seed);
    std::vector<std::size_t> order(blocks);
    std::iota(order.begin(), order.end(), std::size_t{0});
    for (std::size_t round = 0; round < rounds; ++round) {
        if (progress != nullptr && progress->cancelled()) return result;
        if (round > 0)
            for (std::size_t i = 0; i < na; ++i)  // the first na are drawn
                std::swap(order[i], order[i + random() % (blocks - i)]);
        for (std::size_t f = 0; f < figures.size(); ++f) {
            const Figure& x = figures[f];
            Sums a, b;
            for (std::size_t i = 0; i < blocks; ++i) {
                Sums& to = i < na ? a : b;
                const std::size_t k = order[i];
                to.s += x.s[k];
                to.n += x.n[k];
                to.ss += x.ss[k];
                to.sn += x.sn[k];
                to.nn += x.nn[k];
            }
            distances[f][round] = static_cast<float>(std::fabs(distance(a, na, b, nb, x.floor)));
        }
    }
    // What chance does to a figure: the distance that one division in a thousand exceeds. Then the greatest of all
    // figures, division by division.
    std::vector<float> greatest(rounds);
    std::vector<double> usual(figures.size());
    for (std::size_t f = 0; f < figures.size(); ++f) {
        std::vector<float> sorted(distances[f].begin() + 1, distances[f].end());
        const auto at = sorted.begin() + static_cast<std::ptrdiff_t>(static_cast<double>(sorted.size()) * 0.999);
        std::nth_element(sorted.begin(), at, sorted.end());
        usual[f] = std::max(1.0, static_cast<double>(*at));
        for (std::size_t round = 0; round < rounds; ++round)
            greatest[round] =
                std::max(greatest[round], static_cast<float>(distances[f][round] / usual[f]));
    }
    std::vector<float> by_chance(greatest.begin() + 1, greatest.end());
    std::sort(by_chance.begin(), by_chance.end());
    const auto limit = static_cast<std::size_t>(std::ceil(static_cast<double>(by_chance.size()) * (1 - settings.level)));
    result.needed = by_chance[std::min(limit, by_chance.size() - 1)];
    const auto seconds_of = [](const Blocks& b) { return std::accumulate(b.seconds.begin(), b.seconds.end(), 0.0); };
    const double seconds_before = seconds_of(blocks_before), seconds_after = seconds_of(blocks_after);
    for (std::size_t f = 0; f < figures.size(); ++f) {
        const QuantityPair& pair = all[figures[f].quantity];
        Compared c;
        c.quantity = figures[f].quantity;
        c.statistic = figures[f].statistic;
        c.before = figure_of(pair.before, c.statistic, seconds_before);
        c.after = figure_of(pair.after, c.statistic, seconds_after);
        c.strength = distances[f][0] / usual[f];
        if (!result.all.empty() && result.all.back().quantity == c.quantity &&
            result.all.back().statistic == c.statistic) {  // at another level
            if (result.all.back().strength >= c.strength) continue;
            result.all.pop_back();
        }
        const auto rarer = by_chance.end() - std::lower_bound(by_chance.begin(), by_chance.end(),
                                                              static_cast<float>(c.strength));
        c.chance = (static_cast<double>(rarer) + 1) / static_cast<double>(by_chance.size() + 1);
        c.beyond = c.strength > result.needed && matters(c, pair.resolution, settings);
        result.all.push_back(c);
    }
    return result;
}

}  // namespace mt
