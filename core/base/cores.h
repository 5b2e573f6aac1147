// How many processors this program may use.
#pragma once

#include <sched.h>

#include <algorithm>
#include <thread>

namespace mt {

/// At least 1. What the machine has, less what was taken from this process (taskset, cpusets).
inline unsigned usable_cores() {
    cpu_set_t set;
    if (::sched_getaffinity(0, sizeof set, &set) != 0) return std::max(1u, std::thread::hardware_concurrency());
    return std::max(1u, static_cast<unsigned>(CPU_COUNT(&set)));
}

}  // namespace mt
