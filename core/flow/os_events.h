// Events of an operating system, whatever recorded them: the vocabulary of docs/formats/os-events.md.
#pragma once

#include <array>
#include <cstdint>
#include <limits>
#include <string>
#include <string_view>
#include <vector>

#include "base/time.h"

namespace mt {

enum class OsKind : std::uint8_t {
    task_create,
    object_name,
    task_switch_in,
    task_ready,
    task_block,
    task_priority,
    isr_enter,
    isr_exit,
    mutex_take,
    mutex_take_blocked,
    mutex_give,
    queue_send,
    queue_receive,
    queue_send_failed,
    sem_give,
    sem_take,
    critical_enter,
    critical_exit,
    marker,
    signal,
    fault,
    other,  ///< outside the vocabulary: a mark with the event's name
    lost    ///< events are missing before this one: the core is unknown from `value` (ps) to `time`
};
inline constexpr std::size_t kOsKinds = 23;
std::string_view os_kind_name(OsKind kind);

/// Why a task stops being ready.
enum class BlockReason : std::uint8_t { activation, delay, mutex, semaphore, queue_empty, queue_full, ended, other };
std::string_view block_reason_name(BlockReason reason);

/// What `object_name` names. Mutexes, semaphores, queues and resources share one space of numbers.
enum class ObjectKind : std::uint8_t { mutex, semaphore, queue, resource, signal, interrupt, marker_port, other };
std::string_view object_kind_name(ObjectKind kind);

/// One event. `subject` is the task, object, interrupt, port or signal that it is about; `code` a BlockReason or
/// ObjectKind; `value` the rest: object waited for, priority, fill, value, or an index into the block's texts.
struct OsEvent {
    Time time;
    std::uint64_t offset = 0;  ///< in the file, bytes
    std::int64_t value = 0;
    std::uint32_t subject = 0;
    std::uint16_t core = 0;  ///< index into the trail's cores
    OsKind kind = OsKind::other;
    std::uint8_t code = 0;
    bool announced = false;  ///< no record of its own: a name that another event brought
};

struct OsFault {
    std::string kind;
    std::uint64_t pc = 0, address = 0;
};

/// A task_create or object_name has both the index of its text and a priority in `value`.
inline constexpr std::int32_t kNoPriority = std::numeric_limits<std::int32_t>::min();
constexpr std::int64_t text_and_priority(std::size_t text, std::int32_t priority) {
    return static_cast<std::int64_t>(static_cast<std::uint64_t>(text) << 32 | static_cast<std::uint32_t>(priority));
}
constexpr std::size_t text_of(std::int64_t value) { return static_cast<std::uint64_t>(value) >> 32; }
constexpr std::int32_t priority_of(std::int64_t value) {
    return static_cast<std::int32_t>(static_cast<std::uint32_t>(static_cast<std::uint64_t>(value)));
}

/// Events of one packet in their order, with what does not fit into an event.
struct OsBlock {
    std::vector<OsEvent> events;
    std::vector<std::string> texts;
    std::vector<OsFault> faults;
    void clear() {
        events.clear();
        texts.clear();
        faults.clear();
    }
};

}  // namespace mt
