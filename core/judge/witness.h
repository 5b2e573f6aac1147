// What happened in a stretch of time, gathered to explain a finding.
#pragma once

#include <algorithm>
#include <functional>
#include <map>
#include <string>
#include <utility>
#include <vector>

#include "flow/local_time.h"
#include "judge/finding.h"

namespace mt {

/// Time by what had the core within [from, to), longest first: exception number, 0 for thread mode, or
/// the special values of ContextChange.
std::vector<std::pair<std::uint16_t, Time>> who_ran(const CoreTrail& core, Time from, Time to);

/// Calls `take` for each packet of the core's stream in [from, to], decoded again from the checkpoints.
void each_packet_between(const Recording& recording, const Trail& trail, std::size_t core, Time from, Time to,
                         const std::function<void(std::size_t stream, const TimedPacket&)>& take);

/// Functions in which the program counter was sampled in thread mode within the stretches, with counts,
/// most first; "asleep" stands for samples of a sleeping core.
std::vector<std::pair<std::string, std::uint64_t>> sampled_functions(
    const Recording& recording, const Trail& trail, std::size_t core,
    const std::vector<std::pair<Time, Time>>& stretches);

/// "poll_status (focus.c:9)" of an address, as far as the image tells.
std::string place_text(const Recording& recording, std::size_t core, std::uint64_t address);

/// The k-th of n parts of sorted values: quantile(v, 0.5) is the median. REQUIRES: not empty.
Time quantile(std::vector<Time> values, double part);

/// So many times as long.
inline Time times(Time t, double factor) { return {static_cast<std::int64_t>(static_cast<double>(t.ps) * factor)}; }
/// So great a share of a count, rounded down.
inline std::size_t part(std::size_t of, double share) {
    return static_cast<std::size_t>(static_cast<double>(of) * share);
}
/// How many times as long `a` is as `b`; a time of nothing counts as a picosecond.
inline Factor ratio(Time a, Time b) {
    return {static_cast<double>(a.ps) / static_cast<double>(std::max<std::int64_t>(b.ps, 1))};
}
inline Share share_of(Time a, Time whole) { return {ratio(a, whole).value}; }

}  // namespace mt
