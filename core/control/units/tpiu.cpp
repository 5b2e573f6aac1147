// Trace Port Interface Unit and the serial wire output beside it. DDI 0403E C1.10; CoreSight TPIU and SWO (DDI 0314).
#include "control/units/registers.h"
#include "control/units/unit.h"

namespace mt {
namespace {

constexpr const char* kProtocols[] = {"parallel port", "serial wire, manchester", "serial wire, nrz", "reserved"};

}  // namespace

void look_at_tpiu(UnitReader& read, Unit& unit) {
    const std::uint32_t sizes = read(tpiu::kSspsr), size = read(tpiu::kCspsr), can = read(coresight::kDevId);
    // DEVID says which of the two ways out of one wire it has (DDI 0403E C1.10.8, TPIU_TYPE: NRZVALID, MANCVALID).
    const bool micro = (can & 3u << 10) != 0;
    std::vector<std::string> widths;
    for (unsigned n = 0; n < 32; ++n)
        if ((sizes >> n & 1) != 0) widths.push_back(std::to_string(n + 1));
    unit.feature("widths", widths);
    unit.feature("parallel", !micro || (can & 1u << 9) == 0);
    unit.feature("manchester", micro && (can & 1u << 10) != 0);
    unit.feature("nrz", micro && (can & 1u << 11) != 0);
    unsigned width = 1;
    for (unsigned n = 0; n < 32; ++n)
        if (size == 1u << n) width = n + 1;
    if (micro) {
        unit.setting("output", std::string(kProtocols[read(tpiu::kSppr) & 3]));
        unit.setting("divider", std::int64_t{(read(tpiu::kAcpr) & 0x1FFF) + 1});
    }
    unit.setting("width", std::int64_t{width});
    const std::uint32_t formatter = read(tpiu::kFfcr);
    unit.setting("formatter", (formatter & tpiu::kEnFCont) != 0);
}

void look_at_swo(UnitReader& read, Unit& unit) {
    unit.feature("manchester", true);
    unit.feature("nrz", true);
    unit.setting("output", std::string(kProtocols[read(tpiu::kSppr) & 3]));
    unit.setting("divider", std::int64_t{(read(tpiu::kAcpr) & 0x1FFF) + 1});
}

}  // namespace mt
