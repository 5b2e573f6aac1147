// From a wish to writes of registers: what has to be set where, in which order, and what the target file must say then.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/problem.h"
#include "control/units/discover.h"
#include "control/units/wish.h"
#include "target/image.h"
#include "target/target_edit.h"
#include "target/target_file.h"

namespace mt {

/// A write, or something to wait for. Plain data.
struct PlanStep {
    /// When a unit is put back, it is quiet first, then gets back its settings, and what switches it on last.
    enum class Phase : std::uint8_t { open, quiet, set, start };
    Phase phase = Phase::set;
    bool waits = false;           ///< until the bits of `checked` read as those of `value`; no write
    std::string core, unit, reg;  ///< the register as the architecture document calls it
    std::uint64_t address = 0;
    std::uint32_t value = 0;
    std::uint32_t checked = 0xFFFF'FFFF;    ///< bits that must read back as written; 0: not read back
    std::optional<std::uint32_t> put_back;  ///< for a register that cannot be read: what undoes the write
    std::string why;                        ///< "exceptions are traced", for people
};

struct TracePlan {
    std::string core;
    std::vector<PlanStep> steps;
    std::vector<KeyChange> target;   ///< what the target file must say of it
    std::vector<std::string> notes;  ///< what differs from the wish, or is worth knowing; a sentence each
    /// Where the core has to be halted for it, since no unit can start or stop by itself there.
    std::optional<TraceWish::Trigger> halt_to_start, halt_to_stop;

    // What comes of it, for estimates.
    std::uint64_t pc_sample_cycles = 0;  ///< 0: none
    bool exceptions = false, instructions = false, local_timestamps = false, global_timestamps = false;
    unsigned cycle_threshold = 0;  ///< instruction trace with cycle counts; 0: none
    bool instruction_timestamps = false;
    std::vector<std::pair<std::string, unsigned>> variables;  ///< name and bytes of each packet
    unsigned counters = 0;
    TraceWish::To to = TraceWish::To::unsaid;
    std::uint64_t bits_per_s = 0;    ///< of the line; 0: not known
    std::uint64_t buffer_bytes = 0;  ///< of an on-chip buffer; 0: none
    std::string sink;                ///< name of the buffer's unit
    bool framed = false;
};

/// REQUIRES: `units` are those of the core, `memory` is what they were read from. Nothing is written to it. A Problem
/// says what cannot be had and why: more than the hardware has, a variable that does not fit a comparator, a unit
/// without power.
Result<TracePlan> plan_trace(const TraceWish& wish, const CoreUnits& units, TargetMemory& memory,
                             const TargetFile& target, const Image* image);

/// What lets units answer that do not yet: TRCENA, without which those of an Arm core may read as nothing (DDI 0403E
/// C1.6.5), and the power-up request of a trace unit whose power is off (TRCPDCR, IHI 0064 7.3.49). Without steps if
/// nothing of it would help. Done before the units are looked at again.
TracePlan plan_wake(const CoreUnits& units, TargetMemory& memory, const TargetFile& target);

/// No wish: nothing is written, and the target file says what the units are set to now, so that what their buffer holds
/// can be read. Without steps.
TracePlan plan_as_found(const CoreUnits& units, TargetMemory& memory, const TargetFile& target);

/// Code that a wish names: "guide_*", "0x08000000..0x080003ff", "axis.c", a function. Pairs [first, last], ascending,
/// joined where only padding stands between them. A Problem if one of them is nothing.
Result<std::vector<std::pair<std::uint64_t, std::uint64_t>>> code_ranges(const std::vector<std::string>& of,
                                                                         const Image* image);

/// The target file as the plan wants it. A Problem if it would not be one.
Result<TargetFile> described_target(const TargetFile& target, const TracePlan& plan);

}  // namespace mt
