#include "measure/own_time.h"

#include <algorithm>
#include <map>

#include "measure/lane_kind.h"

namespace mt {

std::string owner_name(const Trail& trail, const Owner& o) {
    switch (o.sort) {
        case Owner::task:
            return trail.tasks.task_name(static_cast<std::uint32_t>(o.index));
        case Owner::interrupt:
            return trail.cores[o.core].lanes[o.index].name();
        case Owner::thread:
            return trail.cores[o.core].running_name(0) + " on " + trail.cores[o.core].name;
        case Owner::function:
            break;
    }
    const auto& table = trail.steps[o.index >> 32].functions;
    const auto function = static_cast<std::uint32_t>(o.index);
    return table != nullptr && function < table->size() ? (*table)[function].name : std::string("unknown code");
}

LaneId activity_of(const Owner& o) {
    constexpr const char* kinds[] = {"tasks", "interrupts", "threads", "functions"};
    const std::uint64_t number = o.sort == Owner::interrupt ? std::uint64_t{o.core} << 32 | o.index : o.index;
    return {LaneKinds::find(kinds[o.sort]), number};
}

void each_own_stretch(const Trail& trail, std::size_t core_index,
                      const std::function<bool(const Owner&, Time, Time)>& each) {
    const CoreTrail& core = trail.cores[core_index];
    const CoreTasks* tasks = core_index < trail.tasks.cores.size() ? &trail.tasks.cores[core_index] : nullptr;
    const std::size_t runs = tasks == nullptr ? 0 : tasks->runs.size();
    std::map<std::uint16_t, std::size_t> lane_of;
    for (std::size_t l = 0; l < core.lanes.size(); ++l) lane_of[core.lanes[l].code()] = l;
    std::size_t run = 0;
    const auto in_thread = [&](Time from, Time to) {
        if (runs == 0) return !core.thread_seen || each({Owner::thread, core_index, core_index}, from, to);
        while (run + 1 < runs && !(from < tasks->runs[run + 1].begin)) ++run;
        while (tasks->runs[run].begin < to) {
            const bool more = run + 1 < runs && tasks->runs[run + 1].begin < to;
            const Time begin = std::max(from, tasks->runs[run].begin), end = more ? tasks->runs[run + 1].begin : to;
            const std::uint32_t who = tasks->runs[run].who;
            if (who < trail.tasks.tasks.size() && begin < end && !each({Owner::task, core_index, who}, begin, end))
                return false;
            if (!more) break;
            ++run;
        }
        return true;
    };
    const std::size_t changes = core.change_time.size();
    const Time end = core.end > Time{} ? core.end : trail.end;
    if (changes == 0) {
        (void)in_thread(Time{}, end);
        return;
    }
    if (runs > 0 && Time{} < core.change_time[0] && !in_thread(Time{}, core.change_time[0])) return;
    for (std::size_t k = 0; k < changes; ++k) {
        const Time from = core.change_time[k], to = k + 1 < changes ? core.change_time[k + 1] : end;
        if (!(from < to)) continue;
        const std::uint16_t running = core.change_running[k];
        const auto lane = lane_of.find(running);
        const bool handler = ContextChange::is_handler(running) && lane != lane_of.end();
        if (running == 0 ? !in_thread(from, to)
                         : handler && !each({Owner::interrupt, core_index, lane->second}, from, to))
            return;
    }
}

}  // namespace mt
