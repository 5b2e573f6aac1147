// Which pointer a faulting instruction went by, where it got its value, and who had written that.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>

#include "judge/finding.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// The address that an instruction accesses: base + (index << shift) + offset; registers by the names that PastState has.
struct AccessedAddress {
    std::string base, index;  ///< index: empty if there is none
    unsigned shift = 0;
    std::int64_t offset = 0;
};
/// Of an instruction's text, as the disassembler writes it; nothing if it accesses no memory by a register.
std::optional<AccessedAddress> accessed_by(const std::string& instruction);

/// Adds to the finding of a fault what is known of the registers by which the instruction in `slot` went, which raised
/// it before `step`. `told`: an instruction with its place, for people. Executes at most some million instructions
/// before it.
void explain_pointer(const Recording& recording, const StepTrail& steps, std::uint32_t slot, std::uint64_t step,
                     const std::function<std::string(std::uint32_t slot)>& told, Finding& f);

}  // namespace mt
