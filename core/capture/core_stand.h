// A core while it is recorded: where it stood, and how it stands now, as a debugger reads it before it changes anything.
#pragma once

#include <chrono>
#include <memory>

#include "capture/core_states.h"
#include "control/debug_server.h"
#include "target/core_state.h"

namespace mt {

/// One core. One thread at a time; what it hands out never changes.
class CoreStand {
  public:
    /// From now on. `reader`: what is read of it where it stands. REQUIRES: the core runs, or is not let go on before.
    void begin(DebugServer& server, StateReader reader);
    /// To be called again and again: a core that stands for a moment is read once. `others_changed`: another debugger may have
    /// changed this core's memory. `calm`: there is time for that.
    void look(DebugServer& server, const CoreSpec& core, bool calm, bool others_changed);
    /// Something of it is about to be changed: it is read before.
    void before_change(DebugServer& server, const CoreSpec& core);

    /// Where it stood; null before begin.
    std::shared_ptr<const StoodPlaces> stood() const { return stood_; }
    /// How it stands; null while it runs, and if nobody read it before it was changed.
    std::shared_ptr<const CoreState> stands() const { return stands_; }

  private:
    using Steady = std::chrono::steady_clock;
    void read(DebugServer& server, const CoreSpec& core);

    StateReader reader_;
    std::shared_ptr<const StoodPlaces> stood_;
    std::shared_ptr<const CoreState> stands_;
    std::uint64_t times_ = ~std::uint64_t{0};  ///< how often it had been let go on when it was looked at last
    bool tried_ = false;                       ///< to read it since it stands
    Steady::time_point since_{}, copied_{};
};

}  // namespace mt
