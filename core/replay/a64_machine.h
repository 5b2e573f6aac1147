// A core of A profile in AArch64 state of which some is known: executes what was recorded with what is known, and says of
// everything else that it is not. Armv8-A ARM (DDI 0487), C4 to C6; exception levels: D1.
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

#include "flow/steps.h"
#include "replay/condition_flags.h"
#include "replay/past_memory.h"
#include "target/code.h"

namespace mt {

/// Integer registers, flags and the stack pointers of all levels; vectors are followed as far as they touch these and
/// memory. An address is taken for what it is mapped to throughout, but for what processes have of their own. Copies are
/// cheap. One thread at a time.
class A64Machine {
  public:
    /// `at_reset`: the first instruction is the first behind a reset: then the level's own stack pointer is in use (D1.9).
    /// `shared`: others write to its memory, too: only its stack can be known.
    A64Machine(std::shared_ptr<const Code> code, PastMemory memory, bool at_reset, bool shared);

    /// As of RvMachine.
    void execute(std::uint32_t slot, std::uint64_t step, std::uint32_t next);
    void trap(const StepTrap& trap, std::uint64_t step);
    void settle(std::uint64_t step) { arrive(step, std::nullopt); }
    void lose(std::uint64_t step);
    /// Trace tells the exception level: behind an exception, a return, or at first.
    void level(unsigned level);
    /// Another process has the core: what processes have of their own is other memory from now on.
    void change_process(std::uint64_t step) { memory_.forget(step); }

    /// x0 to x30; 31: the stack pointer in use.
    const Known& x(unsigned n) const { return n == 31 ? sp_[stack_in_use()] : x_[n]; }
    /// Registers that turned out to be known since.
    void resolve();
    const ConditionFlags& flags() const { return flags_; }
    const PastMemory& memory() const { return memory_; }
    PastMemory& memory() { return memory_; }
    /// So many instructions were of no kind that is known here; after each nothing was known any more.
    std::uint64_t strange() const { return strange_; }

  private:
    /// What of PSTATE comes back with a return.
    struct Before {
        std::optional<unsigned> level;
        std::optional<bool> own_stack;
        ConditionFlags flags;
    };
    static Known saved_status(const Before& before, std::uint64_t step);
    static Before status_of(const Known& saved);

    unsigned stack_in_use() const;
    void arrive(std::uint64_t step, std::optional<std::uint64_t> address);
    void tell_own_stack(bool own);
    Known reg(unsigned n) const { return n == 31 ? Known{0, true} : x_[n]; }
    Known reg_or_stack(unsigned n) const { return x(n); }
    void put(unsigned rd, const Known& value, bool wide, std::uint64_t step);
    void put_or_stack(unsigned rd, const Known& value, bool wide, std::uint64_t step);
    Known sum(const Known& a, const Known& b, std::optional<unsigned> carry, bool wide, bool set_flags);
    void set_flags_of(const Known& value, bool wide);
    Known load(const Known& address, unsigned bytes, unsigned sign_to, bool by_stack);
    void store(const Known& address, unsigned bytes, const Known& value, bool by_stack, std::uint64_t step);
    void store_unknown(const Known& address, unsigned bytes, bool by_stack, std::uint64_t step);

    bool immediate(std::uint32_t i, std::uint64_t pc, std::uint64_t step);
    bool branch(std::uint32_t i, std::uint64_t pc, std::uint32_t slot, std::uint64_t step, std::uint32_t next);
    bool system(std::uint32_t i, std::uint64_t step);
    Known* system_register(std::uint32_t i);
    bool memory_access(std::uint32_t i, std::uint64_t pc, std::uint64_t step);
    bool pair(std::uint32_t i, std::uint64_t step);
    bool single(std::uint32_t i, std::uint64_t step);
    bool exclusive(std::uint32_t i, std::uint64_t step);
    bool structures(std::uint32_t i, std::uint64_t step);
    bool atomic(std::uint32_t i, std::uint64_t step);
    bool registers(std::uint32_t i, std::uint64_t step);
    bool of_one_or_two(std::uint32_t i, std::uint64_t step);
    void vectors(std::uint32_t i, std::uint64_t step);
    void learn(unsigned n, std::uint64_t value);

    static constexpr std::uint64_t kRegister = ~std::uint64_t{0};
    static constexpr unsigned kExecuted = 0, kLost = 1, kStatus = 8;  ///< kinds of origins; from kStatus on they hold a status
    static constexpr unsigned kLoose = 4;  ///< the stack pointer in use where nobody knows which that is
    std::uint64_t now_ = 0;                ///< the step that is executed
    std::shared_ptr<const Code> code_;
    PastMemory memory_;
    std::array<Known, 31> x_;
    std::array<Known, 5> sp_;  ///< SP_EL0 to SP_EL3, kLoose
    std::array<Known, 4> elr_, spsr_, thread_;  ///< by level; thread_: TPIDR_EL0 to TPIDR_EL2, TPIDRRO_EL0
    ConditionFlags flags_;
    std::optional<unsigned> level_;
    std::optional<bool> own_stack_;  ///< PSTATE.SP, above level 0
    struct Entry {
        Before before;
        Known back;  ///< where the interrupted program goes on
    };
    std::optional<Entry> entered_;    ///< an exception was taken, and its first instruction did not run yet
    std::optional<Before> returned_;  ///< what the ERET that ran last says of the state behind it
    bool shared_ = false;
    std::uint64_t strange_ = 0;
};

}  // namespace mt
