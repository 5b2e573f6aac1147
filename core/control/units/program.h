// A plan done on a target, and undone: what was there is read before it is written, and written back afterwards.
#pragma once

#include <chrono>
#include <map>
#include <string>
#include <vector>

#include "base/problem.h"
#include "control/units/plan.h"

namespace mt {

/// One target's units while they are set up. One thread at a time. Whoever destroys it without `put_back` leaves the
/// target as it is set.
class TraceProgram {
  public:
    using Milliseconds = std::chrono::milliseconds;
    /// `memory` must outlive it. `patience` is how long a unit may take to get ready.
    TraceProgram(TargetMemory& memory, Milliseconds patience) : memory_(memory), patience_(patience) {}

    /// Does the plan's writes in their order. A write that is refused or does not stick, and a unit that does not get
    /// ready, is a Problem; then what was written until then is put back already.
    Result<void> apply(const TracePlan& plan);
    /// Writes everything back as it was found. What cannot be written back is named in the Problem; the rest is.
    Result<void> put_back();
    bool applied() const { return !done_.empty(); }
    std::size_t written() const { return written_; }
    /// Registers that no longer read as they were set, and are not meant to change by themselves: somebody else (the
    /// firmware) sets the units up too. A sentence each.
    std::vector<std::string> overwritten();

  private:
    Result<void> await(const PlanStep& step);
    Result<void> do_writes(const TracePlan& plan);

    TargetMemory& memory_;
    Milliseconds patience_;
    std::vector<PlanStep> done_;
    std::map<std::uint64_t, std::uint32_t> found_, last_;
    std::size_t written_ = 0;
};

}  // namespace mt
