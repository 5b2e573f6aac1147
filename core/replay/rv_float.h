// Floating-point registers of a RISC-V core of which some is known. Unprivileged ISA, chapters 20 (F), 21 (D) and 9 (Zicsr).
#pragma once

#include <array>
#include <cstdint>
#include <optional>

#include "replay/past_memory.h"

namespace mt {

/// F and D of either width. What depends on a rounding mode that nobody knows is not known, unless all modes give the
/// same. Flags are not followed. Copies are cheap. One thread at a time.
class RvFloat {
  public:
    /// f0 to f31, 64 bits each; single precision stands in the lower half, with ones above (21.2).
    const Known& f(unsigned n) const { return f_[n]; }
    /// A debugger read it.
    void know(unsigned n, std::uint64_t value) { f_[n] = {value, true}; }
    /// What a load of four or eight bytes gave.
    void load(unsigned rd, unsigned bytes, const Known& value, std::uint64_t step);
    /// What a store of four or eight bytes takes.
    Known stored(unsigned from, unsigned bytes) const;
    /// Executes an instruction of the opcodes OP-FP, MADD, MSUB, NMSUB, NMADD. `operand`: what the integer register that
    /// it names as rs1 holds. `xlen`: 32 or 64. Gives what becomes of the integer register rd, if the instruction writes
    /// one. Half and quadruple precision are not followed: what they write is not known.
    std::optional<Known> operate(std::uint32_t instruction, const Known& operand, unsigned xlen, std::uint64_t step);
    /// Where `number` is fflags, frm or fcsr: executes CSRRW (way 1), CSRRS (2) or CSRRC (3) and gives what was read; nothing
    /// of other registers. `writes`: false if the instruction only reads (9.1).
    std::optional<Known> control(std::uint32_t number, unsigned way, bool writes, const Known& operand);
    /// Nothing is known any more.
    void lose(std::uint64_t step);

  private:
    void put(unsigned rd, const Known& value, std::uint64_t step);
    template <class Real>
    std::optional<Known> calculate(std::uint32_t i, const Known& operand, unsigned xlen, std::uint64_t step);
    template <class Real>
    std::optional<Real> real(unsigned n) const;

    std::array<Known, 32> f_{};
    std::optional<unsigned> rounding_;  ///< frm
};

}  // namespace mt
