#include "measure/functions.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace mt {

namespace {

// A share p of n independent samples is known to within 1.96 times the square root of p (1 - p) / n (normal
// approximation of the binomial distribution, 95 %); what was never hit has a share below 3 / n with that confidence.
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
        const auto estimate = [&](FunctionRow& row, std::uint64_t samples) {
            row.sampled = true;
            row.samples = samples;
            row.own_traced = row.own;
            row.own = {};
            row.share = row.share_error = 0;
            if (all == 0 || leave_out.count(row.name) != 0) return;
            const double n = static_cast<double>(all);
            row.share = static_cast<double>(samples) / n;
            row.share_error = samples == 0 ? 3 / n : 1.96 * std::sqrt(row.share * (1 - row.share) / n);
            row.own = Time::from_ns(core.end.ns() * row.share);
        };
        const auto samples_of = [&](std::uint32_t f) { return f < core.samples.size() ? core.samples[f] : 0; };
        std::map<std::uint64_t, std::uint32_t> of_address;
        for (std::uint32_t f = 0; f < table.size(); ++f) of_address.try_emplace(table[f].address, f);
        std::set<std::uint64_t> there;
        for (FunctionRow& row : rows) {
            if (row.core != c) continue;
            there.insert(row.address);
            const auto found = of_address.find(row.address);
            estimate(row, found == of_address.end() ? 0 : samples_of(found->second));
        }
        for (std::uint32_t f = 0; f < table.size() && f < core.samples.size(); ++f) {
            if (core.samples[f] == 0 || there.count(table[f].address) != 0) continue;
            FunctionRow row;
            row.core = c;
            row.function = f;
            row.name = table[f].name;
            row.file = table[f].file;
            row.line = table[f].line;
            row.address = table[f].address;
            estimate(row, core.samples[f]);
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
            row.traced = true;
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

namespace {

struct Entry {
    Time begin, length;  ///< length: below 0 if the call is not whole
};

CallSpread spread_of(const StepTrail& steps, std::vector<Entry>& entries) {
    CallSpread spread;
    const auto earlier = [](const Entry& a, const Entry& b) { return a.begin < b.begin; };
    if (!std::is_sorted(entries.begin(), entries.end(), earlier))  // at several depths
        std::sort(entries.begin(), entries.end(), earlier);
    std::size_t gap = 0;
    std::uint64_t periods = 0;
    Time sum{};
    for (std::size_t i = 1; i < entries.size(); ++i) {
        const Time from = entries[i - 1].begin, to = entries[i].begin;
        while (gap < steps.gaps.size() && (steps.gaps[gap].end < from || !is_missing(steps.gaps[gap].gap.kind))) ++gap;
        if (gap < steps.gaps.size() && steps.gaps[gap].begin <= to) continue;
        const Time period = to - from;
        spread.period_least = std::min(spread.period_least.value_or(period), period);
        spread.period_greatest = std::max(spread.period_greatest.value_or(period), period);
        sum += period;
        ++periods;
    }
    if (periods > 0) spread.period_mean = Time{sum.ps / static_cast<std::int64_t>(periods)};
    std::erase_if(entries, [](const Entry& e) { return e.length < Time{}; });
    if (entries.empty()) return spread;
    const auto shorter = [](const Entry& a, const Entry& b) { return a.length < b.length; };
    const auto rank = [&](std::size_t percent) {
        const auto at = entries.begin() + static_cast<std::ptrdiff_t>((entries.size() * percent + 99) / 100 - 1);
        std::nth_element(entries.begin(), at, entries.end(), shorter);
        return at->length;
    };
    spread.p95 = rank(95);
    spread.p99 = rank(99);
    return spread;
}

}  // namespace

std::vector<CallSpread> call_spreads(const StepTrail& steps) {
    // So many calls are held at a time; the functions of more take turns.
    constexpr std::uint64_t kMostAtOnce = 4'000'000;
    std::vector<CallSpread> all(steps.tallies.size());
    const auto pieces = [&](std::size_t f) {
        return steps.tallies[f].calls + steps.tallies[f].left_out + steps.tallies[f].unseen;
    };
    for (std::size_t first = 0; first < all.size();) {
        std::size_t last = first;
        for (std::uint64_t held = 0; last < all.size() && (last == first || held + pieces(last) <= kMostAtOnce); ++last)
            held += pieces(last);
        std::vector<std::vector<Entry>> entries(last - first);
        for (std::size_t f = first; f < last; ++f) entries[f - first].reserve(pieces(f));
        for (const CallLevel& level : steps.levels)
            for (std::size_t i = 0; i < level.size(); ++i) {
                const CallSpan& call = level[i];
                if (call.function < first || call.function >= last ||
                    (call.flags & (CallFrame::kCutBegin | CallFrame::kContinued)) != 0)
                    continue;
                entries[call.function - first].push_back({call.begin, call.whole() ? call.length : Time{-1}});
            }
        for (std::size_t f = first; f < last; ++f) all[f] = spread_of(steps, entries[f - first]);
        first = last;
    }
    return all;
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

std::vector<FunctionRow> with_inlined(std::vector<FunctionRow> rows, const Trail& trail) {
    std::map<std::pair<std::size_t, std::string>, std::size_t> called;
    for (std::size_t i = 0; i < rows.size(); ++i) called.try_emplace({rows[i].core, rows[i].name}, i);
    for (FunctionRow& row : inlined_rows(trail)) {
        const auto found = called.find({row.core, row.name});
        if (found == called.end())
            rows.push_back(std::move(row));
        else
            rows[found->second].places += row.places;
    }
    return rows;
}

}  // namespace mt
