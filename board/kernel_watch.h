// What the scheduler of the main core's firmware does, as a recorder in it would tell: read off its variables and the
// exceptions that come and go.
#pragma once

#include <array>
#include <optional>

#include "mount_options.h"
#include "thumb_core.h"
#include "target/image.h"

namespace board {

class KernelWatch {
  public:
    /// Told of a store to what `mark` marked, and of exceptions; `os` hears of it.
    KernelWatch(const mt::Image* image, const ThumbCore& core, OsSink os);
    /// Out of reset.
    void begin();
    void mark(ThumbCore& core) const;
    void stored(std::uint32_t address, std::uint32_t value);
    void entered(unsigned exception);
    void left(unsigned exception);
    void masked(bool is);
    /// A fault was taken at `pc`; `address` is what it went for.
    void faulted(std::uint32_t pc, std::uint32_t address) { tell_fault(os_, core_.cycle(), pc, address); }

    unsigned running() const { return running_; }
    /// It has something to do, whether it runs or waits for the core.
    bool ready(unsigned task) const { return ready_[task]; }

  private:
    void tell(mt::OsKind kind, std::uint32_t subject = 0, std::int64_t value = 0, mt::BlockReason why = {}) {
        tell_event(os_, core_.cycle(), kind, subject, value, static_cast<std::uint8_t>(why));
    }
    std::uint32_t word(std::uint32_t address) const;
    /// The words of a task's entry in the scheduler's table.
    std::uint32_t wakes(unsigned task) const { return word(tasks_ + 12 * task + 4); }
    std::uint32_t waits_for(unsigned task) const { return word(tasks_ + 12 * task + 8); }
    bool may_run(unsigned task) const;
    void look_who_is_ready();

    const ThumbCore& core_;
    OsSink os_;
    std::uint32_t current_ = 0, lock_ = 0, tasks_ = 0, now_ = 0;  ///< addresses; 0: the program has no such variable
    unsigned running_ = kIdle;
    std::optional<unsigned> switched_to_;  ///< whom the last switch named, if it has not blocked since
    std::array<bool, kTasks> ready_{};
    bool held_ = false;  ///< somebody has the lock
};

}  // namespace board
