// All lanes of one snapshot, each made when it is first asked for. For one thread.
#pragma once

#include <map>
#include <memory>
#include <vector>

#include "measure/lane_kind.h"

namespace mt {

class LaneBook {
  public:
    explicit LaneBook(std::shared_ptr<const Trail> trail);
    const std::shared_ptr<const Trail>& trail() const { return trail_; }
    /// Those that are drawn, from top to bottom: core by core, each in the order of ranks; then those across cores.
    /// `merged`: by rank first, whatever the core.
    std::vector<LaneId> in_order(bool merged) const;
    /// Null if the recording has no such lane.
    const Lane* find(const LaneId& id) const;
    /// Null if there is no such span.
    const Lane* find(const SpanRef& span) const;

  private:
    std::shared_ptr<const Trail> trail_;
    std::vector<LaneId> ids_;
    mutable std::map<std::pair<const LaneKind*, std::uint64_t>, std::unique_ptr<const Lane>> made_;
};

}  // namespace mt
