// An Armv6-M or Armv7-M core of which some is known: executes what was recorded with what is known, and says of everything
// else that it is not. Armv7-M ARM (DDI 0403E); exceptions: B1.5.
#pragma once

#include <map>
#include <string>
#include <utility>

#include "replay/arm_core.h"

namespace mt {

/// As ArmCore. Copies are cheap. One thread at a time.
class ThumbMachine : public ArmCore {
  public:
    /// `at_reset`: the first instruction is the first behind a reset: then thread mode and the main stack are in use, and
    /// `stack` is what the vector table says the stack is. `shared`: others write to its memory, too.
    ThumbMachine(std::shared_ptr<const Code> code, PastMemory memory, bool at_reset, std::optional<std::uint32_t> stack,
                 bool shared);

    /// As of RvMachine; msp, psp, control and xpsr too.
    void begin(const std::map<std::string, std::uint64_t>& registers);

    /// As RvMachine::execute.
    void execute(std::uint32_t slot, std::uint64_t step, std::uint32_t next);
    void trap(const StepTrap& trap, std::uint64_t step);
    /// No exception was taken before `step`: what an exception that ended left on the stack is back.
    void settle(std::uint64_t step);
    void lose(std::uint64_t step) override;
    /// Registers that turned out to be known since.
    void resolve() { resolve_registers(); }

  private:
    const Known& sp() const override;
    void set_sp(const Known& value) override;
    void jump(const Known& target, std::uint64_t step, std::uint32_t next) override;
    bool special(std::uint32_t i, std::uint32_t pc, std::uint64_t step) override;
    std::array<Known*, 2> stack_pointers() override { return {&main_, &process_}; }
    bool changed_mode() override { return leaving_.has_value(); }
    /// Nobody knows whether a handler ended.
    void may_have_left(std::uint64_t step);

    /// The program has floating-point instructions: what is missing may have used them.
    bool has_fp_ = false;
    Known main_, process_;                  ///< stack pointers
    Known uses_process_;                    ///< CONTROL.SPSEL, in thread mode
    Known unprivileged_;                    ///< CONTROL.nPRIV
    std::optional<bool> handler_;           ///< handler mode; nothing: not known
    std::optional<std::uint32_t> leaving_;  ///< EXC_RETURN by which a handler just left
    struct Saved {
        std::uint64_t step = 0;
        bool padded = false;
        ConditionFlags flags;
    };
    std::map<std::uint32_t, Saved> saved_;  ///< by the address of a stacked xPSR
};

}  // namespace mt
