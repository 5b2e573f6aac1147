// A 64-bit RISC-V core of which some is known: as RvMachine, but without bounds of what is not known.
// Unprivileged ISA, chapters 2, 5, 7, 8, 9, 16, 20 and 21; machine-mode traps: privileged ISA 3.1.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "flow/steps.h"
#include "replay/past_memory.h"
#include "replay/rv_float.h"
#include "target/code.h"

namespace mt {

/// RV64 IMAFDC. Copies are cheap. One thread at a time.
class Rv64Machine {
  public:
    /// `shared`: others write to its memory, too: only its stack can be known.
    Rv64Machine(std::shared_ptr<const Code> code, PastMemory memory, bool shared);

    /// As of RvMachine.
    void execute(std::uint32_t slot, std::uint64_t step, std::uint32_t next);
    void trap(const StepTrap& trap, std::uint64_t step);
    void settle(std::uint64_t /*step*/) {}
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
    void set(unsigned rd, std::uint64_t value, std::uint64_t step) { put(rd, {value, true, step}); }
    void unknown(unsigned rd, std::uint64_t step) { put(rd, {0, false, step}); }
    void put(unsigned rd, const Known& value) {
        if (rd == 0) return;
        x_[rd] = value;
        if (value.known) return;
        if (value.origin == 0) x_[rd].origin = Known::origin_of(now_, kExecuted, rd);
        memory_.resolve(x_[rd], kRegister);
    }
    Known load(unsigned base, std::uint64_t offset, unsigned bytes, bool with_sign);
    void store(unsigned base, std::uint64_t offset, unsigned bytes, const Known& value, std::uint64_t step);
    void calculate(std::uint32_t i, const Known& a, const Known& b, bool immediate, bool words, std::uint64_t step);
    void branch(std::uint32_t i, std::uint32_t slot, std::uint32_t next);
    void atomic(std::uint32_t i, std::uint64_t step);
    void system(std::uint32_t i, std::uint64_t step);
    std::uint32_t word_of(std::uint32_t slot);

    static constexpr std::uint64_t kRegister = ~std::uint64_t{0};
    static constexpr unsigned kExecuted = 0, kLost = 1;  ///< kinds of origins
    std::uint64_t now_ = 0;  ///< the step that is executed
    std::shared_ptr<const Code> code_;
    std::shared_ptr<std::vector<std::uint32_t>> words_;  ///< of each slot the instruction, once it was met
    PastMemory memory_;
    std::array<Known, 32> x_;
    RvFloat floats_;
    Known scratch_, epc_, cause_;  ///< mscratch, mepc, mcause
    bool shared_ = false, delegates_ = false;
    std::uint64_t strange_ = 0;
};

}  // namespace mt
