#include "document/job_queue.h"

#include <cstdio>
#include <exception>

namespace mt::app {

JobQueue::JobQueue() : worker_([this] { work(); }) {}

JobQueue::~JobQueue() {
    {
        const std::lock_guard guard(lock_);
        stop_ = true;
        jobs_.clear();
    }
    wake_.notify_all();
    worker_.join();
}

void JobQueue::add(std::function<void()> job, bool first) {
    {
        const std::lock_guard guard(lock_);
        if (first)
            jobs_.push_front(std::move(job));
        else
            jobs_.push_back(std::move(job));
    }
    wake_.notify_one();
}

void JobQueue::clear() {
    const std::lock_guard guard(lock_);
    jobs_.clear();
}

void JobQueue::work() {
    for (;;) {
        std::function<void()> job;
        {
            std::unique_lock guard(lock_);
            wake_.wait(guard, [this] { return stop_ || !jobs_.empty(); });
            if (stop_) return;
            job = std::move(jobs_.front());
            jobs_.pop_front();
        }
        try {
            job();
        } catch (const std::exception& e) {  // what was asked for stays empty; all else goes on
            std::fprintf(stderr, "mindful-trail: a part of the recording cannot be shown: %s\n", e.what());
        }
    }
}

}  // namespace mt::app
