// Which architecture an image was built for, from the attributes that compilers leave in it.
#pragma once

#include <cstdint>
#include <span>
#include <string>

namespace mt {

/// From a section .ARM.attributes (Addenda to, and Errata in, the ABI for the Arm Architecture, IHI 0045, 3: build
/// attributes; 3.4 tags Tag_CPU_arch and Tag_CPU_arch_profile). A name as in the target file ("armv7e-m"); empty if
/// it says nothing that is known.
std::string arm_isa(std::span<const std::uint8_t> section);
/// From a section .riscv.attributes (RISC-V ELF psABI, "Attributes": Tag_RISCV_arch). "rv32imac": the base and the
/// extensions of one letter.
std::string riscv_isa(std::span<const std::uint8_t> section);

}  // namespace mt
