// Lanes and spans of the built-in kinds, from what they are in a trail.
#pragma once

#include "measure/kinds/kinds.h"

namespace mt {

/// `lane`: index into the core's lanes.
inline LaneId interrupt_lane(std::size_t core, std::size_t lane) {
    return {&interrupts_kind(), std::uint64_t{core} << 32 | lane};
}
inline LaneId task_lane(std::size_t task) { return {&tasks_kind(), task}; }
/// `steps`: index into the trail's steps.
inline LaneId calls_lane(std::size_t steps) { return {&functions_kind(), steps}; }

inline SpanRef execution_ref(std::size_t core, std::size_t lane, std::size_t instance) {
    return {interrupt_lane(core, lane), 0, instance};
}
inline SpanRef job_ref(std::size_t task, std::size_t job) { return {task_lane(task), 0, job}; }
inline SpanRef call_ref(std::size_t steps, std::size_t level, std::size_t index) {
    return {calls_lane(steps), static_cast<std::uint32_t>(level), index};
}

}  // namespace mt
