// One worker thread with a queue of jobs: what the stores of decoded blocks and steps run on.
#pragma once

#include <condition_variable>
#include <deque>
#include <functional>
#include <mutex>
#include <thread>

namespace mt::app {

/// Jobs run one after the other on a thread of the queue's own. Any thread may call its members. The end of the queue
/// waits for the job that runs and drops the others.
class JobQueue {
  public:
    JobQueue();
    ~JobQueue();
    JobQueue(const JobQueue&) = delete;
    JobQueue& operator=(const JobQueue&) = delete;

    /// Behind the others; `first`: before them.
    void add(std::function<void()> job, bool first = false);
    /// Drops what has not begun.
    void clear();

  private:
    void work();

    std::mutex lock_;
    std::condition_variable wake_;
    std::deque<std::function<void()>> jobs_;
    bool stop_ = false;
    std::thread worker_;
};

}  // namespace mt::app
