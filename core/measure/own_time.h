// Who had a core, and nobody else: what cuts into a task or a handler has that time for its own.
#pragma once

#include <compare>
#include <cstdint>
#include <functional>
#include <string>

#include "model/lane.h"
#include "model/trail.h"

namespace mt {

/// Somebody who can have a core.
struct Owner {
    enum Sort : std::uint8_t { task, interrupt, thread, function } sort = task;
    std::size_t core = 0;
    std::uint64_t index = 0;  ///< of the trail's tasks, of the core's lanes; of a function: stream << 32 | function
    auto operator<=>(const Owner&) const = default;
};
std::string owner_name(const Trail& trail, const Owner& owner);
/// The activity as its kind numbers it.
LaneId activity_of(const Owner& owner);

/// Each stretch of a core that one task, one handler, or thread mode without tasks had alone, in the order of time.
/// What is not known is left out. `each` returns false to end the walk.
void each_own_stretch(const Trail& trail, std::size_t core,
                      const std::function<bool(const Owner& owner, Time from, Time to)>& each);

}  // namespace mt
