// Progress and cancel between a long computation and whoever waits for it.
#pragma once

#include <atomic>
#include <cstdint>

namespace mt {

/// One writer (the computation) and any number of readers; all members may be called from any thread.
class Progress {
  public:
    void report(std::uint64_t done, std::uint64_t total) {
        done_.store(done, std::memory_order_relaxed);
        total_.store(total, std::memory_order_relaxed);
    }
    /// Share done in [0, 1]; 0 while the total is unknown.
    double share() const {
        const auto total = total_.load(std::memory_order_relaxed);
        return total == 0 ? 0.0
                          : static_cast<double>(done_.load(std::memory_order_relaxed)) / static_cast<double>(total);
    }
    void cancel() { cancelled_.store(true, std::memory_order_relaxed); }
    bool cancelled() const { return cancelled_.load(std::memory_order_relaxed); }

  private:
    std::atomic<std::uint64_t> done_{0}, total_{0};
    std::atomic<bool> cancelled_{false};
};

}  // namespace mt
