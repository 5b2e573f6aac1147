// Two clocks brought together by what both saw: edges of a signal here, the same edges there, some missing, some extra.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "base/problem.h"
#include "base/time.h"

namespace mt {

/// Times of one kind of edge, ascending, as the recording and the measuring device have them.
struct SeenByBoth {
    std::vector<Time> here, there;
};

/// there = offset + (1 + drift / 10^6) * here. Plain data.
struct ClockFit {
    double offset_ns = 0, drift_ppm = 0;
    double uncertainty_ns = 0;  ///< 95 % bound of the difference anywhere between the first and the last matched edge
    std::uint64_t matched = 0;
    std::uint64_t unmatched = 0;  ///< edges of either side within the time that both saw
    double spread_ns = 0;         ///< typical distance of a matched edge from the line
    bool drift_known = true;      ///< not with a single edge: then 0 is taken

    Time to_here(Time there) const;
    Time to_there(Time here) const;
};

/// What is known of the offset before: about so much.
struct ClockHint {
    double offset_ns = 0, within_ns = 0;
};

/// The device's clock may run wrong by so much.
inline constexpr double kMostDriftPpm = 500;

/// Looks for the offset and drift under which most edges meet; one edge on both sides is enough for the offset alone. A
/// Problem if too few meet, or if the edges come so evenly, or are so few, that several offsets would do. `hint`: offsets
/// that are further off are looked for only if none within it is right, and only among so many edges that they tell by
/// themselves.
Result<ClockFit> fit_clocks(const std::vector<SeenByBoth>& seen, const std::optional<ClockHint>& hint = std::nullopt);

}  // namespace mt
