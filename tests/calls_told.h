// What becomes of a trace, as text: with hops over stretches walked before, or run by run.
#pragma once

#include <memory>
#include <set>
#include <sstream>
#include <string>

#include "pass/step_reader.h"

namespace mt::test {

/// The same without hops: whoever has none is told run by run.
struct RunByRun {
    StepLog& log;
    void run(const StepRun& r) { log.run(r); }
    void trap(const StepTrap& t) { log.trap(t); }
    void trap_return() { log.trap_return(); }
    void gap(const StepGap& g) { log.gap(g); }
    void time(const StepTime& t) { log.time(t); }
    void sync(std::uint64_t offset) { log.sync(offset); }
};

/// Functions that begin where calls lead, if `is` holds for the slot.
template <class Is>
std::shared_ptr<const FunctionTable> functions_called(const Code& code, Is is) {
    std::set<std::uint32_t> entries;
    for (std::uint32_t s = 1; s < code.slot_count(); ++s)
        if (code[s].flow == Flow::call && code[s].target != Code::kNowhere && is(code[s].target))
            entries.insert(code[s].target);
    std::vector<Function> functions;
    for (const std::uint32_t entry : entries) {
        if (!functions.empty()) functions.back().end = entry;
        Function f;
        f.name = "f" + std::to_string(entry);
        f.entry = entry;
        f.end = code.slot_count();
        functions.push_back(f);
    }
    return FunctionTable::of(functions, code);
}

/// Each call with its place, figures of functions, and how often each instruction ran. `feed(out)` feeds the flow;
/// `hopped` counts hops over calls and returns.
template <class Feed>
std::string calls_told(const std::shared_ptr<const Code>& code, const std::shared_ptr<const FunctionTable>& functions,
                       bool hops, std::size_t& hopped, Feed feed) {
    StepTrail trail;
    trail.code = code;
    trail.functions = functions;
    const StepTimer timer(StepClock::none, Clock{10'000'000}, Clock{});
    CallBook book(trail, timer.core());
    constexpr std::size_t kBatch = 64;
    StepReader reader(
        trail, timer,
        [&](std::unique_ptr<CallBatch> batch) {
            book.take(*batch);
            return batch;
        },
        kBatch);
    StepLog log(code, functions, [&](std::unique_ptr<StepBlock> block) {
        for (const auto& i : block->items())
            hopped += i.kind == StepBlock::Item::Kind::hop && !i.hop->moves.empty() ? 1u : 0u;
        reader.take(*block);
        return block;
    });
    RunByRun runs{log};
    if (hops)
        feed(log);
    else
        feed(runs);
    log.flush();
    reader.finish();
    book.finish();
    std::ostringstream out;
    for (const CallLevel& level : trail.levels)
        for (std::size_t i = 0; i < level.size(); ++i)
            out << level[i].step << ' ' << level[i].length.ps << ' ' << level[i].function << ' ' << level[i].flags
                << '\n';
    for (const FunctionTally& f : trail.tallies)
        out << f.calls << ' ' << f.recursive << ' ' << f.unwound << ' ' << f.steps << ' ' << f.own.ps << '\n';
    for (const CallNode& n : trail.tree) out << n.parent << ' ' << n.function << ' ' << n.steps << '\n';
    for (std::size_t i = 0; i < trail.traps.size(); ++i) out << trail.traps[i].step << '\n';
    const StepCounters counters = reader.with_branches(log.counts());
    for (const std::uint64_t n : counters.executions(*code)) out << n << ' ';
    for (std::uint32_t s = 1; s < code->slot_count(); ++s)
        if (decides((*code)[s].flow, (*code)[s].flags)) out << counters.taken(s) << '/' << counters.left_open(s) << ' ';
    return out.str();
}

}  // namespace mt::test
