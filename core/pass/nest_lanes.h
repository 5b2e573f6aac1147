// What a nest of handlers tells, into the lanes of its core.
#pragma once

#include "flow/exception_nest.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// One core; what a HandlerStack tells may be told to it at once. One thread at a time; both arguments must outlive it.
class NestLanes {
  public:
    /// `from_wire`: what comes are numbers as software writes them, else codes of ExceptionId.
    NestLanes(const Recording& recording, Trail& trail, std::size_t core, bool from_wire)
        : recording_(recording), core_(trail.cores[core]), index_(core), other_numbers_(from_wire && core_.riscv) {}

    void close(const ExceptionInstance& x) {
        const std::uint16_t code = code_of(x.number);
        int& lane = lane_of_[code];
        if (lane < 0) {
            lane = static_cast<int>(core_.lanes.size());
            core_.lanes.emplace_back(code, recording_.exception_name(index_, code));
        }
        core_.lanes[static_cast<std::size_t>(lane)].append(x);
    }
    void change(Time t, std::uint16_t running) { core_.add_change(t, code_of(running)); }
    void visit(std::uint16_t number, Time begin, Time end, Time back) {
        core_.add_visit(code_of(number), begin, end, back);
    }

    /// Takes what was closed since, and empties the nest of it. A lane begins with its first execution.
    void take(ExceptionNest& nest) {
        for (const auto& x : nest.closed()) close(x);
        for (const auto& c : nest.changes()) change(c.time, c.running);
        nest.clear();
    }
    void finish(const HandlerStack& nest) {
        core_.contradictions += nest.contradictions();
        core_.cuts.clear();
        for (const auto& [pair, count] : nest.cuts()) core_.cuts[{code_of(pair.first), code_of(pair.second)}] += count;
        core_.by_priority = order_by_priority(core_);
    }

  private:
    std::uint16_t code_of(std::uint16_t number) const {
        if (!other_numbers_ || number >= ContextChange::kBetween) [[likely]]
            return number;
        return ExceptionId::on_wire(number, true).code();
    }
    const Recording& recording_;
    CoreTrail& core_;
    std::size_t index_;
    bool other_numbers_;
    PerException<int> lane_of_{-1};  ///< -1 before it was seen
};

}  // namespace mt
