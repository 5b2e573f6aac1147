// The Micro Trace Buffer of Cortex-M0+ and others. DDI 0486 chapter 3.
#include "base/text.h"
#include "control/units/registers.h"
#include "control/units/unit.h"

namespace mt {

void look_at_mtb(UnitReader& read, Unit& unit) {
    const std::uint32_t master = read(mtb::kMaster), position = read(mtb::kPosition), base = read(mtb::kBase);
    unit.feature("sram", hex_text(base));
    unit.setting("enabled", (master & mtb::kEnable) != 0);
    unit.setting("bytes", std::int64_t{16} << bits_of(master, 4, 0));  // 2^(MASK + 4), 3.2.2
    unit.setting("wrapped", (position & mtb::kWrap) != 0);
    unit.setting("position", hex_text(position & ~7u));
    unit.setting("started_by_comparator", (master & mtb::kTStartEn) != 0);
    unit.setting("stopped_by_comparator", (master & mtb::kTStopEn) != 0);
}

}  // namespace mt
