// What is unusual in a recording, and why: the findings.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/finding_kinds.h"
#include "base/progress.h"
#include "measure/interrupts.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

struct Finding {
    struct Evidence {
        Time time;
        std::string what;
    };
    FindingKind kind = FindingKind::gap;
    double severity = 0;  ///< 0 to 1; ranks the list
    std::string title;    ///< a few words: "STEP_TIMER entered 71.8 µs late"
    std::string cause;    ///< one sentence: what is unusual, against what is normal, and what made it so
    Time begin, end;      ///< the stretch to look at
    bool timed = true;    ///< false: the trace tells no time there; begin and end count an instruction as a cycle
    std::vector<std::string> activities;
    std::string core;
    std::vector<Evidence> evidence;
    std::size_t core_index = 0;
    int lane = -1;  ///< index into the core's lanes; -1 if it concerns none
    std::size_t instance = 0;
    /// A call that it concerns.
    struct Call {
        std::size_t steps = 0, level = 0, index = 0;  ///< steps: index into the trail's steps
    };
    std::optional<Call> call;
    int task = -1;            ///< index into the trail's tasks; -1 if it concerns none first of all
    std::size_t job = 0;      ///< of that task
    std::uint64_t alike = 1;  ///< how many such places there are; this is the worst
};

/// Whether a steady tick of the core bears out the stated clock.
enum class ClockCheck : std::uint8_t { unchecked, agrees, contradicts };
/// `newest`: only so many ticks before the end are looked at, for a recording that still grows.
ClockCheck clock_check(const Trail& trail, std::size_t core, std::size_t newest = ~std::size_t{0});

/// Looks at the whole recording and ranks what it found, worst first. Needs no configuration. Blocks:
/// call it on a worker; a cancelled look gives what it found so far.
std::vector<Finding> find_all(const Recording& recording, const Trail& trail, const Progress* progress = nullptr);

}  // namespace mt
