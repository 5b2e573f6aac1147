// Names of Arm M-profile exceptions, from the architecture, a CMSIS-SVD file, or the vector table.
#pragma once

#include <map>
#include <string>
#include <string_view>

#include "base/problem.h"
#include "target/exception_id.h"
#include "target/image.h"

namespace mt {

/// What runs where no exception is handled: M profile has a name for that.
std::string_view outside_handlers_name(bool m_profile);

/// The architecture's name of an Arm exception below 16 (Armv7-M B1.5.2, Armv8-M B3.8), or of a RISC-V cause
/// (privileged ISA, mcause); "interrupt N" and the like for all others.
std::string architectural_exception_name(ExceptionId id);

/// Interrupt names and the number of priority bits found in a CMSIS-SVD file (peripheral interrupts,
/// through derivedFrom as well). Keys are what the device calls its interrupts.
struct SvdNames {
    std::map<unsigned, std::string> names;
    unsigned priority_bits = 0;  ///< 0 if not stated
};
Result<SvdNames> read_svd(const std::string& path);

/// Names for exceptions by their code: SVD first, then the handlers in the image's vector table. A handler that
/// serves several vectors is put behind the number: "interrupt 7 (Unused_Handler)".
std::map<unsigned, std::string> exception_names(const Image* image, const SvdNames* svd);

}  // namespace mt
