#include "replay/past_frame.h"

#include <map>

#include "replay/step_window.h"

namespace mt {
namespace {

std::map<std::string, Known> by_name(const PastState& state) { return {state.registers.begin(), state.registers.end()}; }

// The step at which a function was entered that called `frame` of those that run at `step`, and stands at `pc`; nothing if
// that was not seen.
std::optional<std::uint64_t> entry_of(const Recording& recording, const StepTrail& steps, std::uint64_t step, unsigned frame, std::uint64_t pc) {
    const StepWindow w = step_window(recording, steps, step, 1);
    for (const StepPiece& p : w.pieces) {
        if (step < p.step || step >= p.step + p.run.count || p.depth <= frame || p.depth > steps.levels.size()) continue;
        const CallLevel& level = steps.levels[p.depth - 1 - frame];
        const auto i = level.begun_by(step);
        if (!i) return std::nullopt;
        const CallSpan span = level[steps.first_piece(p.depth - 1 - frame, *i)];
        if ((span.flags & (CallFrame::kCutBegin | CallFrame::kContinued)) != 0) return std::nullopt;
        // Where functions jumped to others, levels and frames are not the same.
        const std::uint32_t slot = steps.code->slot_of(pc & ~std::uint64_t{1});
        if (slot == Code::kNowhere || steps.functions->at(slot) != span.function) return std::nullopt;
        return span.step;
    }
    return std::nullopt;
}

}  // namespace

FrameState frame_of(const PastState& state, Isa kind) {
    FrameState f = frame_convention(kind);
    f.reg = [kind, pc = state.pc, registers = by_name(state)](unsigned number) -> FrameWord {
        const std::string name = frame_register_name(kind, number);
        if (name == "pc") return FrameWord::of(pc);
        if (name == "x0" && is_riscv(kind)) return FrameWord::of(0);
        const auto found = registers.find(name);
        return found == registers.end() ? FrameWord{} : FrameWord(found->second);
    };
    f.byte = [memory = state.memory](std::uint64_t address) { return FrameWord(memory->read(address, 1)); };
    return f;
}

FrameState frame_of(const PastState& state, Isa kind, PastStates& states, const Recording& recording, const StepTrail& steps,
                    Progress& progress) {
    FrameState f = frame_of(state, kind);
    auto entered = std::make_shared<std::map<unsigned, FrameState>>();
    f.at_entry = [entered, kind, &states, &recording, &steps, &progress, step = state.step](unsigned frame, std::uint64_t pc,
                                                                                            unsigned number) -> FrameWord {
        const auto [then, fresh] = entered->try_emplace(frame, frame_convention(kind));
        if (fresh)
            if (const auto entry = entry_of(recording, steps, step, frame, pc))
                if (const auto past = states.before(*entry, progress)) then->second = frame_of(*past, kind);
        return then->second.reg(number);
    };
    return f;
}

}  // namespace mt
