// Two recordings step by step: what happened after a moment in each, or inside a call of each, laid side by side so that
// what both have stands in one row.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "measure/lane_kind.h"
#include "model/trail.h"

namespace mt {

struct SideEvent {
    Time time;         ///< from the moment at which its recording was taken
    std::string text;  ///< by this both are matched: "UART_RX enters", "star_table_at"
    std::uint32_t depth = 0;
};
/// What both have, or what only one has.
struct SideRow {
    std::optional<SideEvent> before, after;
    bool both() const { return before && after; }
};

inline constexpr std::size_t kMostSideEvents = 2000;

/// Interrupts that enter and leave, tasks that get the core, locks, marks, text: all that begins within [from, to), in
/// order of time; at most `most`.
std::vector<SideEvent> side_events(const Trail& trail, Time from, Time to, std::size_t most = kMostSideEvents);
/// The calls within [from, to) on a core, in the order in which they were entered, indented by their depth below the
/// outermost of them; at most `most`.
std::vector<SideEvent> side_calls(const Trail& trail, std::size_t core, Time from, Time to,
                                  std::size_t most = kMostSideEvents);

/// As few rows as possible in which only one has something. Time and memory grow with the lengths' sum times their
/// difference; where that is too much, the rest is matched only as long as both are the same.
std::vector<SideRow> side_by_side(const std::vector<SideEvent>& before, const std::vector<SideEvent>& after);

/// A figure of one activity in both recordings.
struct FigureBoth {
    std::string activity;
    Cell before, after;
};
/// One figure of a kind's activities, by name, in the order of `after`, then those that only `before` has.
std::vector<FigureBoth> figures_both(const LaneKind& kind, std::string_view figure,
                                     const std::vector<MeasuredRow>& before, const std::vector<MeasuredRow>& after);

}  // namespace mt
