#include "mount_options.h"

namespace board {

void tell_event(const OsSink& sink, std::uint64_t cycle, mt::OsKind kind, std::uint32_t subject, std::int64_t value,
                std::uint8_t code) {
    if (!sink) return;
    static const mt::OsBlock none;
    mt::OsEvent e;
    e.kind = kind;
    e.subject = subject;
    e.value = value;
    e.code = code;
    sink(e, none, cycle);
}

void tell_names(const OsSink& sink, std::uint64_t cycle) {
    if (!sink) return;
    const auto name = [&](mt::OsKind kind, std::uint32_t subject, const char* text, int priority, mt::ObjectKind object) {
        mt::OsBlock texts;
        texts.texts.emplace_back(text);
        mt::OsEvent e;
        e.kind = kind;
        e.subject = subject;
        e.value = mt::text_and_priority(0, priority);
        e.code = static_cast<std::uint8_t>(object);
        sink(e, texts, cycle);
    };
    for (unsigned id = 0; id < kTasks; ++id) name(mt::OsKind::task_create, id, kTaskNames[id], kPriorities[id], {});
    name(mt::OsKind::object_name, kBusLock, "bus_lock", 0, mt::ObjectKind::mutex);
    for (const auto& [line, text] : {std::pair{0u, "ENC_INDEX"}, {1u, "STEP_TIMER"}, {3u, "GUIDE_UART"}, {kTickNumber, "SysTick"}})
        name(mt::OsKind::object_name, line, text, 0, mt::ObjectKind::interrupt);
}

void tell_fault(const OsSink& sink, std::uint64_t cycle, std::uint32_t pc, std::uint32_t address) {
    if (!sink) return;
    mt::OsBlock fault;
    fault.faults.push_back({"access_violation", pc, address});
    mt::OsEvent e;
    e.kind = mt::OsKind::fault;
    sink(e, fault, cycle);
}

}  // namespace board
