// What is selected, as a row of lengths over time: executions of an interrupt, or responses of a task's jobs.
#pragma once

#include "session.h"
#include "viewpoint.h"

namespace mt::app {

/// A view on a lane of the session's trail; valid as long as the trail is held.
class Series {
  public:
    Series() = default;
    /// Which length of a task's job is meant: ready to end, on the core, or the rest of it.
    enum class Of { response, running, held_up };
    /// What the selection names; empty if it names nothing. An interrupt has its duration only.
    static Series of(const Session& session, const Selection& s, Of of = Of::response);
    /// The task that is selected, or null.
    const TaskLane* task() const { return task_; }
    const Trail& trail() const { return *trail_; }

    explicit operator bool() const { return lane_ != nullptr || task_ != nullptr; }
    std::size_t size() const { return lane_ != nullptr ? lane_->size() : task_ != nullptr ? task_->jobs.size() : 0; }
    Time begin(std::size_t i) const { return lane_ != nullptr ? lane_->begin(i) : task_->jobs[i].ready; }
    Time length(std::size_t i) const { return lane_ != nullptr ? lane_->length(i) : of_job(task_->jobs[i]); }
    bool whole(std::size_t i) const { return lane_ != nullptr ? lane_->whole(i) : task_->jobs[i].whole(); }
    /// Index of the longest among [first, last). REQUIRES: first < last <= size().
    std::size_t longest(std::size_t first, std::size_t last) const;
    /// How often each length came; nullptr while that is not known.
    const Distribution* distribution(const Session& session, const Selection& s) const;

  private:
    Time of_job(const TaskJob& j) const {
        return of_ == Of::response ? j.response() : of_ == Of::running ? j.run : j.response() - j.run;
    }
    Of of_ = Of::response;
    std::shared_ptr<const Trail> trail_;
    const ExceptionLane* lane_ = nullptr;
    const TaskLane* task_ = nullptr;
};

}  // namespace mt::app
