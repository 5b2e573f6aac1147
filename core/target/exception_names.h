// Names of Arm M-profile exceptions, from the architecture, a CMSIS-SVD file, or the vector table.
#pragma once

#include <map>
#include <string>

#include "base/problem.h"
#include "target/image.h"

namespace mt {

/// The architecture's name of an exception below 16 (Armv7-M B1.5.2, Armv8-M B3.8), "interrupt N" above.
std::string architectural_exception_name(unsigned number);

/// Interrupt names and the number of priority bits found in a CMSIS-SVD file (peripheral interrupts,
/// through derivedFrom as well). Keys are exception numbers: 16 + interrupt value.
struct SvdNames {
    std::map<unsigned, std::string> names;
    unsigned priority_bits = 0;  ///< 0 if not stated
};
Result<SvdNames> read_svd(const std::string& path);

/// Names for all exceptions: SVD first, then the handlers in the image's vector table. A handler that
/// serves several vectors is put behind the number: "interrupt 7 (Unused_Handler)".
std::map<unsigned, std::string> exception_names(const Image* image, const SvdNames* svd);

/// True for HardFault and its relatives: 3 to 7 (Armv7-M B1.5.2; 7 is SecureFault of Armv8-M).
constexpr bool is_fault_exception(unsigned number) { return number >= 3 && number <= 7; }

/// The same for RISC-V, numbered 256 + cause: all but breakpoints and environment calls (privileged ISA, table 3.6).
constexpr bool is_riscv_fault(unsigned number) {
    const unsigned cause = number - 256;
    return number >= 256 && cause < 24 && cause != 3 && !(cause >= 8 && cause <= 11) && cause != 14 && cause != 17;
}

}  // namespace mt
