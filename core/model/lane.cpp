#include "model/lane.h"

#include <algorithm>

namespace mt {

std::size_t Lane::longest(std::size_t level, std::size_t first, std::size_t last) const {
    std::size_t best = first;
    Time most = span(level, first).length();
    for (std::size_t i = first + 1; i < last; ++i)
        if (const Time length = span(level, i).length(); length > most) {
            best = i;
            most = length;
        }
    return best;
}

std::size_t Lane::first_from(std::size_t level, Time t) const {
    const std::size_t n = size(level);
    std::size_t i = touching(level, t, t).first;
    while (i < n && span(level, i).begin < t) ++i;
    return i;
}

bool Lane::stirs(Time from, Time to) const {
    for (std::size_t level = 0; level < levels(); ++level) {
        const auto [first, last] = touching(level, from, to);
        for (std::size_t i = first; i < last; ++i) {
            const Span s = span(level, i);
            if (s.end >= from && s.begin <= to && (s.flags & Span::kSilent) == 0) return true;
        }
    }
    return false;
}

std::string Lane::label(std::size_t, std::size_t) const { return {}; }

void Lane::each_part(std::size_t level, std::size_t i, const EachPart& each) const {
    const Span s = span(level, i);
    each(s.begin, s.end);
}

void Lane::each_edge(Time from, Time to, const std::function<void(Time)>& each) const {
    constexpr std::size_t kNear = 2;
    const Time middle{from.ps + (to.ps - from.ps) / 2};
    for (std::size_t level = 0; level < levels(); ++level) {
        const std::size_t n = size(level), at = first_from(level, middle);
        for (std::size_t i = at < kNear ? 0 : at - kNear; i < std::min(n, at + kNear); ++i) {
            const Span s = span(level, i);
            each(s.begin);
            each(s.end);
        }
    }
}

}  // namespace mt
