// The Larkspur mount controller as a model: interrupts, tasks, masking and faults, cycle by cycle enough
// to make the trace that its Cortex-M core would send. Deterministic for given options.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "flow/os_events.h"

namespace board {

class ArmUnits;
struct Bench;
class ThumbWalk;

struct MountOptions {
    double seconds = 20;
    std::uint64_t seed = 1;
    std::uint64_t clock_hz = 120'000'000;
    std::uint64_t baud = 24'000'000;
    double fault_at = -1;  ///< seconds; negative: shortly before the end
    bool inherit = false;  ///< `bus_lock` lends its holder the priority of who waits for it
    bool healthy = false;  ///< nothing goes wrong: no long masking, no slow frame, no loss, no fault
};

/// Gives the code range of a function by name, for the program-counter samples; {0, 0} if there is none.
using FunctionRange = std::function<std::pair<std::uint32_t, std::uint32_t>(const std::string&)>;

/// Takes an event of the operating system; its time is in core cycles.
using OsSink = std::function<void(const mt::OsEvent& event, const mt::OsBlock& texts, std::uint64_t cycle)>;

/// What a debugger may want to stop at; a hook that returns true ends `run_until` there.
struct MountHooks {
    std::function<bool(const char* function)> entered;
    std::function<bool(const char* variable, std::uint32_t value)> written;
    OsSink os;
    Bench* bench = nullptr;  ///< what is clipped to the board; not owned
    /// What its trace units are set to; null: as the recordings on file were made. Not owned.
    ArmUnits* units = nullptr;
    /// Where a variable stands; with units.
    std::function<std::uint32_t(const char* variable)> address_of;
    /// Walks the firmware as the model goes, from `walk_from` to `walk_until` (in cycles); not owned, may be null.
    ThumbWalk* walk = nullptr;
    std::uint64_t walk_from = 0, walk_until = 0;
};

/// The model, run in pieces.
class MountModel {
  public:
    using Hooks = MountHooks;
    MountModel(const MountOptions& options, FunctionRange range, Hooks hooks = {});
    ~MountModel();

    /// Goes on until `cycle`, or until a hook stops it. True if it got there.
    bool run_until(std::uint64_t cycle);
    std::uint64_t now() const;
    /// The function that runs; "idle_task" while the core sleeps.
    const char* function() const;
    /// Another walk from now on, or none: as the trace unit was switched. It must outlive the model or be taken away.
    void set_walk(ThumbWalk* walk);
    /// What went wrong with the walk since it was set; it rests then. Empty if nothing.
    const std::string& walk_trouble() const;
    /// Moves the trace bytes since the last call to the end of `out`.
    void drain(std::vector<std::uint8_t>& out);

  private:
    std::unique_ptr<class Mount> mount_;
};

/// Runs the model to its end and returns the bytes of its serial-wire output.
std::vector<std::uint8_t> record_mount(const MountOptions& options, const FunctionRange& range,
                                       const MountModel::Hooks& hooks = {});

}  // namespace board
