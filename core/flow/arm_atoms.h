// What one atom of ETMv4 or PFT says: the program ran to the next instruction that counts as a branch, and went on from it
// or to where it leads (IHI 0064, 5.3; IHI 0035B, 2.3).
#pragma once

#include <cstdint>
#include <vector>

#include "flow/steps.h"

namespace mt {

enum class ArmAtom : std::uint8_t {
    done,      ///< `pc` is where it goes on
    indirect,  ///< it leads where a register or memory says; `pc` stays
    lost       ///< `lose` was called
};

/// Tells `out` the run. `returns`: the return stack, of which at most `most` are kept; null: there is none.
/// `lose(kind, reason)` where packets and program do not fit.
template <class Out, class Lose>
ArmAtom walk_arm_atom(const Code& code, std::uint32_t& pc, bool taken, std::vector<std::uint32_t>* returns, std::size_t most, Out& out,
                      Lose lose) {
    const Code::Slot& from = code[pc];
    const std::uint32_t last = from.last;
    const Code::Slot& s = code[last];
    if (s.flow == Flow::none || s.flow == Flow::next) {
        if (s.flow == Flow::next) out.run({pc, last, from.count});
        lose(StepGapKind::not_in_image, "the program went where the image has no code");
        return ArmAtom::lost;
    }
    out.run({pc, last, from.count});
    if (!taken) {
        if ((s.flags & FlowInsn::kConditional) == 0) {
            pc = last;
            lose(StepGapKind::contradiction, "a branch that is always taken is told as not taken");
            return ArmAtom::lost;
        }
        pc = last + s.size;
        return ArmAtom::done;
    }
    if ((s.flags & FlowInsn::kPush) != 0 && returns != nullptr) {
        if (returns->size() == most) returns->erase(returns->begin());
        returns->push_back(last + s.size);
    }
    if (s.target != Code::kNowhere) {
        pc = s.target;
        return ArmAtom::done;
    }
    if (s.flow == Flow::barrier) {
        pc = last + s.size;
        return ArmAtom::done;
    }
    if (s.flow == Flow::branch || s.flow == Flow::jump || s.flow == Flow::call) {
        pc = last;
        lose(StepGapKind::not_in_image, "the program went where the image has no code");
        return ArmAtom::lost;
    }
    return ArmAtom::indirect;
}

}  // namespace mt
