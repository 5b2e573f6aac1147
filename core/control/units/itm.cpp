// The Instrumentation Trace Macrocell. Armv7-M Architecture Reference Manual (DDI 0403E) C1.7.
#include "control/units/registers.h"
#include "control/units/unit.h"

namespace mt {

void look_at_itm(UnitReader& read, Unit& unit) {
    const std::uint32_t tcr = read(itm::kTcr), ter = read(itm::kTer), tpr = read(itm::kTpr);
    unit.feature("ports", std::int64_t{32});
    unit.setting("enabled", (tcr & itm::kItmEna) != 0);
    unit.setting("forwards_dwt", (tcr & itm::kTxEna) != 0);
    unit.setting("local_timestamps", (tcr & itm::kTsEna) != 0);
    unit.setting("prescaler", std::int64_t{1} << (2 * bits_of(tcr, 9, 8)));
    constexpr const char* every[] = {"off", "each 128 cycles", "each 8192 cycles", "after each packet"};
    unit.setting("global_timestamps", std::string(every[bits_of(tcr, 11, 10)]));
    unit.setting("sync", (tcr & itm::kSyncEna) != 0);
    unit.setting("trace_id", std::int64_t{bits_of(tcr, 22, 16)});
    std::vector<std::string> ports;
    for (unsigned n = 0; n < 32; ++n)
        if ((ter >> n & 1) != 0) ports.push_back(std::to_string(n));
    unit.setting("ports_enabled", ports);
    std::vector<std::string> privileged;
    for (unsigned n = 0; n < 4; ++n)
        if ((tpr >> n & 1) != 0) privileged.push_back(std::to_string(8 * n) + " to " + std::to_string(8 * n + 7));
    unit.setting("ports_privileged", privileged);
}

}  // namespace mt
