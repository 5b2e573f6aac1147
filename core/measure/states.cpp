#include "measure/states.h"

#include <algorithm>
#include <map>
#include <optional>

namespace mt {
namespace {

struct Gathered {
    std::vector<Time> stays, periods;
    std::uint64_t left_out = 0;
    Time worst_begin, worst_end;
    std::optional<Time> begun;  ///< since the last gap
};

void gather(const Trail& trail, const ValueLane& lane, std::map<std::uint64_t, Gathered>& all) {
    Time begin;
    bool whole = true;  // its begin was seen
    for (std::size_t i = 0; i < lane.samples.size(); ++i) {
        const ValueSample s = lane.samples[i];
        const bool gap = i > 0 && trail.gaps.touch(lane.core, lane.samples.time(i - 1), s.time);
        if (i > 0 && !gap && lane.samples.bits(i - 1) == s.bits) continue;
        if (i > 0) {
            Gathered& g = all[lane.samples.bits(i - 1)];
            if (gap || !whole) {
                ++g.left_out;
            } else {
                g.stays.push_back(s.time - begin);
                if (g.worst_end - g.worst_begin < s.time - begin || g.stays.size() == 1) {
                    g.worst_begin = begin;
                    g.worst_end = s.time;
                }
            }
        }
        if (gap)
            for (auto& [value, g] : all) g.begun.reset();
        begin = s.time;
        whole = !gap;
        Gathered& g = all[s.bits];
        if (g.begun) g.periods.push_back(begin - *g.begun);
        g.begun = begin;
    }
    if (!lane.samples.empty()) ++all[lane.samples.bits(lane.samples.size() - 1)].left_out;  // it goes on
}

}  // namespace

std::vector<StateRow> state_rows(const Trail& trail) {
    std::vector<StateRow> rows;
    for (std::size_t i = 0; i < trail.tasks.values.size(); ++i) {
        const ValueLane& lane = trail.tasks.values[i];
        if (lane.value_names.empty()) continue;
        std::map<std::uint64_t, Gathered> all;
        gather(trail, lane, all);
        const std::size_t first = rows.size();
        Time known;
        for (const auto& [value, g] : all)
            for (const Time t : g.stays) known += t;
        for (auto& [value, g] : all) {
            const auto name = lane.value_names.find(value);
            if (value == 0 && name == lane.value_names.end()) continue;
            StateRow row;
            row.lane = i;
            row.bits = value;
            row.lane_name = lane.name;
            row.name = name != lane.value_names.end() ? name->second : lane.value_of(value).text();
            if (lane.core < trail.cores.size()) row.core_name = trail.cores[lane.core].name;
            row.left_out = g.left_out;
            row.stay = figures_of(std::move(g.stays));
            row.period = figures_of(std::move(g.periods));
            row.worst_begin = g.worst_begin;
            row.worst_end = g.worst_end;
            if (known.ps > 0) row.share = static_cast<double>(row.stay.sum.ps) / static_cast<double>(known.ps);
            rows.push_back(std::move(row));
        }
        std::stable_sort(
            rows.begin() + static_cast<std::ptrdiff_t>(first), rows.end(),
            [&lane](const StateRow& a, const StateRow& b) { return lane.value_of(a.bits) < lane.value_of(b.bits); });
    }
    return rows;
}

}  // namespace mt
