#include "measure/series.h"

#include <algorithm>

namespace mt {
namespace {

// Calls `each(span, begin, length)` for the whole spans of an activity, level by level.
template <class Each>
void each_whole(const Trail& trail, const Lane& lane, LaneId id, std::uint64_t activity, std::size_t which,
                const Progress* progress, Each each) {
    constexpr std::size_t kLookUp = 65'536;
    const bool all = id.kind->lanes_are_activities();
    for (std::uint32_t level = 0; level < lane.levels(); ++level)
        for (std::size_t i = 0, n = lane.size(level); i < n; ++i) {
            if (i % kLookUp == 0 && progress != nullptr && progress->cancelled()) return;
            const SpanRef ref{id, level, i};
            if (!all && id.kind->activity_of(trail, ref) != activity) continue;
            const Span s = lane.span(level, i);
            if (s.whole()) each(ref, s.begin, which == 0 ? s.length() : lane.length(level, i, which));
        }
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
    std::vector<Time> lengths;
    each_whole(trail, *lane, id, activity, which, progress,
               [&](const SpanRef&, Time, Time length) { lengths.push_back(length); });
    series.count = lengths.size();
    series.distribution = distribution_of(lengths, bins);
    const std::size_t share = std::max<std::size_t>(1, lengths.size() / std::max<std::size_t>(1, most / 2));
    lengths = {};
    const auto& edges = series.distribution.edges;
    series.longest.resize(series.distribution.counts.size());
    std::vector<Time> longest(series.longest.size(), Time{-1});
    std::size_t n = 0;
    Series::Dot first, top;
    const auto flush = [&] {
        if (n == 0) return;
        series.dots.push_back(first);
        if (top.span != first.span) series.dots.push_back(top);
        n = 0;
    };
    each_whole(trail, *lane, id, activity, which, progress, [&](const SpanRef& ref, Time begin, Time length) {
        const Series::Dot dot{ref, begin, length};
        if (n == 0) first = dot;
        if (n == 0 || length > top.length) top = dot;
        if (++n >= share) flush();
        series.greatest = std::max(series.greatest, length);
        if (longest.empty()) return;
        const auto edge = std::upper_bound(edges.begin(), edges.end(), std::max(length, edges.front()));
        const std::size_t bin = std::min(static_cast<std::size_t>(edge - edges.begin()) - 1, longest.size() - 1);
        if (length > longest[bin]) {
            longest[bin] = length;
            series.longest[bin] = ref;
        }
    });
    flush();
    std::stable_sort(series.dots.begin(), series.dots.end(),
                     [](const Series::Dot& a, const Series::Dot& b) { return a.begin < b.begin; });
    return series;
}

}  // namespace mt
