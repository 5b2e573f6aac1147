// The kinds of findings by name, as recipes, command line and JSON know them (docs/user-guide.md, "Kinds of findings").
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <optional>
#include <string_view>

namespace mt {

enum class FindingKind : std::uint8_t {
    fault,
    late_response,
    missed_activation,
    duration_outlier,
    interrupt_storm,
    deep_nest,
    clock_doubt,
    gap,
    image_doubt,
    unexpected_recursion,
    never_returned,
    jitter_burst,
    period_drift,
    priority_inversion,
    lock_convoy,
    deadlock,
    starvation,
    unguarded_overlap,
    queue_overflow,
    slow_growth,
    overload,
    never_ran,
    unaccounted_current,
    charge_outlier,
    device_clock,
    value_outlier,
    value_jump,
    value_stuck,
    odd_writer,
    lost_update,
    stray_edge,
    disturbed_sample
};

inline constexpr std::array<std::string_view, 32> kFindingKindNames = {"fault",
                                                                       "late_response",
                                                                       "missed_activation",
                                                                       "duration_outlier",
                                                                       "interrupt_storm",
                                                                       "deep_nest",
                                                                       "clock_doubt",
                                                                       "gap",
                                                                       "image_doubt",
                                                                       "unexpected_recursion",
                                                                       "never_returned",
                                                                       "jitter_burst",
                                                                       "period_drift",
                                                                       "priority_inversion",
                                                                       "lock_convoy",
                                                                       "deadlock",
                                                                       "starvation",
                                                                       "unguarded_overlap",
                                                                       "queue_overflow",
                                                                       "slow_growth",
                                                                       "overload",
                                                                       "never_ran",
                                                                       "unaccounted_current",
                                                                       "charge_outlier",
                                                                       "device_clock",
                                                                       "value_outlier",
                                                                       "value_jump",
                                                                       "value_stuck",
                                                                       "odd_writer",
                                                                       "lost_update",
                                                                       "stray_edge",
                                                                       "disturbed_sample"};

/// The name used by `find --json`.
constexpr std::string_view finding_kind_name(FindingKind kind) {
    return kFindingKindNames[static_cast<std::size_t>(kind)];
}
constexpr bool is_finding_kind(std::string_view name) {
    return std::find(kFindingKindNames.begin(), kFindingKindNames.end(), name) != kFindingKindNames.end();
}

}  // namespace mt
