// Who wrote a value, as far as that is sure.
#pragma once

#include <string>

#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// Of one lane: the function, if the trace tells the instruction; else the task or handler that had the core. The
/// recording and the trail must outlive it.
class Writers {
  public:
    Writers(const Recording& recording, const Trail& trail, const ValueLane& lane);
    /// Empty where nobody can tell: near a change of what runs, in a gap, of what comes from outside.
    std::string of(std::size_t sample) const;
    bool functions_known() const { return by_function_; }

  private:
    std::string had_core(Time t) const;
    std::string function_at(std::uint64_t address) const;

    const Recording& recording_;
    const Trail& trail_;
    const ValueLane& lane_;
    bool by_function_ = false;
};

}  // namespace mt
