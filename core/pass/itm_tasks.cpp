#include "pass/itm_tasks.h"

#include <algorithm>
#include <cmath>
#include <utility>

#include "base/text.h"

namespace mt {
namespace {

bool tells_running_task(const Recording& r, std::size_t core) {
    if (!r.events) return true;  // an event trace tells it better
    for (const auto& [cpu, c] : r.events->core_of_cpu)
        if (c == core) return false;
    return r.events->core_of_cpu.empty() ? r.events->other_core != core : true;
}

}  // namespace

bool ItmTasks::wanted(const Recording& recording, std::size_t core) {
    for (const auto& w : recording.target.watches)
        if (w.role == "value" || tells_running_task(recording, core)) return true;
    for (const auto& p : recording.target.ports)
        if (p.kind != "text" && p.kind != "ctf") return true;
    return false;
}

ItmTasks::ItmTasks(const Recording& recording, GrowingTasks& tasks, std::size_t core)
    : recording_(recording), tasks_(tasks), core_(core) {
    const bool running = tells_running_task(recording, core);
    for (const auto& w : recording.target.watches) {
        if (w.comparator >= watches_.size()) continue;
        Meaning& m = watches_[w.comparator];
        const bool task = w.role == "current-task";
        if (task && !running) continue;
        m.kind = task ? Meaning::Kind::running_task : Meaning::Kind::value;
        runs_ = runs_ || task;
        m.id = kItmNumbers + static_cast<std::uint32_t>(core << 16) + 0x100 + w.comparator;
        m.name = !w.symbol.empty() ? w.symbol
                 : w.address       ? hex_text(*w.address)
                                   : "comparator " + std::to_string(w.comparator);
        m.type = ValueType::named(w.type).value_or(ValueType{}).with(w.mask, w.shift);
        m.names = &w.names;
    }
    for (const auto& p : recording.target.ports) {
        if (p.number >= ports_.size() || p.kind == "text" || p.kind == "ctf") continue;
        Meaning& m = ports_[p.number];
        const bool task = p.role == "current-task";
        if (task && !running) continue;
        m.kind = task ? Meaning::Kind::running_task : p.kind == "mark" ? Meaning::Kind::mark : Meaning::Kind::value;
        runs_ = runs_ || task;
        m.id = kItmNumbers + static_cast<std::uint32_t>(core << 16) + p.number;
        m.name = p.name.empty() ? "port " + std::to_string(p.number) : p.name;
        m.type = ValueType::named(p.type).value_or(ValueType{});
        m.names = &p.names;
    }
    if (runs_) tasks_.only_switches(core);
}

// From the target file, an ORTI file, or the symbol that a pointer points to.
std::string ItmTasks::task_name(const Meaning& meaning, std::uint64_t value) const {
    if (const auto found = meaning.names->find(value); found != meaning.names->end()) return found->second;
    if (const std::string name = recording_.target.task_name(recording_.target.cores[core_].name, value); !name.empty())
        return name;
    if (core_ < recording_.task_names.size()) {
        const auto& names = recording_.task_names[core_];
        if (const auto found = names.find(value); found != names.end()) return found->second;
    }
    if (const Image* image = recording_.images[core_].get(); image != nullptr && value >= 0x1000)
        for (const Symbol& s : image->symbols())
            if (value == s.address && !s.name.empty()) return s.name;
    return value >= 0x1000 ? "task at " + hex_text(value) : "task " + std::to_string(value);
}

void ItmTasks::switched(const Meaning& meaning, std::uint64_t value, Time earliest, Time t) {
    if (earliest < last_switch_) tasks_.doubt_running_job(core_);
    last_switch_ = t;
    const auto [found, fresh] = task_of_.try_emplace(value, static_cast<std::uint32_t>(value));
    OsEvent e;
    e.time = t;
    e.core = static_cast<std::uint16_t>(core_);
    if (fresh) {
        found->second =
            kItmNumbers + static_cast<std::uint32_t>(core_ << 24) + static_cast<std::uint32_t>(task_of_.size());
        if (value < 0x1000) found->second = static_cast<std::uint32_t>(value) + static_cast<std::uint32_t>(core_ << 16);
        block_.clear();
        block_.texts.push_back(task_name(meaning, value));
        const std::string& name = block_.texts[0];
        OsEvent create = e;
        create.kind = OsKind::task_create;
        create.subject = found->second;
        const bool idle = name == "NO_TASK" || name == "idle" || name == "IDLE";
        create.value = text_and_priority(0, idle ? 0 : kNoPriority);
        tasks_.take(create, block_);
    }
    e.kind = OsKind::task_switch_in;
    e.subject = found->second;
    tasks_.take(e, block_);
}

void ItmTasks::told(const Meaning& meaning, std::uint64_t raw, ValueOrigin origin, Time earliest, Time t) {
    switch (meaning.kind) {
        case Meaning::Kind::none:
            break;
        case Meaning::Kind::running_task:
            if (origin.access == ValueAccess::written) switched(meaning, meaning.type.field(raw), earliest, t);
            [[fallthrough]];  // it is a variable like any other, too
        case Meaning::Kind::value:
            if (earliest < t)
                origin.slack_ns =
                    static_cast<std::uint32_t>(std::min<std::int64_t>(((t - earliest).ps + 999) / 1000, 0xFFFF'FFFF));
            tasks_.value(core_, meaning.id, meaning.name, t, meaning.type.read(raw), origin, meaning.names);
            break;
        case Meaning::Kind::mark:
            if (const Value v = meaning.type.read(raw); origin.access == ValueAccess::written)
                tasks_.mark(
                    core_, meaning.id, meaning.name, t,
                    v.is_real() ? std::llround(std::clamp(v.number(), -9e18, 9e18)) : static_cast<std::int64_t>(v.bits),
                    meaning.names);
            break;
    }
}

void ItmTasks::write_port(unsigned port, std::uint64_t value, Time earliest, Time latest) {
    told(ports_[port & 0xFF], value, {}, earliest, latest);
}

// DWT tells the address of the instruction, if it is asked to, before the value of the same access (Armv7-M ARM
// C1.8.1).
void ItmTasks::instruction(unsigned comparator, std::uint64_t address) { instruction_[comparator & 0xF] = address; }

void ItmTasks::watched(unsigned comparator, std::uint64_t value, ValueAccess access, Time earliest, Time latest) {
    ValueOrigin origin;
    origin.access = access;
    if (const auto address = std::exchange(instruction_[comparator & 0xF], std::nullopt)) {
        origin.instruction = *address;
        origin.instruction_known = true;
    }
    told(watches_[comparator & 0xF], value, origin, earliest, latest);
}

void ItmTasks::lose(Time earliest, Time latest) {
    instruction_.fill(std::nullopt);
    if (!runs_) return;
    OsEvent lost;
    lost.kind = OsKind::lost;
    lost.time = latest;
    lost.value = earliest.ps;
    lost.core = static_cast<std::uint16_t>(core_);
    tasks_.take(lost, block_);
    open_ = 0;
}

}  // namespace mt
