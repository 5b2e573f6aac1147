// What a decoder of instruction trace tells, whatever the protocol: runs of instructions, exceptions, time, and
// what it does not know.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "target/code.h"
#include "target/exception_id.h"

namespace mt {

/// Instructions executed one behind the other, none of which but the last goes elsewhere: slots of the code.
struct StepRun {
    std::uint32_t first = 0, last = 0, count = 0;
};

/// Counts of runs, by slot: those that begin and end there, and those behind which the branch that ends them was taken.
struct RunCounts {
    std::vector<std::uint64_t> begins, ends, taken;

    explicit RunCounts(std::size_t slots = 0) : begins(slots), ends(slots), taken(slots) {}
    void add(const RunCounts& more) {
        for (std::size_t s = 0; s < more.begins.size(); ++s) {
            begins[s] += more.begins[s];
            ends[s] += more.ends[s];
            taken[s] += more.taken[s];
        }
    }
    void take_away(const RunCounts& less) {
        for (std::size_t s = 0; s < less.begins.size(); ++s) {
            begins[s] -= less.begins[s];
            ends[s] -= less.ends[s];
            taken[s] -= less.taken[s];
        }
    }
    bool operator==(const RunCounts&) const = default;
};

/// An exception or interrupt was taken before the next instruction.
struct StepTrap {
    static constexpr std::uint32_t kUnknown = 0xFFFF'FFFF;

    std::uint64_t offset = 0;  ///< of the packet
    std::uint64_t epc = 0;     ///< where the interrupted program goes on, or what raised the exception
    std::uint64_t tval = 0;    ///< RISC-V: what else is known of an exception
    std::uint32_t number = 0;  ///< exception number (Arm) or cause (RISC-V); kUnknown where the trace does not tell
    bool interrupt = false, epc_known = false, tval_known = false;
    bool tail_chained = false;  ///< Arm: entered from the exit of another, nothing ran between
    std::optional<std::uint32_t> process{};  ///< that had the core until then, where processes see code of their own

    /// Where `epc` stands in the code; kNowhere if it is not known, or no code is there.
    std::uint32_t slot(const Code& code) const {
        if (!epc_known) return Code::kNowhere;
        return process && code.has_contexts() ? code.slot_in(*process, epc) : code.slot_of(epc);
    }
};

/// Which exception it was; nothing where the trace does not tell.
inline std::optional<ExceptionId> exception_of(const StepTrap& trap, const Code& code) {
    if (trap.number == StepTrap::kUnknown) return std::nullopt;
    return code.riscv() ? ExceptionId::riscv(trap.number, trap.interrupt)
                        : ExceptionId::make(ExceptionId::Space::arm, trap.number);
}

enum class StepGapKind : std::uint8_t {
    lost,           ///< the encoder or the line lost packets
    damaged,        ///< bytes that are no packet
    contradiction,  ///< packets and program do not fit together
    not_in_image,   ///< the program went where the image has no code
    stopped,        ///< tracing was off: nothing is missing that was asked for
    lead_in,        ///< before the first synchronisation
    no_vector,      ///< an exception's handler is not told, and no trap vector is known
};

/// Whether something is missing that was asked for: not where tracing was off, or before the recording could be read.
/// The reason of a gap where a debugger halted the core.
inline constexpr const char* kCoreHalted = "the core was halted";
constexpr bool is_missing(StepGapKind kind) { return kind != StepGapKind::stopped && kind != StepGapKind::lead_in; }

/// Instructions are missing between the run before and the run after.
struct StepGap {
    std::uint64_t offset = 0, length = 0;  ///< bytes of the stream
    std::uint64_t address = 0;             ///< where the program was when it was noticed; 0 if unknown
    StepGapKind kind = StepGapKind::lost;
    const char* reason = "";  ///< a sentence's middle: what did not fit
    std::optional<std::uint32_t> process{};  ///< the number of the one that had the core, where processes see code of their own
    /// The reason, with the process.
    std::string text() const { return reason + (process ? " for process " + std::to_string(*process) : std::string()); }
};

/// Ticks of the core's clock or of the trace's own, as the protocol gives them, for what follows.
struct StepTime {
    std::uint64_t offset = 0;
    std::uint64_t ticks = 0;
    std::uint64_t assumed = 0;  ///< bits of `ticks` that stand for those of the timestamp before, which is not known
    enum class Kind : std::uint8_t {
        timestamp,       ///< absolute count of the timestamp clock
        timestamp_step,  ///< difference to the one before
        cycles,          ///< core cycles since the count before
    } kind = Kind::timestamp;
    std::uint8_t sent = 64;  ///< so many of the lowest bits of `ticks` were sent; the others stand as they stood before
};

/// The program sent a number through the trace: what for, and the number. Or the trace tells one of the core itself.
struct StepData {
    /// Tags that no program sends: which process has the core (CONTEXTIDR, RISC-V context), which virtual machine, which
    /// exception level or privilege; data that was loaded or stored, `address` says where.
    static constexpr std::uint32_t kContext = 0xFFFF'FFF0, kVirtualMachine = 0xFFFF'FFF1, kLevel = 0xFFFF'FFF2, kAccess1 = 0xFFFF'FFF4,
                                   kAccess2 = 0xFFFF'FFF5, kAccess4 = 0xFFFF'FFF6;
    std::uint64_t offset = 0;  ///< of the packet
    std::uint64_t value = 0;
    std::uint32_t tag = 0;
    std::uint64_t address = 0;
};

/// Hears nothing of what a flow tells.
struct NoSteps {
    void run(const StepRun&) {}
    void trap(const StepTrap&) {}
    void trap_return() {}
    void gap(const StepGap&) {}
    void time(const StepTime&) {}
    void sync(std::uint64_t) {}
};

/// Tells it to those who want to hear of it.
template <class Out>
void tell_data(Out& out, const StepData& data) {
    if constexpr (requires { out.data(data); }) out.data(data);
}

/// A packet of any protocol, in words.
struct StepPacketText {
    std::uint64_t offset = 0, length = 0;
    std::string_view kind;
    std::string detail;
};

}  // namespace mt
