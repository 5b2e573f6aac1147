// Round ticks for a stretch of time: numbers with one unit, and the offset they count from.
#pragma once

#include <vector>

#include <QString>

#include "base/time.h"
#include "model/even_scale.h"

namespace mt::app {

struct TimeTicks {
    struct Tick {
        Time at;
        QString label;
    };
    std::vector<Tick> ticks;
    Time offset;          ///< ticks count from here
    QString offset_text;  ///< "from 7.063 012 s"; empty if they count from the start
};

/// About `wanted` ticks in [from, to] at round distances (1, 2, 5 times a power of ten).
TimeTicks time_ticks(Time from, Time to, int wanted);
/// The same where each step is equally wide: labels count steps.
TimeTicks even_ticks(const EvenScale& scale, Time from, Time to, int wanted);

}  // namespace mt::app
