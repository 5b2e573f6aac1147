// Which trace units a core has: from the CoreSight ROM tables, or from addresses that are named.
#pragma once

#include <string>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "control/units/unit.h"
#include "target/target_file.h"

namespace mt {

/// What one core has. Plain data.
struct CoreUnits {
    std::string core;
    std::vector<Unit> units;
    std::vector<std::string> notes;  ///< what could not be looked at, and why; a sentence each

    const Unit* first(UnitKind kind) const;
    const Unit* named(std::string_view name) const;
};

/// Walks the ROM tables (IHI 0029 chapter B6: 32-bit tables of class 1, and those of class 9) from the core's root and
/// looks at what they list; then at the addresses that the target file or its CMSIS-SVD name. Only reads, and no
/// register whose reading changes something. A table that lists itself, units without power and wrong identifications
/// are noted, not followed. A Problem if nothing at all can be read.
Result<CoreUnits> discover_units(TargetMemory& memory, const CoreSpec& core, Progress* progress = nullptr);

/// Which unit's trace goes to which other, as it is presumed: CoreSight and the RISC-V registers do not tell. Sources
/// feed funnels, those a buffer that passes on, that the pins.
void join_units(CoreUnits& units);

}  // namespace mt
