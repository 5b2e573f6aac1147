#include "kernel_watch.h"

#include <cstring>

namespace board {

KernelWatch::KernelWatch(const mt::Image* image, const ThumbCore& core, OsSink os) : core_(core), os_(std::move(os)) {
    const auto address = [&](const char* name) -> std::uint32_t {
        const mt::Symbol* symbol = image == nullptr ? nullptr : image->symbol_named(name);
        return symbol == nullptr ? 0 : static_cast<std::uint32_t>(symbol->address);
    };
    current_ = address("current_task");
    lock_ = address("bus_lock");
    tasks_ = address("tasks");
    now_ = address("now_ms");
}

std::uint32_t KernelWatch::word(std::uint32_t address) const {
    std::array<std::uint8_t, 4> bytes{};
    std::uint32_t value = 0;
    if (core_.read(address, bytes)) std::memcpy(&value, bytes.data(), 4);
    return value;
}

void KernelWatch::begin() {
    running_ = kIdle;
    switched_to_ = kIdle;
    ready_.fill(true);
    held_ = false;
    tell_names(os_, core_.cycle());
    tell(mt::OsKind::task_switch_in, kIdle);
}

void KernelWatch::mark(ThumbCore& core) const {
    core.mark(current_, 4);
    core.mark(lock_, 4);
}

void KernelWatch::stored(std::uint32_t address, std::uint32_t value) {
    if (address == current_ && current_ != 0 && value < kTasks) {
        running_ = value;
        if (switched_to_ == value) return;
        tell(mt::OsKind::task_switch_in, value);
        switched_to_ = value;
    } else if (address == lock_ && lock_ != 0 && held_ != (value != 0)) {
        held_ = value != 0;
        tell(value != 0 ? mt::OsKind::mutex_take : mt::OsKind::mutex_give, kBusLock);
        if (value == 0) look_who_is_ready();
    }
}

// As the scheduler's `ready` looks at it.
bool KernelWatch::may_run(unsigned task) const {
    const std::uint32_t waits = waits_for(task);
    return static_cast<std::int32_t>(word(now_) - wakes(task)) >= 0 && (waits == 0 || word(waits) == 0);
}

void KernelWatch::look_who_is_ready() {
    if (tasks_ == 0) return;
    for (unsigned id = 1; id < kTasks; ++id) {
        if (ready_[id] || !may_run(id)) continue;
        ready_[id] = true;
        tell(mt::OsKind::task_ready, id);
    }
}

// With a call to the supervisor a task gives the core away, if it waits for something.
void KernelWatch::entered(unsigned exception) {
    if (exception >= 16 || exception == SystemControl::kSysTick)
        tell(mt::OsKind::isr_enter, exception >= 16 ? exception - 16 : kTickNumber);
    if (exception != SystemControl::kSvCall || running_ == kIdle || tasks_ == 0 || may_run(running_)) return;
    const std::uint32_t waits = waits_for(running_);
    const bool for_lock = waits == lock_ && lock_ != 0;
    if (for_lock) tell(mt::OsKind::mutex_take_blocked, kBusLock);
    tell(mt::OsKind::task_block, running_, for_lock ? kBusLock : 0, for_lock ? mt::BlockReason::mutex : mt::BlockReason::activation);
    ready_[running_] = false;
    switched_to_.reset();
}

void KernelWatch::left(unsigned exception) {
    if (exception >= 16 || exception == SystemControl::kSysTick)
        tell(mt::OsKind::isr_exit, exception >= 16 ? exception - 16 : kTickNumber);
    if (exception == SystemControl::kSysTick) look_who_is_ready();
}

void KernelWatch::masked(bool is) { tell(is ? mt::OsKind::critical_enter : mt::OsKind::critical_exit); }

}  // namespace board
