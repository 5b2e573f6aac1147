#include "judge/writers.h"

namespace mt {

Writers::Writers(const Recording& recording, const Trail& trail, const ValueLane& lane)
    : recording_(recording), trail_(trail), lane_(lane) {
    by_function_ = lane.samples.size() > 0 && lane.origin(0).instruction_known && lane.core < recording.code.size() &&
                   recording.code[lane.core] != nullptr && recording.functions[lane.core] != nullptr;
}

std::string Writers::function_at(std::uint64_t address) const {
    const std::uint32_t slot = recording_.code[lane_.core]->slot_of(address);
    const FunctionTable& functions = *recording_.functions[lane_.core];
    return slot != Code::kNowhere ? functions[functions.at(slot)].name : std::string();
}

std::string Writers::of(std::size_t i) const {
    if (lane_.core == ValueLane::kNoCore || lane_.core >= trail_.cores.size()) return {};
    const ValueOrigin origin = lane_.origin(i);
    if (origin.access > ValueAccess::read) return {};
    if (by_function_) return origin.instruction_known ? function_at(origin.instruction) : std::string();
    // Near a change of what runs the later bound of its time may be another's.
    const Time to = lane_.samples.time(i), from = to - Time{std::int64_t{origin.slack_ns} * 1000} - Time::from_us(1);
    if (!trail_.trusted(lane_.core, from, to) || trail_.gaps.touch(lane_.core, from, to)) return {};
    const std::string before = had_core(from);
    return before == had_core(to) ? before : std::string();
}

std::string Writers::had_core(Time t) const {
    const CoreTrail& core = trail_.cores[lane_.core];
    const std::uint16_t running = core.change_time.empty() ? std::uint16_t{0} : core.running_at(t);
    if (ContextChange::is_handler(running)) return core.running_name(running);
    if (running != 0 || lane_.core >= trail_.tasks.cores.size()) return {};
    const CoreTasks& tasks = trail_.tasks.cores[lane_.core];
    const std::size_t run = tasks.run_at(t);
    return run < tasks.runs.size() && tasks.runs[run].who < trail_.tasks.tasks.size()
               ? trail_.tasks.tasks[tasks.runs[run].who].name
               : std::string();
}

}  // namespace mt
