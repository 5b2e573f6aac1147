// What a nest of handlers tells, into the lanes of its core.
#pragma once

#include <array>

#include "flow/exception_nest.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// One core; what a HandlerStack tells may be told to it at once. One thread at a time; both arguments must outlive it.
class NestLanes {
  public:
    NestLanes(const Recording& recording, Trail& trail, std::size_t core)
        : recording_(recording), core_(trail.cores[core]), index_(core) {
        lane_of_.fill(-1);
    }

    void close(const ExceptionInstance& x) {
        int& lane = lane_of_[x.number & 0x1FF];
        if (lane < 0) {
            lane = static_cast<int>(core_.lanes.size());
            core_.lanes.emplace_back(x.number, recording_.exception_name(index_, x.number));
        }
        core_.lanes[static_cast<std::size_t>(lane)].append(x);
    }
    void change(Time t, std::uint16_t running) { core_.add_change(t, running); }
    void visit(std::uint16_t number, Time begin, Time end, Time back) { core_.add_visit(number, begin, end, back); }

    /// Takes what was closed since, and empties the nest of it. A lane begins with its first execution.
    void take(ExceptionNest& nest) {
        for (const auto& x : nest.closed()) close(x);
        for (const auto& c : nest.changes()) change(c.time, c.running);
        nest.clear();
    }
    void finish(const HandlerStack& nest) {
        core_.contradictions += nest.contradictions();
        core_.cuts = nest.cuts();
        core_.by_priority = order_by_priority(core_);
    }

  private:
    const Recording& recording_;
    CoreTrail& core_;
    std::size_t index_;
    std::array<int, 512> lane_of_;  ///< exception number to lane, -1 before it was seen
};

}  // namespace mt
