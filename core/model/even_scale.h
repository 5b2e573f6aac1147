// A scale on which each event takes the same width, instead of the time that passes until the next.
#pragma once

#include <cstdint>
#include <memory>

#include "model/trail.h"

namespace mt {

/// About how many instructions a stream had executed by `t`: exact at known moments and around sleeps, between them as
/// if all took the same.
double steps_by(const StepTrail& trail, Time t);

/// Even steps of one core: its executed instructions where they are traced, else the switches between its tasks, else
/// the changes between its handlers. Ascending both ways; holds its trail. Any thread may use it.
class EvenScale {
  public:
    enum class Steps : std::uint8_t { instructions, switches, changes };

    /// REQUIRES: core < trail->cores.size().
    EvenScale(std::shared_ptr<const Trail> trail, std::size_t core);

    Steps steps() const { return steps_; }
    std::size_t core() const { return core_; }
    /// How many steps lie before `t`; between two of them a share.
    double place(Time t) const;
    /// When `place` is reached. Before the first step and behind the last one: there.
    Time time(double place) const;

  private:
    struct Knot {
        double place = 0;
        Time time;
    };
    std::size_t size() const;
    Knot knot(std::size_t i) const;
    /// The first knot that does not lie `before`.
    template <class Before>
    std::size_t first_not(Before before) const;

    std::shared_ptr<const Trail> trail_;
    std::size_t core_, stream_ = 0;
    Steps steps_ = Steps::changes;
};

}  // namespace mt
