#include "measure/functions.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace mt {

namespace {

// A share p of n independent samples is known to within 1.96 times the square root of p (1 - p) / n (normal
// approximation of the binomial distribution, 95 %).
void add_sampled(const Trail& trail, const std::vector<std::shared_ptr<const FunctionTable>>& functions,
                 const std::set<std::string>& leave_out, std::vector<FunctionRow>& rows) {
    for (std::size_t c = 0; c < trail.cores.size() && c < functions.size(); ++c) {
        const CoreTrail& core = trail.cores[c];
        // Instruction trace of a short stretch does not stand for the whole recording.
        const bool traced = std::any_of(trail.steps.begin(), trail.steps.end(), [&](const StepTrail& t) {
            return t.core_index == c && (t.end - t.begin).ps >= trail.end.ps / 2;
        });
        if (core.samples.empty() || traced || functions[c] == nullptr) continue;
        const FunctionTable& table = *functions[c];
        std::uint64_t all = core.samples_asleep;
        for (std::uint32_t f = 0; f < core.samples.size(); ++f)
            if (f >= table.size() || leave_out.count(table[f].name) == 0) all += core.samples[f];
        for (std::uint32_t f = 0; f < table.size() && f < core.samples.size(); ++f) {
            if (core.samples[f] == 0) continue;
            FunctionRow row;
            row.core = c;
            row.sampled = true;
            row.function = f;
            row.name = table[f].name;
            row.file = table[f].file;
            row.line = table[f].line;
            row.address = table[f].address;
            row.samples = core.samples[f];
            if (all > 0 && leave_out.count(row.name) == 0) {
                const double n = static_cast<double>(all);
                row.share = static_cast<double>(row.samples) / n;
                row.share_error = 1.96 * std::sqrt(row.share * (1 - row.share) / n);
                row.own = Time::from_ns(core.end.ns() * row.share);
            }
            rows.push_back(std::move(row));
        }
    }
}

}  // namespace

std::vector<FunctionRow> function_rows(const Trail& trail, const std::set<std::string>& leave_out,
                                       const std::vector<std::shared_ptr<const FunctionTable>>& functions) {
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
            row.core = t.core_index;
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
            row.preempted = tally.preempted;
            row.timed = t.clock != StepClock::none;
            row.worst = tally.longest;
            if (tally.calls > 0) {
                const auto n = static_cast<double>(tally.calls);
                row.least = tally.least;
                row.greatest = tally.greatest;
                const Time whole = tally.work + tally.whole_preempted;
                row.mean = Time{whole.ps / static_cast<std::int64_t>(tally.calls)};
                const double mean = whole.ns() / n, squares = (tally.squares + tally.more_squares) / n;
                row.deviation = Time::from_ns(std::sqrt(std::max(0.0, squares - mean * mean)));
            }
            if (leave_out.count(row.name) == 0) counted += row.own;
            rows.push_back(std::move(row));
        }
        for (std::size_t i = first; i < rows.size(); ++i)
            if (counted.ps > 0 && leave_out.count(rows[i].name) == 0)
                rows[i].share = static_cast<double>(rows[i].own.ps) / static_cast<double>(counted.ps);
    }
    add_sampled(trail, functions, leave_out, rows);
    std::stable_sort(rows.begin(), rows.end(),
                     [](const FunctionRow& a, const FunctionRow& b) { return a.own > b.own; });
    return rows;
}

CallParts parts_of_call(const StepTrail& steps, std::size_t level, std::size_t index) {
    const CallSpan& span = steps.levels[level][index];
    CallParts parts{span.length, {}};
    if (level + 1 >= steps.levels.size()) return parts;
    const CallLevel& below = steps.levels[level + 1];
    const auto [first, last] = below.touching(span.begin, span.end());
    for (std::size_t i = first; i < last; ++i) {
        const CallSpan& inner = below[i];
        if (inner.begin < span.begin || inner.end() > span.end()) continue;
        parts.own = parts.own - inner.length;
        parts.preempted +=
            (inner.flags & CallFrame::kHandler) != 0 ? inner.length : parts_of_call(steps, level + 1, i).preempted;
    }
    return parts;
}

std::vector<FunctionRow> inlined_rows(const Trail& trail) {
    std::vector<FunctionRow> rows;
    for (std::size_t s = 0; s < trail.steps.size(); ++s) {
        const StepTrail& t = trail.steps[s];
        if (!t.counters || !t.inlines || t.inlines->size() == 0) continue;
        const std::vector<std::uint64_t> executions = t.counters->executions(*t.code);
        std::vector<std::uint64_t> own(t.inlines->size());
        for (std::uint32_t slot = 0; slot < executions.size(); ++slot)
            if (const std::uint32_t in = t.inlines->at(slot); in != InlineTable::kNone) own[in] += executions[slot];
        std::map<std::string, FunctionRow> by_name;
        for (std::uint32_t i = 0; i < own.size(); ++i) {
            const Inlined& inlined = (*t.inlines)[i];
            if (own[i] == 0) continue;
            FunctionRow& row = by_name[inlined.name];
            row.steps_index = s;
            row.core = t.core_index;
            row.inlined = true;
            row.function = Code::kNowhere;
            row.name = inlined.name;
            row.instructions += own[i];
            ++row.places;
            if (row.file.empty()) {
                row.file = inlined.file;
                row.line = inlined.line;
            }
        }
        for (auto& [name, row] : by_name) rows.push_back(std::move(row));
    }
    return rows;
}

}  // namespace mt
