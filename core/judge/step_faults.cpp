#include "judge/step_faults.h"

#include <algorithm>

#include "base/text.h"
#include "judge/fault_values.h"
#include "replay/backtrace.h"
#include "replay/step_window.h"
#include "target/disassembly.h"

namespace mt {
namespace {

constexpr std::uint64_t kStepsShown = 12;
constexpr std::size_t kLevelsShown = 6;

std::string short_file(const std::string& path) {
    const auto slash = path.rfind('/');
    return slash == std::string::npos ? path : path.substr(slash + 1);
}

}  // namespace

bool explain_fault(const Recording& recording, const Trail& trail, std::size_t core, ExceptionId exception, Time at,
                   Finding& f) {
    for (const StepTrail& steps : trail.steps) {
        if (steps.core_index != core) continue;
        const Code& code = *steps.code;
        const StepTrapAt* found = nullptr;
        const std::size_t from = steps.traps.partition_point([at](const StepTrapAt& t) { return t.time < at; });
        for (std::size_t i = from; i < steps.traps.size() && steps.traps[i].time == at && found == nullptr; ++i) {
            const StepTrap& t = steps.traps[i].trap;
            if (exception_of(t, code) == exception) found = &steps.traps[i];
        }
        if (found == nullptr) continue;
        const Disassembler disassembler(code);
        const auto told = [&](std::uint32_t slot) {
            const std::uint64_t address = code.address(slot);
            std::string text = disassembler.text(slot) + " at " + hex_text(address, 8) + " in ";
            const auto inlined = steps.inlines->names_at(slot);
            for (auto name = inlined.rbegin(); name != inlined.rend(); ++name) text += *name + ", inlined in ";
            text += (*steps.functions)[steps.functions->at(slot)].name;
            if (const auto line = recording.line_of(core, slot))
                text += " (" + short_file(line->file) + ":" + std::to_string(line->line) + ")";
            return text;
        };
        const std::uint64_t first = found->step > kStepsShown ? found->step - kStepsShown : 0;
        const StepWindow w = step_window(recording, steps, first, found->step - first);
        for (const StepPiece& p : w.pieces) {
            std::uint32_t slot = p.run.first;
            for (std::uint32_t i = 0; i < p.run.count; ++i, slot = code.next(slot))
                if (p.step + i >= w.first && p.step + i < w.end) f.evidence.push_back({p.time_of(i), told(slot)});
        }
        // The return address of a fault is the instruction that raised it, unless a write was still on its way
        // (Armv7-M B1.5.6: imprecise faults); the trace does not tell the two apart.
        const std::uint32_t slot = found->trap.slot(code);
        if (slot != Code::kNowhere) {
            f.fact("raised_by", told(slot));
            if (exception == ExceptionId{ExceptionId::Space::arm, 5}) f.fact("imprecise", true);
            f.evidence.push_back({found->time, "raised here: " + told(slot)});
            explain_pointer(recording, steps, slot, found->step, told, f);
            std::stable_sort(f.evidence.begin(), f.evidence.end(),
                             [](const Finding::Evidence& a, const Finding::Evidence& b) { return a.time < b.time; });
        }
        if (found->trap.tval_known && found->trap.tval != 0) f.fact("reported_value", Address{found->trap.tval});
        // Below the handler: what was on the stack when it came.
        std::vector<TraceFrame> frames = backtrace(recording, steps, found->step);
        const auto handler =
            std::find_if(frames.begin(), frames.end(), [](const TraceFrame& frame) { return frame.handler; });
        if (handler == frames.end() && found->step > 0)
            frames = backtrace(recording, steps, found->step - 1);  // nothing of the handler was traced
        else if (handler != frames.end())
            frames.erase(frames.begin(), handler + 1);
        if (slot != Code::kNowhere) {
            // It stood on the instruction that raised it, not on the last one that was executed.
            while (!frames.empty() && frames.front().inlined) frames.erase(frames.begin());
            for (const std::string& name : steps.inlines->names_at(slot)) {
                TraceFrame inner;
                inner.name = name;
                inner.inlined = true;
                frames.insert(frames.begin(), std::move(inner));
            }
        }
        if (std::string stack = backtrace_text(frames, kLevelsShown); !stack.empty()) f.fact("stack", std::move(stack));
        return true;
    }
    return false;
}

}  // namespace mt
