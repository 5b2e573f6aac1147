// The Embedded Trace Macrocell of version 4. IHI 0064 chapter 7: TRCIDR0 to TRCIDR5 say what it can.
#include "base/text.h"
#include "control/units/registers.h"
#include "control/units/unit.h"

namespace mt {

void look_at_etm4(UnitReader& read, Unit& unit) {
    const std::uint32_t os = read(etm4::kOsLockStatus), power = read(etm4::kPowerStatus);
    // TRCOSLSR.OSLM: bits 3 and 0; 0 means that there is no OS lock (7.3.47).
    const bool has_os_lock = (os & 0x9) != 0;
    if (has_os_lock && (os & 2) != 0) unit.locked = true;
    if ((power & 1) == 0) {  // TRCPDSR.POWER: the registers of the trace unit core are not there (7.3.50)
        unit.powered = false;
        unit.trouble = "without power: only its identification can be read";
        return;
    }
    const std::uint32_t id0 = read(etm4::kIdr0), id1 = read(etm4::kIdr0 + 4), id2 = read(etm4::kIdr0 + 8),
                        id3 = read(etm4::kIdr0 + 12), id4 = read(etm4::kIdr0 + 16), id5 = read(etm4::kIdr0 + 20);
    unit.feature("version", "4." + std::to_string(bits_of(id1, 7, 4)));
    unit.feature("return_stack", (id0 & 1u << 9) != 0);
    unit.feature("cycle_counts", (id0 & 1u << 7) != 0);
    unit.feature("least_threshold", std::int64_t{bits_of(id3, 11, 0)});
    unit.feature("branch_broadcast", (id0 & 1u << 5) != 0);
    unit.feature("timestamps", bits_of(id0, 28, 24) != 0);
    unit.feature("context_id", bits_of(id2, 9, 5) != 0);
    unit.feature("address_comparators", std::int64_t{2 * bits_of(id4, 3, 0)});
    unit.feature("core_comparators", std::int64_t{bits_of(id4, 15, 12)});
    unit.feature("resource_selectors", std::int64_t{2 * (bits_of(id4, 19, 16) + 1)});
    unit.feature("counters", std::int64_t{bits_of(id5, 30, 28)});
    unit.feature("events", std::int64_t{bits_of(id0, 11, 10) + 1});
    unit.feature("stall", (id3 & 1u << 26) != 0);
    unit.feature("trcidr0", hex_text(id0));
    unit.feature("trcidr1", hex_text(id1));
    unit.feature("trcidr2", hex_text(id2));
    unit.feature("trcidr3", hex_text(id3));
    unit.feature("trcidr4", hex_text(id4));
    unit.feature("trcidr5", hex_text(id5));
    unit.feature("trcidr8", hex_text(read(etm4::kIdr8)));
    const std::uint32_t config = read(etm4::kConfig);
    unit.setting("enabled", (read(etm4::kPrgCtl) & 1) != 0);
    unit.setting("return_stack", (config & etm4::kRs) != 0);
    unit.setting("cycle_counts", (config & etm4::kCci) != 0);
    unit.setting("threshold", std::int64_t{read(etm4::kCcCtl) & 0xFFF});
    unit.setting("timestamps", (config & etm4::kTs) != 0);
    unit.setting("branch_broadcast", (config & etm4::kBb) != 0);
    unit.setting("trace_id", std::int64_t{read(etm4::kTraceId) & 0x7F});
    unit.setting("trcconfigr", hex_text(config));
}

}  // namespace mt
