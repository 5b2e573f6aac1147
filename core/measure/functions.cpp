#include "measure/functions.h"

#include <algorithm>
#include <cmath>

namespace mt {

std::vector<FunctionRow> function_rows(const Trail& trail, const std::set<std::string>& leave_out) {
    std::vector<FunctionRow> rows;
    for (std::size_t s = 0; s < trail.steps.size(); ++s) {
        const StepTrail& t = trail.steps[s];
        Time counted{};
        const std::size_t first = rows.size();
        for (std::uint32_t f = 0; f < t.tallies.size(); ++f) {
            const FunctionTally& tally = t.tallies[f];
            if (tally.calls == 0 && tally.left_out == 0 && tally.unseen == 0) continue;
            const Function& function = (*t.functions)[f];
            FunctionRow row;
            row.steps_index = s;
            row.function = f;
            row.name = function.name;
            row.file = function.file;
            row.line = function.line;
            row.address = function.address;
            row.count = tally.calls;
            row.left_out = tally.left_out;
            row.recursive = tally.recursive;
            row.unwound = tally.unwound;
            row.instructions = tally.steps;
            row.total = tally.inclusive;
            row.own = tally.own;
            row.worst = tally.worst;
            if (tally.calls > 0) {
                const auto n = static_cast<double>(tally.calls);
                row.least = tally.least;
                row.greatest = tally.greatest;
                row.mean = Time{tally.whole.ps / static_cast<std::int64_t>(tally.calls)};
                const double mean = tally.whole.ns() / n;
                row.deviation = Time::from_ns(std::sqrt(std::max(0.0, tally.squares / n - mean * mean)));
            }
            if (leave_out.count(row.name) == 0) counted += row.own;
            rows.push_back(std::move(row));
        }
        for (std::size_t i = first; i < rows.size(); ++i)
            if (counted.ps > 0 && leave_out.count(rows[i].name) == 0)
                rows[i].share = static_cast<double>(rows[i].own.ps) / static_cast<double>(counted.ps);
    }
    std::stable_sort(rows.begin(), rows.end(),
                     [](const FunctionRow& a, const FunctionRow& b) { return a.own > b.own; });
    return rows;
}

}  // namespace mt
