// Where a RISC-V program's traps go, as far as its code says so.
#pragma once

#include <cstdint>
#include <optional>

#include "target/code.h"

namespace mt {

/// Values that the program writes to these registers, mode bits included (privileged ISA 3.1.7, 4.1.2).
struct TrapVectors {
    std::optional<std::uint64_t> mtvec, stvec;
};

/// Looks for instructions that write the registers with a constant made shortly before (lui, auipc, addi). A register
/// that is written with different values, or with one that is not known here, stays unknown.
TrapVectors trap_vectors(const Code& code);

}  // namespace mt
