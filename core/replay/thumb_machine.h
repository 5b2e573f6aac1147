// An Armv6-M or Armv7-M core of which some is known: executes what was recorded with what is known, and says of everything
// else that it is not. Armv7-M ARM (DDI 0403E), A5 to A7; exceptions: B1.5.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <vector>

#include "flow/steps.h"
#include "replay/past_memory.h"
#include "target/code.h"

namespace mt {

/// The integer set; floating point is followed as far as it touches core registers, the stack and memory. Copies are
/// cheap. One thread at a time.
class ThumbMachine {
  public:
    /// `at_reset`: the first instruction is the first behind a reset: then thread mode and the main stack are in use, and
    /// `stack` is what the vector table says the stack is. `shared`: others write to its memory, too.
    ThumbMachine(std::shared_ptr<const Code> code, PastMemory memory, bool at_reset, std::optional<std::uint32_t> stack,
                 bool shared);

    /// As RvMachine::execute.
    void execute(std::uint32_t slot, std::uint64_t step, std::uint32_t next);
    void trap(const StepTrap& trap, std::uint64_t step);
    /// No exception was taken before `step`: what an exception that ended left on the stack is back.
    void settle(std::uint64_t step);
    void lose(std::uint64_t step);

    /// r0 to r12, 13: the stack pointer in use, 14: the link register.
    const Known& r(unsigned n) const { return n == 13 ? sp() : r_[n]; }
    /// Registers that turned out to be known since.
    void resolve();
    const PastMemory& memory() const { return memory_; }
    PastMemory& memory() { return memory_; }
    std::uint64_t strange() const { return strange_; }

  private:
    struct Flags {
        Known n, z, c, v;  ///< 0 or 1
    };
    struct Shifted {
        Known value, carry;
    };
    enum class Runs : std::uint8_t { yes, no, perhaps };

    const Known& sp() const;
    void set(unsigned rd, const Known& value, std::uint64_t step);
    Known read(unsigned n, std::uint32_t pc) const;
    void set_nz(const Known& value);
    void forget_flags();
    Runs passes(unsigned condition) const;
    void learn(unsigned condition, bool passed);
    Known load(const Known& address, unsigned bytes, bool with_sign, bool by_stack);
    void store(const Known& address, unsigned bytes, const Known& value, bool by_stack, std::uint64_t step);
    Known add(const Known& a, const Known& b, const Known& carry, bool set_flags);
    static Shifted shift(const Known& value, unsigned type, const Known& amount, const Known& carry);
    void logic(unsigned op, unsigned rd, const Known& a, const Shifted& b, bool set_flags, std::uint64_t step);
    /// What a 32-bit instruction with operand `b` calculates (A5.3.1, A5.3.11 share their numbers).
    bool calculate(unsigned op, unsigned rd, unsigned rn, const Shifted& b, bool set_flags, std::uint32_t pc,
                   std::uint64_t step);

    bool narrow(std::uint32_t i, std::uint32_t pc, std::uint32_t slot, std::uint64_t step, std::uint32_t next, bool in_it);
    bool wide(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next);
    bool multiple(std::uint32_t list, unsigned rn, bool loads, bool before, bool up, bool writes_back, std::uint64_t step,
                  std::uint32_t next);
    bool single(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next);
    bool dual(std::uint32_t i, std::uint32_t pc, std::uint64_t step);
    bool coprocessor(std::uint32_t i, std::uint64_t step);
    bool special(std::uint32_t i, std::uint64_t step);
    /// A value went into the program counter: if it says so, an exception ends.
    void jump(const Known& target, std::uint64_t step, std::uint32_t next);
    void leave(std::uint32_t how, std::uint64_t step);

    static constexpr unsigned kExecuted = 0, kLost = 1, kMerged = 2, kReturned = 3;  ///< kinds of origins
    std::uint64_t now_ = 0;      ///< the step that is executed
    unsigned kind_ = kExecuted;  ///< of what happens now
    std::shared_ptr<const Code> code_;
    struct Fetched {
        std::uint32_t word = 0, pc = 0;
        std::uint8_t size = 0;  ///< halfwords; 0: not met yet
    };
    std::shared_ptr<std::vector<Fetched>> fetched_;             ///< by slot
    std::shared_ptr<std::vector<std::uint8_t>> conditions_;  ///< of each slot in an IT block that was met: 1 + condition
    PastMemory memory_;
    std::array<Known, 15> r_;
    Known main_, process_;             ///< stack pointers
    Known uses_process_;               ///< CONTROL.SPSEL, in thread mode
    Known unprivileged_;               ///< CONTROL.nPRIV
    std::optional<bool> handler_;      ///< handler mode; nothing: not known
    Flags flags_;
    bool fp_used_ = false;             ///< frames may hold floating-point registers
    std::optional<std::uint32_t> leaving_;  ///< EXC_RETURN by which a handler just left
    std::map<std::uint32_t, std::pair<std::uint64_t, Flags>> saved_;  ///< by the address of a stacked xPSR: when, and what
    unsigned unsure_ = 0;              ///< so many instructions may stand in an IT block that was not seen
    bool doubtful_ = false;  ///< what is executed may not have run
    bool shared_ = false;
    std::uint64_t strange_ = 0;
};

}  // namespace mt
