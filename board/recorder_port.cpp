#include "recorder_port.h"

#include <set>
#include <string>

#include "mt_recorder.h"

namespace board {
namespace {

std::uint64_t cycle_now = 0;
std::vector<std::uint8_t> handed_over;

std::uint32_t counter() { return static_cast<std::uint32_t>(cycle_now); }
int take(const void* packet, std::size_t bytes) {
    const auto* b = static_cast<const std::uint8_t*>(packet);
    if (handed_over.size() > (1u << 20)) return 0;  // nobody takes them
    handed_over.insert(handed_over.end(), b, b + bytes);
    return 1;
}

void call_hook(const mt::OsEvent& e, const mt::OsBlock& texts) {
    using mt::OsKind;
    const auto value = static_cast<std::uint32_t>(e.value);
    static std::set<std::string> names;  // they must stay where they are
    const auto text = [&] { return names.insert(texts.texts[mt::text_of(e.value)]).first->c_str(); };
    switch (e.kind) {
        case OsKind::task_create:
            MT_TASK_CREATE(e.subject, static_cast<std::uint32_t>(mt::priority_of(e.value)), text());
            break;
        case OsKind::object_name:
            MT_NAME(e.code, e.subject, text());
            break;
        case OsKind::task_switch_in:
            MT_TASK_SWITCH_IN(e.subject);
            break;
        case OsKind::task_ready:
            MT_TASK_READY(e.subject);
            break;
        case OsKind::task_block:
            MT_TASK_BLOCK(e.subject, e.code, value);
            break;
        case OsKind::task_priority:
            MT_TASK_PRIORITY(e.subject, value);
            break;
        case OsKind::isr_enter:
            MT_ISR_ENTER(e.subject);
            break;
        case OsKind::isr_exit:
            MT_ISR_EXIT(e.subject);
            break;
        case OsKind::mutex_take:
            MT_MUTEX_TAKE(e.subject);
            break;
        case OsKind::mutex_take_blocked:
            MT_MUTEX_TAKE_BLOCKED(e.subject);
            break;
        case OsKind::mutex_give:
            MT_MUTEX_GIVE(e.subject);
            break;
        case OsKind::queue_send:
            MT_QUEUE_SEND(e.subject, value);
            break;
        case OsKind::queue_receive:
            MT_QUEUE_RECEIVE(e.subject, value);
            break;
        case OsKind::queue_send_failed:
            MT_QUEUE_SEND_FAILED(e.subject, value);
            break;
        case OsKind::sem_give:
            MT_SEM_GIVE(e.subject);
            break;
        case OsKind::sem_take:
            MT_SEM_TAKE(e.subject);
            break;
        case OsKind::critical_enter:
            MT_CRITICAL_ENTER();
            break;
        case OsKind::critical_exit:
            MT_CRITICAL_EXIT();
            break;
        case OsKind::marker:
            MT_MARK(e.subject, value);
            break;
        case OsKind::signal:
            MT_VALUE(e.subject, value);
            break;
        case OsKind::fault:
            MT_FAULT(MT_ACCESS_VIOLATION, static_cast<std::uint32_t>(texts.faults[value].pc),
                     static_cast<std::uint32_t>(texts.faults[value].address));
            break;
        case OsKind::other:
        case OsKind::lost:
            break;
    }
}

}  // namespace

void RecorderPort::reset() {
    cycle_now = 0;
    handed_over.clear();
    mt_init(counter, take);
}

OsSink RecorderPort::sink() {
    return [](const mt::OsEvent& event, const mt::OsBlock& texts, std::uint64_t cycle) {
        cycle_now = cycle;
        call_hook(event, texts);
    };
}

void RecorderPort::drain(std::vector<std::uint8_t>& out) {
    out.insert(out.end(), handed_over.begin(), handed_over.end());
    handed_over.clear();
}

}  // namespace board
