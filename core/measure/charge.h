// What was drawn while something ran: the charge that went through a current's lane, by task, interrupt and function.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "base/progress.h"
#include "measure/own_time.h"
#include "model/lane.h"
#include "model/trail.h"

namespace mt {

/// Amperes that one of a unit is: "A", "mA", "uA" or "µA", "nA"; 0 for what is no current.
double amperes_of(std::string_view unit);
/// The same for volts.
double volts_of(std::string_view unit);

/// The integral of a value's lane over time. Evenly sampled ones are joined by straight lines; each sample of another
/// lane holds until the next. Holes and what is not known count as nothing, which `known` tells.
class Integral {
  public:
    /// Holds on to the lane, which must outlive it. Takes a pass over its samples; a copy takes none.
    explicit Integral(const ValueLane& lane);

    struct Sum {
        double value = 0;  ///< in the lane's unit times seconds
        double known_s = 0;
        Sum operator-(const Sum& o) const { return {value - o.value, known_s - o.known_s}; }
    };
    /// Up to `t`; quick for times that ascend, or lie near the one before. One thread at a time.
    Sum until(Time t);
    /// Over [from, to). REQUIRES: from <= to.
    Sum over(Time from, Time to) {
        const Sum before = until(from);
        return until(to) - before;
    }

  private:
    /// From sample i, `here`, up to `to`, which lies not behind the next.
    Sum piece(std::size_t i, const ValueSample& here, const ValueSample& next, Time to) const;
    void place(std::size_t i, const Sum& up_to);
    ValueSample behind(std::size_t i) const;  ///< sample i + 1; the last itself
    const ValueLane& lane_;
    std::shared_ptr<const std::vector<Sum>> before_;  ///< each kEach samples; copies share it
    static constexpr std::size_t kEach = 16;
    std::size_t at_ = 0;       ///< the sample in force at the time asked last …
    Sum at_sum_;               ///< … the sum up to it
    ValueSample here_, next_;  ///< … it and the next
    bool placed_ = false;
    Time asked_ = Time::min();  ///< last, and the answer: one stretch begins where another ends
    Sum answer_;
};

/// How far the times of a lane may be wrong: its clock's uncertainty, and a sample.
Time reach_of(const Trail& trail, const ValueLane& lane);

/// One job, execution or call, and what was drawn while it ran.
struct Drawn {
    SpanRef span;
    Time begin, end, ran;
    double charge = 0;  ///< coulombs
};

/// What was drawn while an activity had its core: nothing else counts as its own, neither what cut into it nor, of a
/// function, what it called.
struct ChargeRow {
    Owner owner;
    std::string name;
    std::uint64_t count = 0;   ///< jobs, executions or calls that are whole
    Time ran;                  ///< as far as the current is known
    double charge = 0;         ///< coulombs
    /// Bounds of it: were the clocks off by what they may be, and as the current goes with the share that it has of
    /// stretches of a dozen samples, with twice the standard error of that. Of functions: what flowed surely within
    /// their own time, and what may have.
    double low = 0, high = 0;
    double energy = 0;         ///< joules; 0 where no voltage is known
    double greatest = 0;       ///< of one job, execution or call
    Time greatest_at;
};

/// All activities of all cores, by one lane of a current. `voltage`: a lane of the same device, or null. Blocks; a
/// cancelled look gives nothing.
std::vector<ChargeRow> charge_rows(const Trail& trail, const ValueLane& current, const ValueLane* voltage,
                                   const Progress* progress = nullptr);
/// The jobs of a task, the executions of an interrupt, or the calls of a function.
std::vector<Drawn> drawn_by(const Trail& trail, const ValueLane& current, const ChargeRow& row,
                            const Progress* progress = nullptr);

}  // namespace mt
