#include "judge/why_longer.h"

#include <algorithm>
#include <map>
#include <tuple>

#include "judge/witness.h"
#include "measure/kinds/kinds.h"
#include "replay/step_window.h"

namespace mt {
namespace {

constexpr std::size_t kMostCompared = 200'000;
constexpr std::uint64_t kMostSteps = 4'000'000;

struct Sum {
    Time time, longest_time;
    std::uint64_t count = 0;
    std::optional<SpanRef> longest;
};
using Sums = std::map<std::pair<Spent::On, std::string>, Sum>;

void add(Sums& sums, Spent::On on, const std::string& name, Time time, std::optional<SpanRef> span = std::nullopt) {
    if (time.ps <= 0) return;
    Sum& s = sums[{on, name}];
    s.time += time;
    ++s.count;
    if (s.longest && !(s.longest_time < time)) return;
    s.longest = span;
    s.longest_time = time;
}

// Handlers that had the core, each by its name; what is left over is told to `rest`.
Time add_handlers(Sums& sums, const CoreTrail& core, std::uint16_t own, Time from, Time to) {
    Time handlers{};
    for (const auto& [who, time] : who_ran(core, from, to)) {
        if (!ContextChange::is_handler(who) || who == own) continue;
        add(sums, Spent::On::handler, core.running_name(who), time);
        handlers += time;
    }
    return (to - from) - handlers;
}

void spent_in_call(Sums& sums, const Lane& lane, const SpanRef& ref) {
    const Span s = lane.span(ref.level, ref.index);
    Time below{};
    const std::uint32_t level = ref.level + 1;
    if (level < lane.levels()) {
        const auto [first, last] = lane.touching(level, s.begin, s.end);
        for (std::size_t i = first; i < last; ++i) {
            const Span c = lane.span(level, i);
            const Time time = std::min(c.end, s.end) - std::max(c.begin, s.begin);
            add(sums, (c.flags & Span::kHandler) != 0 ? Spent::On::handler : Spent::On::call, lane.label(level, i),
                time, SpanRef{ref.lane, level, i});
            if (time.ps > 0) below += time;
        }
    }
    add(sums, Spent::On::itself, {}, s.length() - below);
}

void spent_in_execution(Sums& sums, const Trail& trail, const Lane& lane, const SpanRef& ref) {
    const Span s = lane.span(ref.level, ref.index);
    const CoreTrail& core = trail.cores[lane.core()];
    const auto own = core.change_at(s.begin);
    add(sums, Spent::On::itself, {},
        add_handlers(sums, core, own ? core.change_running[*own] : ContextChange::kUnknown, s.begin, s.end));
}

// Who had the core while somebody else was ready.
void add_holders(Sums& sums, const Trail& trail, std::size_t core, Time from, Time to) {
    Time left = to - from;
    if (core < trail.tasks.cores.size()) {
        const auto& runs = trail.tasks.cores[core].runs;
        std::size_t i = runs.partition_point([from](const CoreRun& r) { return !(from < r.begin); });
        for (i = i == 0 ? 0 : i - 1; i < runs.size() && runs[i].begin < to; ++i) {
            if (runs[i].who >= trail.tasks.tasks.size()) continue;
            const Time begin = std::max(from, runs[i].begin),
                       end = i + 1 < runs.size() ? std::min(to, runs[i + 1].begin) : to;
            const Time handlers = trail.cores[core].handler_time(begin, end);
            add(sums, Spent::On::held_off, trail.tasks.tasks[runs[i].who].name, end - begin - handlers);
            left = left - (end - begin - handlers);
        }
    }
    const Time before = left;
    Time handlers{};
    for (const auto& [who, time] : who_ran(trail.cores[core], from, to))
        if (ContextChange::is_handler(who)) {
            add(sums, Spent::On::handler, trail.cores[core].running_name(who), time);
            handlers += time;
        }
    add(sums, Spent::On::held_off, "the scheduler", before - handlers);
}

void spent_in_job(Sums& sums, const Trail& trail, const Lane& lane, const SpanRef& ref) {
    const Span s = lane.span(ref.level, ref.index);
    const CoreTrail& core = trail.cores[lane.core()];
    lane.each_state(s.begin, s.end, [&](const LaneState& state) {
        const Time from = std::max(state.begin, s.begin), to = std::min(state.end, s.end);
        if (!(from < to)) return;
        switch (state.look) {
            case LaneState::runs:
            case LaneState::cut_into:
                add(sums, Spent::On::itself, {}, add_handlers(sums, core, 0, from, to));
                break;
            case LaneState::held_off:
                add_holders(sums, trail, lane.core(), from, to);
                break;
            case LaneState::waits_for_lock:
            case LaneState::waits:
                add(sums, Spent::On::waiting, lane.state_label(state), to - from);
                break;
            case LaneState::unknown:
                add(sums, Spent::On::unknown, {}, to - from);
        }
    });
}

bool spent_in(Sums& sums, const Trail& trail, const Lane& lane, const SpanRef& ref) {
    if (ref.lane.kind == &functions_kind())
        spent_in_call(sums, lane, ref);
    else if (ref.lane.kind == &interrupts_kind())
        spent_in_execution(sums, trail, lane, ref);
    else if (ref.lane.kind == &tasks_kind())
        spent_in_job(sums, trail, lane, ref);
    else
        return false;
    return true;
}

using Lines = std::map<std::pair<std::string, std::uint32_t>, std::pair<Time, std::uint64_t>>;

// Instructions of the call's own level, by line. False where that would take too long.
bool lines_of(Lines& lines, const Recording& recording, const StepTrail& steps, const SpanRef& ref,
              const Progress* progress) {
    const CallSpan call = steps.levels[ref.level][ref.index];
    std::map<std::uint32_t, std::optional<SourceLine>> known;  // by slot
    std::optional<std::uint16_t> depth;
    std::uint64_t looked_at = 0;
    bool all = true;
    each_step_piece(recording, steps, call.step, [&](const StepPiece& p) {
        if (p.step < call.step) return true;
        if (depth && p.begin >= call.end()) return false;
        if (!depth) depth = p.depth;
        looked_at += p.run.count;
        if (looked_at > kMostSteps || (progress != nullptr && progress->cancelled())) {
            all = false;
            return false;
        }
        if (p.depth != *depth) return true;
        std::uint32_t slot = p.run.first;
        for (std::uint32_t i = 0; i < p.run.count; ++i, slot = steps.code->next(slot)) {
            auto at = known.find(slot);
            if (at == known.end()) at = known.emplace(slot, recording.line_of(steps.core_index, slot)).first;
            if (!at->second) continue;
            auto& [time, count] = lines[{at->second->file, static_cast<std::uint32_t>(at->second->line)}];
            time += (i + 1 < p.run.count ? p.time_of(i + 1) : p.end) - p.time_of(i);
            ++count;
        }
        return true;
    });
    return all;
}

void add_lines(WhyLonger& why, const Recording& recording, const Trail& trail, const Progress* progress) {
    const StepTrail& steps = trail.steps[why.span.lane.index];
    if (recording.images[steps.core_index] == nullptr) return;
    Lines here, typical;
    if (!lines_of(here, recording, steps, why.span, progress) ||
        !lines_of(typical, recording, steps, why.typical, progress))
        return;
    for (const auto& [line, spent] : typical) here.try_emplace(line);
    for (const auto& [line, spent] : here) {
        const auto other = typical.find(line);
        LineSpent l{line.first, line.second, spent.first, {}, spent.second, 0};
        if (other != typical.end()) std::tie(l.typical, l.count_typical) = other->second;
        why.lines.push_back(l);
    }
    std::stable_sort(why.lines.begin(), why.lines.end(), [](const LineSpent& a, const LineSpent& b) {
        return std::abs(a.difference().ps) > std::abs(b.difference().ps);
    });
}

}  // namespace

std::optional<SpanRef> typical_span(const Trail& trail, const SpanRef& ref, const Progress* progress) {
    const LaneKind& kind = *ref.lane.kind;
    const auto lane = kind.lane(trail, ref.lane.index);
    if (lane == nullptr) return std::nullopt;
    const std::uint64_t activity = kind.activity_of(trail, ref);
    std::vector<std::pair<Time, SpanRef>> all;
    std::uint64_t seen = 0, every = 1;
    for (std::size_t level = 0; level < lane->levels(); ++level)
        for (std::size_t i = 0; i < lane->size(level); ++i) {
            if (i % 65'536 == 0 && progress != nullptr && progress->cancelled()) return std::nullopt;
            const SpanRef other{ref.lane, static_cast<std::uint32_t>(level), i};
            if (!kind.lanes_are_activities() && kind.activity_of(trail, other) != activity) continue;
            const Span s = lane->span(level, i);
            if (!s.whole() || (s.flags & Span::kSilent) != 0) continue;
            if (seen++ % every != 0) continue;
            all.emplace_back(s.length(), other);
            if (all.size() < kMostCompared) continue;
            // Too many to keep: half of them, and half as many of those to come.
            for (std::size_t k = 0; 2 * k < all.size(); ++k) all[k] = all[2 * k];
            all.resize(all.size() / 2);
            every *= 2;
        }
    if (all.size() < 3) return std::nullopt;
    const auto middle = all.begin() + static_cast<std::ptrdiff_t>(all.size() / 2);
    std::nth_element(all.begin(), middle, all.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    return middle->second;
}

std::optional<WhyLonger> why_longer(const Recording& recording, const Trail& trail, const SpanRef& ref,
                                    const Progress* progress) {
    const auto lane = ref.lane.kind->lane(trail, ref.lane.index);
    if (lane == nullptr || ref.level >= lane->levels() || ref.index >= lane->size(ref.level)) return std::nullopt;
    const Span s = lane->span(ref.level, ref.index);
    Sums here, typical;
    if (!s.whole() || !spent_in(here, trail, *lane, ref)) return std::nullopt;
    const auto other = typical_span(trail, ref, progress);
    if (!other) return std::nullopt;
    const Span t = lane->span(other->level, other->index);
    spent_in(typical, trail, *lane, *other);
    WhyLonger why{ref, *other, s.length(), t.length(), {}, {}};
    for (const auto& [what, sum] : typical) here.try_emplace(what);
    for (const auto& [what, sum] : here) {
        Spent spent{what.first, what.second, sum.time, {}, sum.count, 0, sum.longest};
        if (const auto found = typical.find(what); found != typical.end()) {
            spent.typical = found->second.time;
            spent.count_typical = found->second.count;
        }
        why.parts.push_back(std::move(spent));
    }
    std::stable_sort(why.parts.begin(), why.parts.end(), [](const Spent& a, const Spent& b) {
        return std::abs(a.difference().ps) > std::abs(b.difference().ps);
    });
    if (ref.lane.kind == &functions_kind()) add_lines(why, recording, trail, progress);
    return why;
}

}  // namespace mt
