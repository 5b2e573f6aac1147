// Is what is being recorded sane? The doubts that matter while a recording runs, in words.
#pragma once

#include <string>
#include <vector>

#include "pass/live_recording.h"

namespace mt {

struct HealthLine {
    enum class Grade : std::uint8_t { good, watch, bad, unknown };
    Grade grade = Grade::good;
    std::string title, detail;  ///< "main: ITM", "synchronised 0.02 s ago"
    std::string figure, under;  ///< "2.31 MB/s", "92 k packets/s"
    std::string advice;         ///< what to do; empty where nothing is wrong
};

/// Looks at a snapshot. `trail` may be null (nothing decoded yet). Cheap enough for a few times a second.
std::vector<HealthLine> live_health(const Recording& recording, const Trail* trail, const RunState& state,
                                    const std::vector<LiveFigures>& figures);

}  // namespace mt
