#include "series.h"

namespace mt::app {

Series Series::of(const Session& session, const Selection& s, Of of) {
    Series series;
    series.of_ = of;
    series.trail_ = session.trail();
    if (!series.trail_) return series;
    const Trail& trail = *series.trail_;
    if (s.task >= 0 && static_cast<std::size_t>(s.task) < trail.tasks.tasks.size())
        series.task_ = &trail.tasks.tasks[static_cast<std::size_t>(s.task)];
    else if (s.lane >= 0 && s.core < trail.cores.size() &&
             static_cast<std::size_t>(s.lane) < trail.cores[s.core].lanes.size())
        series.lane_ = &trail.cores[s.core].lanes[static_cast<std::size_t>(s.lane)];
    return series;
}

std::size_t Series::longest(std::size_t first, std::size_t last) const {
    if (lane_ != nullptr) return lane_->longest(first, last);
    if (of_ != Of::response) {
        std::size_t best = first;
        for (std::size_t i = first; i < last; ++i)
            if (whole(i) && (!whole(best) || length(i) > length(best))) best = i;
        return best;
    }
    return task_->longest_response.argmax(
        first, last, [this](std::size_t i) { return task_->jobs[i].whole() ? task_->jobs[i].response() : Time{}; });
}

const Distribution* Series::distribution(const Session& session, const Selection& s) const {
    if (task_ != nullptr) return session.task_distribution(static_cast<std::size_t>(s.task));
    return lane_ != nullptr ? session.distribution(s.core, static_cast<std::size_t>(s.lane)) : nullptr;
}

}  // namespace mt::app
