// A 32-bit core of A or R profile of which some is known: A32 and T32, with the registers that modes have of their own.
// Armv7-A and R ARM (DDI 0406C), A5, A8; modes and exceptions: B1.3, B1.8.
#pragma once

#include <utility>

#include "replay/arm_core.h"

namespace mt {

/// As ArmCore. An address is taken for what it is mapped to throughout, but for what processes have of their own. Copies are
/// cheap. One thread at a time.
class ArmMachine : public ArmCore {
  public:
    /// `at_reset`: the first instruction is the first behind a reset: then the mode is Supervisor (B1.8.1). `shared`: others
    /// write to its memory, too.
    ArmMachine(std::shared_ptr<const Code> code, PastMemory memory, bool at_reset, bool shared);

    /// As RvMachine::execute.
    void execute(std::uint32_t slot, std::uint64_t step, std::uint32_t next);
    void trap(const StepTrap& trap, std::uint64_t step);
    void settle(std::uint64_t /*step*/) {}
    void lose(std::uint64_t step) override;
    /// Trace tells the exception level, where the core has those of Armv8.
    void level(unsigned level) { level_ = level; }
    /// Another process has the core: what processes have of their own is other memory from now on.
    void change_process(std::uint64_t step) { memory_.forget(step); }
    /// Registers that turned out to be known since.
    void resolve();

  private:
    /// As B1.3.1 has them; `user` and `system` have the same registers. Hyp mode counts as one that is not known.
    enum class Mode : std::uint8_t { user, system, fiq, irq, supervisor, abort, undefined, monitor };
    using MaybeMode = std::optional<Mode>;
    static unsigned bank_of(Mode mode) { return mode == Mode::user ? 0 : static_cast<unsigned>(mode) - 1; }
    static MaybeMode mode_of(std::uint64_t status);

    const Known& sp() const override { return r_[13]; }
    void set_sp(const Known& value) override;
    void jump(const Known& target, std::uint64_t step, std::uint32_t next) override;
    bool special(std::uint32_t i, std::uint32_t pc, std::uint64_t step) override;
    bool frames(std::uint32_t i, std::uint64_t step) override;
    bool change_state(std::uint32_t i, std::uint64_t step) override;
    bool a32(std::uint32_t i, std::uint32_t pc, std::uint32_t slot, std::uint64_t step, std::uint32_t next) override;
    bool changed_mode() override { return std::exchange(mode_changed_, false); }

    void enter(MaybeMode mode, std::uint64_t step);
    /// CPSR: not known as a whole, but its copies tell what counts here.
    Known status(std::uint64_t step) const;
    std::pair<MaybeMode, ConditionFlags> told_by(const Known& status) const;
    void set_status(const Known& value, unsigned fields, std::uint64_t step);
    void come_back(const Known& status, std::uint64_t step);
    Known saved_status() const { return mode_ ? banks_[bank_of(*mode_)].spsr : Known{}; }
    Known* banked(MaybeMode mode, unsigned n);
    Known* banked_by_number(unsigned number, bool of_spsr);
    void move_banked(bool to_bank, unsigned number, bool of_spsr, unsigned r, std::uint64_t step);
    bool store_return(unsigned mode, bool before, bool up, bool writes_back, std::uint64_t step);
    bool return_from(unsigned rn, bool before, bool up, bool writes_back, std::uint64_t step);

    bool unconditional(std::uint32_t i, std::uint32_t pc, std::uint64_t step);
    bool data_processing(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next);
    bool immediates(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next);
    bool various(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next);
    bool multiplies(std::uint32_t i, std::uint64_t step);
    bool exclusives(std::uint32_t i, std::uint64_t step);
    bool halfwords(std::uint32_t i, std::uint32_t pc, std::uint64_t step);
    bool words(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next);
    bool media(std::uint32_t i, std::uint64_t step);
    bool block(std::uint32_t i, std::uint64_t step, std::uint32_t next);
    Shifted operand(std::uint32_t i, std::uint32_t pc);

    MaybeMode mode_;
    bool mode_changed_ = false;
    std::optional<unsigned> level_;
    /// Of each bank: the stack pointer, the link register, the status of the interrupted program. The first two of the mode in
    /// use stand in the registers.
    struct Bank {
        Known sp, lr, spsr;
    };
    std::array<Bank, 7> banks_;
    std::array<Known, 5> others_;  ///< r8 to r12: of FIQ where that is not the mode, else of all others
};

}  // namespace mt
