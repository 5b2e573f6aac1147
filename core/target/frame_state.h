// What is known of a core while it stands, as the places of variables are worked out from it.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

#include "target/code.h"

namespace mt {

/// What a register or a piece of memory holds: known, or not.
struct FrameWord {
    static constexpr std::uint64_t kNever = ~std::uint64_t{0};
    std::uint64_t value = 0;
    bool known = false;
    std::uint64_t set_at = kNever;  ///< of a state of the past: the step that wrote it; kNever: none that was recorded

    static FrameWord of(std::uint64_t value) { return {value, true}; }
};

/// Registers by the numbers that DWARF gives them (for Arm: AADWARF32, 4.1; for A64: AADWARF64, 4.1; RISC-V: psABI, "DWARF
/// register numbers"). All of them may say that they do not know.
struct FrameState {
    std::function<FrameWord(unsigned number)> reg;
    std::function<FrameWord(std::uint64_t address)> byte;
    /// What a register held when a function was entered that is on the stack: `frame` called so many of the others, and
    /// stands at `pc`. Empty: nobody knows.
    std::function<FrameWord(unsigned frame, std::uint64_t pc, unsigned number)> at_entry;
    unsigned frame = 0;      ///< which one this is the state of
    std::uint64_t pc = 0;    ///< where that stands, or the call that it waits for
    Isa isa = Isa::thumb;
    unsigned address_bytes = 4;
    /// Registers that a function leaves as they were, where nothing else is said of them: the calling convention.
    std::function<bool(unsigned number)> kept_by_calls;
    unsigned stack_pointer = 13;
};

/// What a frame's state is for an instruction set, without any register or memory.
FrameState frame_convention(Isa kind);
/// The name that states give a register of that DWARF number: "r0", "sp", "x8", "f10"; empty: none.
std::string frame_register_name(Isa kind, unsigned number);

}  // namespace mt
