// The Data Watchpoint and Trace unit: its comparators in both of their forms.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "control/units/unit.h"

namespace mt {

/// What a comparator tells of an access, as a wish says it.
enum class Tell : std::uint8_t { value, pc, value_pc, address, value_address };
enum class Access : std::uint8_t { write, read, any };

/// DWT_FUNCTIONn for an access in the Armv7-M form (DDI 0403E C1.8.17, table C1-14), with EMITRANGE. Where the unit can
/// tell the program counter only of reads and writes alike, it is taken with the value.
struct DwtFunction {
    std::uint32_t bits = 0;
    bool with_value = false;  ///< more was taken than was asked for
};
DwtFunction dwt7_function(Access on, Tell tell);
/// The same in the Armv8-M form (DDI 0553 D1.2, DWT_FUNCTIONn: MATCH, ACTION, DATAVSIZE); nothing if it has none such.
/// `bytes` is the size of the variable.
std::optional<std::uint32_t> dwt8_function(Access on, Tell tell, unsigned bytes);

/// What a comparator is used for.
struct DwtComparator {
    enum class Use : std::uint8_t { none, trace, trigger, debug };
    Use use = Use::none;
    std::uint32_t address = 0, mask = 0, function = 0;
    Access on = Access::any;
    std::string text;  ///< "write of 0x20000010: value"
};
DwtComparator dwt_comparator(UnitReader& read, unsigned n, bool v8);

/// The period of program-counter samples nearest to `cycles` that DWT_CTRL can be set to (C1.8.7: CYCTAP, POSTPRESET).
struct PcSampling {
    std::uint32_t bits = 0;  ///< CYCTAP, POSTINIT and POSTPRESET
    std::uint64_t cycles = 0;
};
PcSampling nearest_pc_sampling(std::uint64_t cycles);
constexpr std::uint32_t kPcSamplingMask = 0x3FEu;
std::uint64_t pc_sampling_of(std::uint32_t ctrl);

/// SYNCTAP nearest to a distance in cycles (C1.8.7): 2^24, 2^26 or 2^28.
struct SyncTap {
    std::uint32_t field = 1;
    std::uint64_t cycles = std::uint64_t{1} << 24;
};
SyncTap nearest_sync_tap(std::uint64_t cycles);

}  // namespace mt
