#include "compare/side_by_side.h"

#include <algorithm>
#include <map>

#include "base/search.h"

namespace mt {
namespace {

// Differences that are looked for; beyond, two sequences have little in common.
constexpr std::size_t kMostApart = 1000;

void cut_off(std::vector<SideEvent>& all, std::size_t most) {
    std::stable_sort(all.begin(), all.end(), [](const SideEvent& a, const SideEvent& b) { return a.time < b.time; });
    if (all.size() > most) all.resize(most);
}

// Begins (and ends) of a lane's spans within [from, to).
void add_lane(const Lane& lane, Time from, Time to, const char* begins, const char* ends, std::size_t most,
              std::vector<SideEvent>& out) {
    const std::string name = lane.name();
    for (std::size_t level = 0; level < lane.levels(); ++level) {
        const auto [first, last] = lane.touching(level, from, to);
        for (std::size_t i = first; i < std::min(last, first + most); ++i) {
            const Span s = lane.span(level, i);
            if (!(s.begin < from) && s.begin < to && (s.flags & Span::kCutBegin) == 0)
                out.push_back({s.begin - from, name + begins, 0});
            if (ends != nullptr && !(s.end < from) && s.end < to && (s.flags & Span::kCutEnd) == 0)
                out.push_back({s.end - from, name + ends, 0});
        }
    }
}

}  // namespace

std::vector<SideEvent> side_events(const Trail& trail, Time from, Time to, std::size_t most) {
    struct Ends {
        std::string_view kind;
        const char *begins, *ends;
    };
    static constexpr Ends kEnds[] = {{"interrupts", " enters", " leaves"},
                                     {"locks", " is taken", " is given"},
                                     {"critical", " begins", " ends"},
                                     {"resources", " is taken", " is given"},
                                     {"marks", "", nullptr},
                                     {"stopwatches", " begins", " ends"}};
    std::vector<SideEvent> all;
    for (const Ends& t : kEnds) {
        const LaneKind* kind = LaneKinds::find(t.kind);
        if (kind == nullptr) continue;
        for (const std::uint64_t index : kind->lanes(trail))
            if (const auto lane = kind->lane(trail, index)) add_lane(*lane, from, to, t.begins, t.ends, most, all);
    }
    for (const CoreTasks& core : trail.tasks.cores) {
        for (std::size_t i = core.run_at(from) == core.runs.size() ? 0 : core.run_at(from); i < core.runs.size(); ++i) {
            const CoreRun& run = core.runs[i];
            if (!(run.begin < to)) break;
            if (run.begin < from || run.who >= trail.tasks.tasks.size()) continue;
            all.push_back({run.begin - from, trail.tasks.tasks[run.who].name + " runs", 0});
        }
    }
    cut_off(all, most);
    return all;
}

std::vector<SideEvent> side_calls(const Trail& trail, std::size_t core, Time from, Time to, std::size_t most) {
    std::vector<SideEvent> all;
    for (const StepTrail& steps : trail.steps) {
        if (steps.core_index != core || !steps.functions) continue;
        std::optional<std::uint32_t> outermost;
        for (std::size_t level = 0; level < steps.levels.size(); ++level) {
            const CallLevel& calls = steps.levels[level];
            std::size_t i = first_false(0, calls.size(), [&](std::size_t k) { return calls[k].begin < from; });
            for (std::size_t n = 0; i < calls.size() && n < most; ++i, ++n) {
                const CallSpan& c = calls[i];
                if (!(c.begin < to)) break;
                if ((c.flags & (CallFrame::kCutBegin | CallFrame::kContinued)) != 0) continue;
                if (!outermost) outermost = static_cast<std::uint32_t>(level);
                all.push_back({c.begin - from, (*steps.functions)[c.function].name,
                               static_cast<std::uint32_t>(level) - *outermost});
            }
        }
    }
    cut_off(all, most);
    return all;
}

// The shortest way from one to the other by leaving out and putting in, diagonal by diagonal.
std::vector<SideRow> side_by_side(const std::vector<SideEvent>& before, const std::vector<SideEvent>& after) {
    const auto n = static_cast<std::ptrdiff_t>(before.size()), m = static_cast<std::ptrdiff_t>(after.size());
    const auto same = [&](std::ptrdiff_t x, std::ptrdiff_t y) {
        const SideEvent &a = before[static_cast<std::size_t>(x)], &b = after[static_cast<std::size_t>(y)];
        return a.depth == b.depth && a.text == b.text;
    };
    const std::ptrdiff_t most = std::min<std::ptrdiff_t>(n + m, static_cast<std::ptrdiff_t>(kMostApart));
    std::vector<std::vector<std::ptrdiff_t>> reached;  // after each step: how far along `before`, on each diagonal
    std::vector<std::ptrdiff_t> far(static_cast<std::size_t>(2 * most + 3), 0);
    const auto at = [&](std::vector<std::ptrdiff_t>& v, std::ptrdiff_t k) -> std::ptrdiff_t& {
        return v[static_cast<std::size_t>(k + most + 1)];
    };
    std::ptrdiff_t steps = -1;
    for (std::ptrdiff_t d = 0; d <= most && steps < 0; ++d) {
        for (std::ptrdiff_t k = -d; k <= d; k += 2) {
            std::ptrdiff_t x = k == -d || (k != d && at(far, k - 1) < at(far, k + 1)) ? at(far, k + 1) : at(far, k - 1) + 1;
            while (x < n && x - k < m && x - k >= 0 && same(x, x - k)) ++x;
            at(far, k) = x;
            if (x >= n && x - k >= m) {
                steps = d;
                break;
            }
        }
        reached.push_back(far);
    }
    std::vector<SideRow> rows;
    if (steps < 0) {  // too different: what they have in common at the begin, then each for itself
        std::ptrdiff_t x = 0;
        for (; x < std::min(n, m) && same(x, x); ++x)
            rows.push_back({before[static_cast<std::size_t>(x)], after[static_cast<std::size_t>(x)]});
        for (std::ptrdiff_t i = x; i < n; ++i) rows.push_back({before[static_cast<std::size_t>(i)], std::nullopt});
        for (std::ptrdiff_t i = x; i < m; ++i) rows.push_back({std::nullopt, after[static_cast<std::size_t>(i)]});
        return rows;
    }
    std::ptrdiff_t x = n, y = m;
    for (std::ptrdiff_t d = steps; d >= 0; --d) {
        std::ptrdiff_t from_x = 0, from_y = 0;
        if (d > 0) {
            auto& v = reached[static_cast<std::size_t>(d - 1)];
            const std::ptrdiff_t k = x - y;
            const std::ptrdiff_t k_from = k == -d || (k != d && at(v, k - 1) < at(v, k + 1)) ? k + 1 : k - 1;
            from_x = at(v, k_from);
            from_y = from_x - k_from;
        }
        while (x > from_x && y > from_y) {
            --x, --y;
            rows.push_back({before[static_cast<std::size_t>(x)], after[static_cast<std::size_t>(y)]});
        }
        if (d == 0) break;
        if (x > from_x)
            rows.push_back({before[static_cast<std::size_t>(--x)], std::nullopt});
        else if (y > from_y)
            rows.push_back({std::nullopt, after[static_cast<std::size_t>(--y)]});
        x = from_x;
        y = from_y;
    }
    std::reverse(rows.begin(), rows.end());
    return rows;
}

std::vector<FigureBoth> figures_both(const LaneKind& kind, std::string_view figure,
                                     const std::vector<MeasuredRow>& before, const std::vector<MeasuredRow>& after) {
    std::vector<FigureBoth> all;
    std::map<std::string, std::size_t> known;
    const auto take = [&](const std::vector<MeasuredRow>& rows, bool is_after) {
        std::map<std::string, unsigned> met;  // several of one name: the first with the first
        for (const MeasuredRow& row : rows) {
            const Cell* name = cell_of(kind, row, "name");
            const Cell* value = cell_of(kind, row, figure);
            if (name == nullptr) continue;
            const std::string shown = cell_text(*name);
            const unsigned nth = met[shown]++;
            const auto [at, fresh] = known.try_emplace(shown + "\n" + std::to_string(nth), all.size());
            if (fresh) all.push_back({shown, {}, {}});
            if (value != nullptr) (is_after ? all[at->second].after : all[at->second].before) = *value;
        }
    };
    take(after, true);
    take(before, false);
    return all;
}

}  // namespace mt
