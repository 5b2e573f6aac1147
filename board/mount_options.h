// What a night with the mount is like, and who the tasks of its firmware are.
#pragma once

#include <array>
#include <cstdint>
#include <functional>

#include "flow/os_events.h"

namespace board {

struct MountOptions {
    double seconds = 20;
    std::uint64_t seed = 1;
    std::uint64_t clock_hz = 120'000'000;
    std::uint64_t baud = 24'000'000;
    double fault_at = -1;  ///< seconds; negative: shortly before the end
    bool inherit = false;  ///< `bus_lock` lends its holder the priority of who waits for it; in recordings on file alone
    bool healthy = false;  ///< nothing goes wrong: no long masking, no slow frame, no loss, no fault
};

/// Takes an event of the operating system; its time is in core cycles.
using OsSink = std::function<void(const mt::OsEvent& event, const mt::OsBlock& texts, std::uint64_t cycle)>;

// The variable current_task holds these numbers; the priorities rise with urgency.
enum TaskId : unsigned { kIdle, kTrack, kGuide, kClock, kFocus, kTasks };
constexpr std::array<const char*, kTasks> kTaskNames = {"idle", "track", "guide", "clock", "focus"};
constexpr std::array<int, kTasks> kPriorities = {0, 4, 2, 3, 1};
constexpr std::uint32_t kBusLock = 1;      ///< what the recorder calls bus_lock
constexpr unsigned kTickNumber = 255;      ///< what it calls SysTick, which is no interrupt line
constexpr double kBoardDraws = 21, kHandlerDraws = 40, kHeaterDraws = 185;  ///< mA
constexpr std::array<double, kTasks> kTaskDraws = {37, 39, 48, 41, 43};     ///< mA; the filter of `guide` works the core hard

/// The recorder's names of tasks and objects, as events.
void tell_names(const OsSink& sink, std::uint64_t cycle);
/// An event without texts.
void tell_event(const OsSink& sink, std::uint64_t cycle, mt::OsKind kind, std::uint32_t subject = 0, std::int64_t value = 0,
                std::uint8_t code = 0);
void tell_fault(const OsSink& sink, std::uint64_t cycle, std::uint32_t pc, std::uint32_t address);

}  // namespace board
