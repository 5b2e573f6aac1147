#include "measure/series.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "measure/interrupts.h"

namespace mt {
namespace {

// Calls `each(span, begin, size)` for the spans of an activity that have a size, level by level.
template <class Each>
void each_size(const Trail& trail, const Lane& lane, const Series& of, const Progress* progress, Each each) {
    constexpr std::size_t kLookUp = 65'536;
    const bool all = of.lane.kind->lanes_are_activities();
    for (std::uint32_t level = 0; level < lane.levels(); ++level)
        for (std::size_t i = 0, n = lane.size(level); i < n; ++i) {
            if (i % kLookUp == 0 && progress != nullptr && progress->cancelled()) return;
            const SpanRef ref{of.lane, level, i};
            if (!all && of.lane.kind->activity_of(trail, ref) != of.activity) continue;
            const Span s = lane.span(level, i);
            if (of.of_values) {
                if (const double value = lane.value(i); std::isfinite(value)) each(ref, s.begin, value);
            } else if (s.whole()) {
                const Time length = of.which == 0 ? s.length() : lane.length(level, i, of.which);
                each(ref, s.begin, static_cast<double>(length.ps));
            }
        }
}

// Of whole numbers that have room, a bin each.
void divide_values(Series& series, const std::vector<double>& values, std::size_t bins) {
    if (values.empty()) return;
    const bool whole = std::all_of(values.begin(), values.end(), [](double v) { return v == std::floor(v); });
    const double low = series.least, high = series.greatest;
    double width = (high - low) / static_cast<double>(bins);
    if (whole) width = std::max(1.0, std::ceil((high - low + 1) / static_cast<double>(bins)));
    if (!(width > 0) || !std::isfinite(width)) width = std::max(1.0, std::abs(low)) * 0.01;
    const std::size_t n = whole        ? static_cast<std::size_t>(std::floor((high - low) / width)) + 1
                          : high > low ? bins
                                       : 1;
    const double first = whole ? low - 0.5 : low;  // a bin of one number stands around it
    for (std::size_t i = 0; i <= n; ++i) series.edges.push_back(first + width * static_cast<double>(i));
    series.counts.resize(n);
    for (const double v : values)
        ++series.counts[std::min(n - 1, static_cast<std::size_t>(std::max(0.0, (v - first) / width)))];
}

void divide_lengths(Series& series, const std::vector<double>& sizes, std::size_t bins) {
    std::vector<Time> lengths;
    lengths.reserve(sizes.size());
    for (const double size : sizes) lengths.push_back({static_cast<std::int64_t>(size)});
    const Distribution d = distribution_of(lengths, bins);
    for (const Time edge : d.edges) series.edges.push_back(static_cast<double>(edge.ps));
    series.counts = d.counts;
    series.logarithmic = d.logarithmic;
}

}  // namespace

Series series_of(const Trail& trail, LaneId id, std::uint64_t activity, std::size_t which, std::size_t most,
                 std::size_t bins, const Progress* progress) {
    Series series;
    series.lane = id;
    series.activity = activity;
    series.which = which;
    const auto lane = id ? id.kind->lane(trail, id.index) : nullptr;
    if (!lane) return series;
    series.of_values = lane->shape() == Shape::line;
    fill_series(
        series,
        [&](const EachDot& each) {
            each_size(trail, *lane, series, progress,
                      [&](const SpanRef& ref, Time begin, double size) { each({ref, begin, size}); });
        },
        most, bins);
    return series;
}

void fill_series(Series& series, const std::function<void(const EachDot&)>& walk, std::size_t most, std::size_t bins) {
    std::vector<double> sizes;
    walk([&](const Series::Dot& dot) { sizes.push_back(dot.size); });
    series.count = sizes.size();
    if (!sizes.empty()) {
        const auto [least, greatest] = std::minmax_element(sizes.begin(), sizes.end());
        series.least = *least;
        series.greatest = *greatest;
    }
    // Over many decades down to nothing, as differences reach, equal ratios would show little but their begin.
    const bool even = series.of_values || series.least * 1e5 < series.greatest;
    (even ? divide_values : divide_lengths)(series, sizes, bins);
    const std::size_t share = std::max<std::size_t>(1, sizes.size() / std::max<std::size_t>(1, most / 2));
    sizes = {};
    series.longest.resize(series.counts.size());
    std::vector<double> longest(series.longest.size(), -std::numeric_limits<double>::infinity());
    std::size_t n = 0;
    Series::Dot first, top, bottom;
    const auto same = [](const Series::Dot& a, const Series::Dot& b) { return a.begin == b.begin && a.span == b.span; };
    const auto flush = [&] {
        if (n == 0) return;
        series.dots.push_back(first);
        if (!same(top, first)) series.dots.push_back(top);
        if (series.of_values && !same(bottom, first) && !same(bottom, top)) series.dots.push_back(bottom);
        n = 0;
    };
    walk([&](const Series::Dot& dot) {
        const double size = dot.size;
        if (n == 0) first = dot;
        if (n == 0 || size > top.size) top = dot;
        if (n == 0 || size < bottom.size) bottom = dot;
        if (++n >= share) flush();
        if (longest.empty()) return;
        const auto edge = std::upper_bound(series.edges.begin(), series.edges.end(), std::max(size, series.edges[0]));
        const std::size_t bin = std::min(static_cast<std::size_t>(edge - series.edges.begin()) - 1, longest.size() - 1);
        if (size > longest[bin]) {
            longest[bin] = size;
            series.longest[bin] = dot;
        }
    });
    flush();
    std::stable_sort(series.dots.begin(), series.dots.end(),
                     [](const Series::Dot& a, const Series::Dot& b) { return a.begin < b.begin; });
}

}  // namespace mt
