// What a changed time is made of, before and after: where the difference comes from.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "compare/chance.h"
#include "compare/quantities.h"
#include "model/trail.h"

namespace mt {

/// Mean time per instance that went to something, by its name.
struct TimeParts {
    std::size_t instances = 0;
    double own = 0, interrupts = 0, data = 0, kernel = 0;
    std::map<std::string, double> tasks;  ///< other tasks that had the core
    std::map<std::string, double> locks;  ///< waited for
    std::map<std::string, std::size_t> holders;  ///< of a lock: who held it, how often
};
/// Of the jobs of a task, or of the holds of a lock: of all, or of those that the statistic is about, the longest ones.
TimeParts parts_of_jobs(const Trail& trail, std::size_t task, Statistic statistic);
TimeParts parts_of_holds(const Trail& trail, std::size_t lock, Statistic statistic);

/// Who makes a task ready most of the time: "guide camera"; empty where nobody is known.
std::string released_by(const Trail& trail, std::size_t task);

}  // namespace mt
