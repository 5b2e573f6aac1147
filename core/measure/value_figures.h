// Figures of a value between two moments, and where it next does something worth a look.
#pragma once

#include <cstddef>
#include <optional>

#include "model/trail.h"

namespace mt {

/// Between two moments. A value holds until the next; evenly sampled ones are joined by straight lines. Numbers are in the
/// lane's unit, times in seconds.
struct ValueBetween {
    double first = 0, last = 0;  ///< in force at either end
    double mean = 0, rms = 0;    ///< weighted by time
    double least = 0, greatest = 0;
    double integral = 0;  ///< unit times seconds
    double known_s = 0;   ///< of the stretch
    std::size_t samples = 0;

    double difference() const { return last - first; }
};
/// Nothing where no value is known in between. REQUIRES: from < to.
std::optional<ValueBetween> value_between(const ValueLane& lane, Time from, Time to);

/// The sample after `i` (or before it, with direction -1) whose value is another than the one before it.
std::optional<std::size_t> next_change(const ValueLane& lane, std::size_t i, int direction);
/// The next sample at which the value crosses `level`, either way.
std::optional<std::size_t> next_crossing(const ValueLane& lane, std::size_t i, double level, int direction);

/// Where a lane's numbers are as a rule: all but a share of 0.5 % at either end. Nothing for less than 20 of them.
struct UsualRange {
    double low = 0, high = 0;
};
std::optional<UsualRange> usual_range(const ValueLane& lane);
/// The next sample that leaves that range.
std::optional<std::size_t> next_outside(const ValueLane& lane, const UsualRange& usual, std::size_t i, int direction);

/// "mA" and seconds: "mC"; of volts and others: "V·s".
std::string integral_unit(std::string_view unit);

}  // namespace mt
