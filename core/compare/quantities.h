// Everything of a recording that can be compared with another: each activity's quantities, instance by instance.
#pragma once

#include <string>
#include <vector>

#include "base/progress.h"
#include "compare/chance.h"
#include "measure/lane_kind.h"
#include "model/trail.h"

namespace mt {

/// One quantity of one activity. Times in picoseconds, shares in percent.
struct Quantity {
    std::string kind;      ///< "task", "interrupt", "function", "lock", "queue", "core", "resource"
    std::string activity;  ///< its name
    std::string core;      ///< where two cores may have one of that name; empty for what belongs to none
    std::string what;      ///< "running", "response", "duration", "period", "hold", "wait", "depth", "load", "overlap"
    Measurements samples;
    double resolution = 0;  ///< of a value
    bool rate = false;      ///< how often it happens says something too
    bool mean_only = false;  ///< see QuantityPair
    bool in_time = true;
    LaneId lane = {};       ///< where it is drawn
    std::size_t index = 0;  ///< of the task, lock, queue, core, resource; of an interrupt its lane

    bool same(const Quantity& other) const {
        return kind == other.kind && activity == other.activity && core == other.core && what == other.what;
    }
};

/// Whole instances only. Of functions those that took most time, at most 200. Blocks: for a worker.
std::vector<Quantity> quantities_of(const Trail& trail, const Progress* progress = nullptr);
/// What is recorded of it: from the first to the last known moment, and the gaps of all cores.
Extent extent_of(const Trail& trail);

}  // namespace mt
