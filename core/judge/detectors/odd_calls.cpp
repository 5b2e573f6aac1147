// Calls that are unlike their peers: far too long, with the lines that make the difference; recursion where there is
// none as a rule; and functions that were left without a return.
#include <algorithm>
#include <cmath>
#include <map>

#include "base/text.h"
#include "judge/detector.h"
#include "judge/witness.h"
#include "measure/functions.h"
#include "replay/step_window.h"

namespace mt {
namespace {

constexpr std::uint64_t kMostComparedSteps = 200'000;  ///< of a call that are compared
constexpr std::size_t kMostSought = 100'000;           ///< spans that are looked at for a peer

struct CallAt {
    std::size_t level = 0, index = 0;
};

Finding about_call(FindingKind kind, const StepTrail& steps, std::size_t steps_index, CallAt at) {
    const CallSpan& span = steps.levels[at.level][at.index];
    Finding f;
    f.kind = kind;
    f.begin = span.begin;
    f.end = span.end();
    f.core = steps.core;
    f.core_index = steps.core_index;
    f.set_about(call_ref(steps_index, at.level, at.index));
    f.involve(Role::subject, (*steps.functions)[static_cast<std::uint32_t>(span.function)].name, f.lane);
    return f;
}

using LinesOfCall = std::map<std::string, std::uint64_t>;

// How often each source line (where there is none: each function) was begun during a call.
LinesOfCall lines_of(const Recording& recording, const StepTrail& steps, const CallSpan& span) {
    LinesOfCall lines;
    std::uint64_t left = kMostComparedSteps;
    std::map<std::uint32_t, std::string> names;  // by slot: lines repeat
    each_step_piece(recording, steps, span.step, [&](const StepPiece& p) {
        if (p.begin >= span.end() && p.step > span.step) return false;
        std::string before;
        std::uint32_t slot = p.run.first;
        for (std::uint32_t i = 0; i < p.run.count && left > 0; ++i, slot = steps.code->next(slot), --left) {
            if (p.step + i < span.step) continue;
            auto [name, fresh] = names.try_emplace(slot);
            if (fresh) {
                const auto line = recording.line_of(steps.core_index, slot);
                name->second = line ? line->file.substr(line->file.rfind('/') + 1) + ":" + std::to_string(line->line)
                                    : (*steps.functions)[steps.functions->at(slot)].name;
            }
            if (name->second != before) ++lines[name->second];
            before = name->second;
        }
        return left > 0;
    });
    return lines;
}

// A whole call of the same function near the odd one, as long as they usually are.
std::optional<std::size_t> usual_call(const CallLevel& level, std::size_t odd, Time usual) {
    const auto fits = [&](std::size_t i) {
        const CallSpan& s = level[i];
        return s.function == level[odd].function && s.whole() && s.length <= Time{usual.ps * 5 / 4};
    };
    for (std::size_t d = 1; d < kMostSought && (d <= odd || odd + d < level.size()); ++d) {
        if (d <= odd && fits(odd - d)) return odd - d;
        if (odd + d < level.size() && fits(odd + d)) return odd + d;
    }
    return std::nullopt;
}

void tell_difference(const Recording& recording, const StepTrail& steps, CallAt odd, Time usual, Finding& f) {
    const CallLevel& level = steps.levels[odd.level];
    const auto peer = usual_call(level, odd.index, usual);
    if (!peer) return;
    const LinesOfCall odd_lines = lines_of(recording, steps, level[odd.index]);
    const LinesOfCall peer_lines = lines_of(recording, steps, level[*peer]);
    std::vector<std::pair<std::uint64_t, std::string>> more;
    for (const auto& [line, n] : odd_lines) {
        const auto usually = peer_lines.find(line);
        const std::uint64_t there = usually == peer_lines.end() ? 0 : usually->second;
        if (n > there + there / 4) more.emplace_back(n - there, line);
    }
    std::sort(more.begin(), more.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    if (more.empty()) return f.fact("same_lines", true);
    for (std::size_t i = 0; i < more.size() && i < 3; ++i) {
        const auto& line = more[i].second;
        const auto usually = peer_lines.find(line);
        f.fact("line_ran", odd_lines.at(line), line);
        f.fact("line_usual", usually == peer_lines.end() ? std::uint64_t{0} : usually->second, line);
    }
    f.evidence.push_back({level[*peer].begin, "a usual call, to compare"});
}

// The call of a function that did the most work among those that no loss is near.
std::optional<std::pair<CallAt, Time>> longest_trusted(const StepTrail& steps, std::uint32_t function) {
    std::optional<std::pair<CallAt, Time>> found;
    for (std::size_t level = 0; level < steps.levels.size(); ++level)
        for (std::size_t i = 0; i < steps.levels[level].size(); ++i) {
            const CallSpan& s = steps.levels[level][i];
            if (s.function != function || !s.whole() || (found && s.length <= found->second)) continue;
            if (!steps.trusted(s.begin, s.end())) continue;
            const Time work = s.length - parts_of_call(steps, level, i).preempted;
            if (!found || found->second < work) found = {CallAt{level, i}, work};
        }
    return found;
}

void find_long_calls(const Judged& judged, std::size_t index, std::vector<Finding>& out) {
    const StepTrail& steps = judged.trail.steps[index];
    const Thresholds::Call& limits = judged.thresholds.call;
    std::vector<Finding> found;
    for (std::uint32_t f = 0; f < steps.tallies.size(); ++f) {
        const FunctionTally& t = steps.tallies[f];
        if (t.calls < limits.fewest || steps.clock == StepClock::none) continue;
        const double n = static_cast<double>(t.calls), mean = t.work.ns() / n;
        const double spread = std::sqrt(std::max(0.0, t.squares / n - mean * mean));
        const double worst = t.most_work.ns();
        if (worst < limits.of_mean * mean || worst < mean + limits.spreads * spread || worst < mean + limits.least.ns())
            continue;
        CallAt at{t.worst.level, static_cast<std::size_t>(t.worst.index)};
        Time most = t.most_work;
        if (const CallSpan& s = steps.levels[at.level][at.index]; !steps.trusted(s.begin, s.end())) {
            const auto next = longest_trusted(steps, f);
            if (!next) continue;
            at = next->first;
            most = next->second;
            if (most.ns() < limits.of_mean * mean || most.ns() < mean + limits.least.ns()) continue;
        }
        Finding finding = about_call(FindingKind::duration_outlier, steps, index, at);
        finding.fact("times", Factor{most.ns() / mean});
        finding.fact("took", most);
        finding.fact("usual", Time::from_ns(mean));
        finding.fact("calls", t.calls);
        finding.evidence.push_back({finding.begin, "called"});
        tell_difference(judged.recording, steps, at, Time::from_ns(mean), finding);
        finding.evidence.push_back({finding.end, "returned"});
        finding.severity = 0.5;
        found.push_back(std::move(finding));
    }
    // A long callee makes its callers long: one finding, of the innermost.
    std::stable_sort(found.begin(), found.end(),
                     [](const Finding& a, const Finding& b) { return a.about->level > b.about->level; });
    std::vector<Finding> kept;
    for (Finding& f : found) {
        const auto inner = std::find_if(kept.begin(), kept.end(), [&](const Finding& k) {
            return k.begin >= f.begin && k.end <= f.end && (k.end - k.begin).ps * 2 > (f.end - f.begin).ps;
        });
        if (inner == kept.end())
            kept.push_back(std::move(f));
        else
            inner->involve(Role::caller, f.involved[0].name, f.lane);
    }
    for (Finding& f : kept) out.push_back(std::move(f));
}

// The first call of a function that `is` odd.
template <class Is>
std::optional<CallAt> first_call(const StepTrail& steps, std::uint32_t function, Is is) {
    std::optional<CallAt> first;
    for (std::size_t level = 0; level < steps.levels.size(); ++level)
        for (std::size_t i = 0; i < steps.levels[level].size(); ++i) {
            const CallSpan& s = steps.levels[level][i];
            if (first && s.begin >= steps.levels[first->level][first->index].begin) break;
            if (s.function == function && is(level, s) && steps.trusted(s.begin, s.end())) {
                first = CallAt{level, i};
                break;
            }
        }
    return first;
}

// What so few calls of a function do that it is no rule.
template <class Is>
void find_rare(FindingKind kind, const Judged& judged, std::size_t index, std::uint32_t function, std::uint64_t odd,
               Is is, std::vector<Finding>& out) {
    const StepTrail& steps = judged.trail.steps[index];
    const Thresholds::Call& limits = judged.thresholds.call;
    const std::uint64_t calls = steps.tallies[function].calls;
    if (odd == 0 || calls < limits.fewest || odd > part(calls, limits.rare)) return;
    const auto at = first_call(steps, function, is);
    if (!at) return;
    Finding f = about_call(kind, steps, index, *at);
    f.fact("odd_calls", odd);
    f.fact("calls", calls);
    f.alike = odd;
    f.severity = 0.45;
    f.evidence.push_back({f.begin, "called"});
    f.evidence.push_back({f.end, "left"});
    out.push_back(std::move(f));
}

// Calls that came from the function itself or its callees. A handler that calls what it preempted is none of them: that
// happens now and then to all that both call.
std::uint64_t calls_within_itself(const StepTrail& steps, std::uint32_t function) {
    std::uint64_t all = 0;
    for (const CallNode& n : steps.tree) {
        if (n.function != function || n.calls == 0 || &n == steps.tree.data()) continue;
        std::uint32_t above = n.parent;
        while (above != 0 && steps.tree[above].function != function) above = steps.tree[above].parent;
        if (above != 0) all += n.calls;
    }
    return all;
}

void find_recursion(const Judged& judged, std::size_t index, std::uint32_t function, std::vector<Finding>& out) {
    const StepTrail& steps = judged.trail.steps[index];
    const FunctionTally& tally = steps.tallies[function];
    if (tally.recursive == 0 || tally.calls < judged.thresholds.call.fewest) return;
    const auto within_itself = [&](std::size_t level, const CallSpan& s) {
        unsigned flags = s.flags;
        for (std::size_t below = level; below-- > 0 && (flags & CallFrame::kHandler) == 0;) {
            const auto i = steps.levels[below].at(s.begin);
            if (!i) continue;
            const CallSpan under = steps.levels[below][*i];
            if (under.function == function) return true;
            flags = under.flags;
        }
        return false;
    };
    find_rare(FindingKind::unexpected_recursion, judged, index, function, calls_within_itself(steps, function), within_itself,
              out);
}

void find_never_returned(const Judged& judged, std::size_t index, std::uint32_t function, std::vector<Finding>& out) {
    find_rare(
        FindingKind::never_returned, judged, index, function, judged.trail.steps[index].tallies[function].unwound,
        [](std::size_t, const CallSpan& s) { return (s.flags & CallFrame::kUnwound) != 0; }, out);
}

void find_odd_calls(const Judged& judged, std::size_t steps, std::vector<Finding>& out) {
    find_long_calls(judged, steps, out);
    for (std::uint32_t f = 0; f < judged.trail.steps[steps].tallies.size(); ++f) {
        find_recursion(judged, steps, f, out);
        find_never_returned(judged, steps, f, out);
    }
}

}  // namespace

const Detector& odd_calls_detector();
const Detector& odd_calls_detector() {
    static constexpr Detector detector{"odd calls", 40, [](const Judged& judged, std::vector<Finding>& out) {
                                           for (std::size_t i = 0; i < judged.trail.steps.size() && !judged.stopped();
                                                ++i)
                                               find_odd_calls(judged, i, out);
                                       }};
    return detector;
}

}  // namespace mt
