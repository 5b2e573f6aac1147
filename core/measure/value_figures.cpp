#include "measure/value_figures.h"

#include <algorithm>
#include <cmath>
#include <vector>

namespace mt {
namespace {

double number_at(const ValueLane& lane, std::size_t i) {
    return lane.known(i) ? lane.value(i).number() : std::nan("");
}

// The first sample from i on, in a direction, that `wanted` takes together with its neighbour before it in time. Blocks in
// which, by their least and greatest, it `cannot` be are passed over.
template <class Wanted, class Cannot>
std::optional<std::size_t> next_of(const ValueLane& lane, std::size_t i, int direction, Wanted wanted, Cannot cannot) {
    const std::size_t n = lane.samples.size();
    const auto passed = [&](std::size_t first, std::size_t block) {
        if (first + block > n) return false;
        const ValueLane::Extent e = lane.extent(first, first + block);
        return cannot(lane.value_of(e.least).number(), lane.value_of(e.greatest).number());
    };
    constexpr std::size_t kSmall = ValueLane::kBlock, kLarge = kSmall * kSmall;
    if (direction > 0)
        for (std::size_t k = i + 1; k < n; ++k) {
            if (wanted(k)) return k;
            for (const std::size_t block : {kLarge, kSmall})
                if (k % block == 0 && passed(k, block)) {
                    k += block - 1;
                    break;
                }
        }
    else
        for (std::size_t k = i; k-- > 1;) {
            if (wanted(k)) return k;
            for (const std::size_t block : {kLarge, kSmall})
                if (k % block == block - 1 && passed(k - (block - 1), block)) {
                    k -= block - 1;
                    if (k >= 1 && wanted(k)) return k;
                    break;
                }
            if (k == 0) break;
        }
    return std::nullopt;
}

}  // namespace

std::optional<ValueBetween> value_between(const ValueLane& lane, Time from, Time to) {
    const std::size_t n = lane.samples.size();
    if (n == 0 || !(from < to) || to <= lane.samples.time(0)) return std::nullopt;
    const std::size_t in_force = lane.at(from), begin = in_force == n ? 0 : in_force;
    const bool lines = lane.samples.even();
    ValueBetween b;
    double square = 0;
    bool any = false;
    for (std::size_t i = begin; i < n; ++i) {
        const ValueSample s = lane.samples[i];
        if (!(s.time < to)) break;
        const double v = number_at(lane, i);
        const Time next = i + 1 < n ? lane.samples.time(i + 1) : to;
        const Time left = std::max(s.time, from), right = std::min(lane.holds_until(i, std::max(next, to)), std::min(next, to));
        if (std::isnan(v) || !(left < right)) continue;
        // The straight line to the next one, cut off at both ends.
        double a = v, c = v;
        if (lines && i + 1 < n && next > s.time) {
            const double w = number_at(lane, i + 1), whole = (next - s.time).seconds();
            if (!std::isnan(w) && whole < 2e-12 * static_cast<double>(lane.samples.period_ps())) {
                a = v + (w - v) * (left - s.time).seconds() / whole;
                c = v + (w - v) * (right - s.time).seconds() / whole;
            }
        }
        const double length = (right - left).seconds();
        if (!any) {
            b.first = a;
            b.least = b.greatest = a;
        }
        any = true;
        b.last = c;
        b.least = std::min({b.least, a, lines ? c : a});
        b.greatest = std::max({b.greatest, a, lines ? c : a});
        b.integral += (a + c) / 2 * length;
        square += (a * a + a * c + c * c) / 3 * length;
        b.known_s += length;
        b.samples += s.time >= from ? 1 : 0;
    }
    if (!any || b.known_s <= 0) return std::nullopt;
    // What begins to hold right at the end counts for the difference.
    if (const std::size_t end = lane.at(to); end < n && !lines && lane.samples.time(end) == to)
        if (const double v = number_at(lane, end); !std::isnan(v)) b.last = v;
    b.mean = b.integral / b.known_s;
    b.rms = std::sqrt(square / b.known_s);
    return b;
}

std::optional<std::size_t> next_change(const ValueLane& lane, std::size_t i, int direction) {
    return next_of(
        lane, i, direction,
        [&lane](std::size_t k) {
            return lane.known(k) != lane.known(k - 1) || lane.samples.bits(k) != lane.samples.bits(k - 1);
        },
        [&lane](double least, double greatest) { return least == greatest && lane.samples.even(); });
}

std::optional<std::size_t> next_crossing(const ValueLane& lane, std::size_t i, double level, int direction) {
    return next_of(
        lane, i, direction,
        [&](std::size_t k) {
            const double before = number_at(lane, k - 1), now = number_at(lane, k);
            return !std::isnan(before) && !std::isnan(now) && (before < level) != (now < level);
        },
        [level](double least, double greatest) { return level <= least || greatest < level; });
}

std::optional<UsualRange> usual_range(const ValueLane& lane) {
    constexpr std::size_t kMost = 200'000;  // of many, each so manieth says as much
    const std::size_t n = lane.samples.size(), step = n / kMost + 1;
    std::vector<double> sorted;
    for (std::size_t i = 0; i < n; i += step)
        if (const double v = number_at(lane, i); !std::isnan(v)) sorted.push_back(v);
    if (sorted.size() < 20) return std::nullopt;
    std::sort(sorted.begin(), sorted.end());
    const std::size_t rim = sorted.size() / 200;
    return UsualRange{sorted[rim], sorted[sorted.size() - 1 - rim]};
}

std::optional<std::size_t> next_outside(const ValueLane& lane, const UsualRange& usual, std::size_t i, int direction) {
    const auto outside = [&](std::size_t k) {
        const double v = number_at(lane, k);
        return v < usual.low || v > usual.high;
    };
    return next_of(
        lane, i, direction, [&](std::size_t k) { return outside(k) && !outside(k - 1); },
        [&](double least, double greatest) {
            return (least >= usual.low && greatest <= usual.high) || greatest < usual.low || least > usual.high;
        });
}

std::string integral_unit(std::string_view unit) {
    if (unit.empty()) return "s";
    if (unit.back() == 'A') return std::string(unit.substr(0, unit.size() - 1)) + "C";
    if (unit.back() == 'W') return std::string(unit.substr(0, unit.size() - 1)) + "J";
    return std::string(unit) + "·s";
}

}  // namespace mt
