#include "flow/os_events.h"

namespace mt {

std::string_view os_kind_name(OsKind kind) {
    constexpr std::array<std::string_view, kOsKinds> names = {"task_create",
                                                              "object_name",
                                                              "task_switch_in",
                                                              "task_ready",
                                                              "task_block",
                                                              "task_priority",
                                                              "isr_enter",
                                                              "isr_exit",
                                                              "mutex_take",
                                                              "mutex_take_blocked",
                                                              "mutex_give",
                                                              "queue_send",
                                                              "queue_receive",
                                                              "queue_send_failed",
                                                              "sem_give",
                                                              "sem_take",
                                                              "critical_enter",
                                                              "critical_exit",
                                                              "marker",
                                                              "signal",
                                                              "fault",
                                                              "other",
                                                              "lost"};
    return names[static_cast<std::size_t>(kind)];
}

std::string_view block_reason_name(BlockReason reason) {
    constexpr std::array<std::string_view, 8> names = {"activation",  "delay",      "mutex", "semaphore",
                                                       "queue_empty", "queue_full", "ended", "other"};
    return names[static_cast<std::size_t>(reason)];
}

std::string_view object_kind_name(ObjectKind kind) {
    constexpr std::array<std::string_view, 8> names = {"mutex",  "semaphore", "queue",       "resource",
                                                       "signal", "interrupt", "marker_port", "other"};
    return names[static_cast<std::size_t>(kind)];
}

}  // namespace mt
