#include "model/step_trail.h"

#include <algorithm>

namespace mt {

void CallLevel::append_high(std::uint32_t function) {
    while (high_.size() + 1 < spans_.size()) high_.push_back(0);
    high_.push_back(static_cast<std::uint16_t>(function >> Row::kFunctionBits));
}

std::pair<std::size_t, std::size_t> CallLevel::touching(Time from, Time to) const {
    std::size_t first = spans_.partition_point([from](const Row& s) { return !(from < s.begin); });
    while (first > 0 && (spans_[first - 1].end() > from || spans_[first - 1].begin == from)) --first;
    const std::size_t last = spans_.partition_point([to](const Row& s) { return s.begin < to; });
    return {first, std::max(first, last)};
}

std::optional<std::size_t> CallLevel::at(Time t) const {
    const std::size_t next = spans_.partition_point([t](const Row& s) { return !(t < s.begin); });
    if (next == 0 || !(t < spans_[next - 1].end() || t == spans_[next - 1].begin)) return std::nullopt;
    return next - 1;
}

std::size_t StepTrail::first_piece(std::size_t level, std::size_t i) const {
    const CallLevel& spans = levels[level];
    for (; i > 0 && (spans[i].flags & CallFrame::kContinued) != 0; --i) {
        const std::uint64_t step = spans[i].step;
        const std::size_t gap = gaps.partition_point([step](const StepGapAt& g) { return g.step < step; });
        const CallSpan before = spans[i - 1];
        if (gap == gaps.size() || gaps[gap].step != step || gaps[gap].gap.kind != StepGapKind::stopped) break;
        if (before.function != spans[i].function || (before.flags & CallFrame::kCutEnd) == 0) break;
    }
    return i;
}

// A run that begins at a slot and ends at another went through all in between: what begins or flows in, minus what
// ended before.
std::vector<std::uint64_t> StepCounters::executions(const Code& code) const {
    const auto &begins = runs.begins, &ends = runs.ends;
    std::vector<std::uint64_t> all(begins.size());
    for (std::uint32_t s = 1; s < all.size(); ++s) {
        if (code[s].flow == Flow::none && begins[s] == 0) continue;
        all[s] += begins[s];
        const std::uint32_t next = code.next(s);
        if (all[s] > ends[s] && next < all.size()) all[next] += all[s] - ends[s];
    }
    return all;
}

}  // namespace mt
