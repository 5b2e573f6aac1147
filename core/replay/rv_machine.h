// A RISC-V core of which some is known: executes what was recorded with what is known, and says of everything else that
// it is not. Unprivileged ISA, chapters 2, 7, 8, 9, 16, 20 and 21; machine-mode traps: privileged ISA 3.1.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <memory>
#include <string>
#include <optional>
#include <vector>

#include "flow/steps.h"
#include "replay/past_memory.h"
#include "replay/rv_float.h"
#include "target/code.h"

namespace mt {

/// RV32 IMAFDC. Copies are cheap. One thread at a time.
class RvMachine {
  public:
    /// `shared`: others write to its memory, too: only its stack can be known.
    RvMachine(std::shared_ptr<const Code> code, PastMemory memory, bool shared);

    /// Executes the instruction in `slot`, which is step number `step`. `next`: the slot that ran behind it; kNowhere if
    /// an exception or a gap came between, or nothing.
    void execute(std::uint32_t slot, std::uint64_t step, std::uint32_t next);
    /// An exception was taken before `step`.
    void trap(const StepTrap& trap, std::uint64_t step);
    /// No exception was taken before `step`.
    void settle(std::uint64_t /*step*/) {}
    /// Instructions are missing before `step`: all may have changed.
    void lose(std::uint64_t step);

    /// Before its first instruction a debugger read these registers, by their names in a state.
    void begin(const std::map<std::string, std::uint64_t>& registers);

    /// x0 to x31.
    const Known& x(unsigned n) const { return x_[n]; }
    const RvFloat& floats() const { return floats_; }
    /// Registers that turned out to be known since.
    void resolve();
    const PastMemory& memory() const { return memory_; }
    PastMemory& memory() { return memory_; }
    /// So many instructions were of no kind that is known here; after each nothing was known any more.
    std::uint64_t strange() const { return strange_; }

  private:
    void set(unsigned rd, const Known& value, std::uint64_t step);
    void set(unsigned rd, std::uint32_t value, std::uint64_t step) { set(rd, Known{value, true, step}, step); }
    void unknown(unsigned rd, std::uint64_t step) { set(rd, Known{0, false, step}, step); }
    Known load(unsigned base, std::uint32_t offset, unsigned bytes, bool with_sign);
    Known load_double(unsigned base, std::uint32_t offset) const;
    void note_base(unsigned base, std::uint32_t offset);
    void store(unsigned base, std::uint32_t offset, unsigned bytes, const Known& value, std::uint64_t step);
    void calculate(unsigned rd, std::uint32_t i, const Known& a, const Known& b, bool immediate, std::uint64_t step);
    void branch(std::uint32_t i, std::uint32_t slot, std::uint32_t next);
    void atomic(std::uint32_t i, std::uint64_t step);
    void system(std::uint32_t i, std::uint64_t step);
    Known* csr(std::uint32_t number);
    std::uint32_t word_of(std::uint32_t slot);

    static constexpr std::uint64_t kRegister = 0xFFFF'FFFF;
    static constexpr unsigned kExecuted = 0, kLost = 1;  ///< kinds of origins
    std::uint64_t now_ = 0;  ///< the step that is executed
    std::shared_ptr<const Code> code_;
    std::shared_ptr<std::vector<std::uint32_t>> words_;  ///< of each slot the instruction, once it was met
    PastMemory memory_;
    std::array<Known, 32> x_;
    RvFloat floats_;
    Known scratch_, epc_, cause_, value_;  ///< mscratch, mepc, mcause, mtval
    bool shared_ = false, delegates_ = false;  ///< delegates_: traps may be taken in another mode, by other registers
    std::uint64_t strange_ = 0;
};

}  // namespace mt
