#include "measure/interrupts.h"

#include <algorithm>
#include <cmath>

#include "measure/nearest_rank.h"

namespace mt {
namespace {

Time mean_of(const long double sum, std::size_t n) {
    return {static_cast<std::int64_t>(std::llround(sum / static_cast<long double>(n)))};
}

}  // namespace

std::optional<Time> period_of(const Trail&, const ExceptionLane& lane, std::size_t i) {
    if (i == 0 || (lane.flags(i) & (ExceptionInstance::kAfterGap | ExceptionInstance::kCutBegin)) != 0)
        return std::nullopt;
    if ((lane.flags(i - 1) & ExceptionInstance::kCutBegin) != 0 || (lane.flags(i) & ExceptionInstance::kCutEnd) != 0)
        return std::nullopt;
    return lane.begin(i) - lane.begin(i - 1);
}

InterruptRow interrupt_row(const Trail& trail, std::size_t core_index, std::size_t lane_index) {
    const CoreTrail& core = trail.cores[core_index];
    const ExceptionLane& lane = core.lanes[lane_index];
    InterruptRow row;
    row.core = core_index;
    row.lane = lane_index;
    row.core_name = core.name;
    row.timed = core.timed;
    row.name = lane.name();
    row.number = lane.id().is_typed() ? lane.id().type() : lane.id().number;
    std::vector<Time> lengths;
    lengths.reserve(lane.size());
    long double sum = 0, own_sum = 0, period_sum = 0, low_sum = 0, high_sum = 0;
    std::size_t periods = 0;
    for (std::size_t i = 0; i < lane.size(); ++i) {
        row.deepest = std::max<unsigned>(row.deepest, lane.depth(i));
        if (const auto period = period_of(trail, lane, i)) {
            row.period_least = periods == 0 ? *period : std::min(*row.period_least, *period);
            row.period_greatest = periods == 0 ? *period : std::max(*row.period_greatest, *period);
            period_sum += static_cast<long double>(period->ps);
            ++periods;
        }
        if (!lane.whole(i)) {
            ++row.left_out;
            continue;
        }
        const Time length = lane.length(i), own = lane.own(i);
        if (lengths.empty()) {
            row.least = row.greatest = length;
            row.own_least = row.own_greatest = own;
        }
        row.least = std::min(*row.least, length);
        row.greatest = std::max(*row.greatest, length);
        row.own_least = std::min(*row.own_least, own);
        row.own_greatest = std::max(*row.own_greatest, own);
        lengths.push_back(length);
        sum += static_cast<long double>(length.ps);
        own_sum += static_cast<long double>(own.ps);
        const ExceptionInstance x = lane.instance(i);
        const Time shortest = std::max(Time{}, length - x.end_slack), longest = length + x.begin_slack;
        if (lengths.size() == 1) row.least_range = row.greatest_range = {shortest, longest};
        row.least_range = {std::min(row.least_range.low, shortest), std::min(row.least_range.high, longest)};
        row.greatest_range = {std::max(row.greatest_range.low, shortest), std::max(row.greatest_range.high, longest)};
        low_sum += static_cast<long double>(shortest.ps);
        high_sum += static_cast<long double>(longest.ps);
        if (x.begin_slack.ps > 0 || x.end_slack.ps > 0) {
            ++row.bounded;
            row.widest_bound = std::max({row.widest_bound, x.begin_slack, x.end_slack});
        }
    }
    row.count = lengths.size();
    row.total = {static_cast<std::int64_t>(sum)};
    row.own = {static_cast<std::int64_t>(own_sum)};
    if (periods > 0) row.period_mean = mean_of(period_sum, periods);
    if (!lengths.empty()) {
        row.mean = mean_of(sum, lengths.size());
        row.own_mean = mean_of(own_sum, lengths.size());
        row.mean_range = {mean_of(low_sum, lengths.size()), mean_of(high_sum, lengths.size())};
        const long double mean = sum / static_cast<long double>(lengths.size());
        long double squares = 0;
        for (const Time t : lengths)
            squares += (static_cast<long double>(t.ps) - mean) * (static_cast<long double>(t.ps) - mean);
        row.deviation = Time{
            static_cast<std::int64_t>(std::llround(std::sqrt(squares / static_cast<long double>(lengths.size()))))};
        row.p95 = nearest_rank(lengths, 95);
        row.p99 = nearest_rank(lengths, 99);
    }
    const Time known =
        core.system_lanes ? trail.tasks.cores[core_index].observed : trail.end - trail.gaps.covered(core_index);
    if (known.ps > 0) row.share = static_cast<double>(row.own.ps) / static_cast<double>(known.ps);
    return row;
}

std::vector<InterruptRow> interrupt_rows(const Trail& trail, const Progress* progress) {
    std::vector<InterruptRow> rows;
    for (std::size_t c = 0; c < trail.cores.size(); ++c)
        for (const std::size_t lane : trail.cores[c].by_priority) {
            if (progress != nullptr && progress->cancelled()) return rows;
            rows.push_back(interrupt_row(trail, c, lane));
        }
    return rows;
}

Distribution duration_distribution(const ExceptionLane& lane, std::size_t bins) {
    std::vector<Time> lengths;
    for (std::size_t i = 0; i < lane.size(); ++i)
        if (lane.whole(i)) lengths.push_back(lane.length(i));
    return distribution_of(lengths, bins);
}

Distribution distribution_of(const std::vector<Time>& lengths, std::size_t bins) {
    Distribution d;
    if (lengths.empty() || bins == 0) return d;
    const auto [shortest, longest] = std::minmax_element(lengths.begin(), lengths.end());
    const Time least = *shortest, greatest = *longest;
    const double low = static_cast<double>(std::max<std::int64_t>(least.ps, 1)),
                 high = static_cast<double>(greatest.ps) + 1;
    d.logarithmic = high / low > 8;  // a tail far from the bulk would press the bulk into one bin
    for (std::size_t k = 0; k <= bins; ++k) {
        const double x = static_cast<double>(k) / static_cast<double>(bins);
        d.edges.push_back(
            {static_cast<std::int64_t>(d.logarithmic ? low * std::pow(high / low, x) : low + (high - low) * x)});
    }
    d.edges.back() = {greatest.ps + 1};
    d.counts.assign(bins, 0);
    for (const Time t : lengths) {
        const auto edge = std::upper_bound(d.edges.begin(), d.edges.end(), std::max(t, d.edges.front()));
        const auto bin = static_cast<std::size_t>(edge - d.edges.begin());
        ++d.counts[std::min(bin == 0 ? 0 : bin - 1, bins - 1)];
    }
    return d;
}

}  // namespace mt
