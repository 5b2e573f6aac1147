// Trace Memory Controller in its three forms (DDI 0461 chapter 3), and the older Embedded Trace Buffer (DDI 0314).
// The read data registers are not read here: that would take words out of the buffer.
#include "base/text.h"
#include "control/units/registers.h"
#include "control/units/unit.h"

namespace mt {

void look_at_tmc(UnitReader& read, Unit& unit) {
    const std::uint32_t id = read(coresight::kDevId);
    constexpr const char* forms[] = {"buffer", "router to memory", "fifo", "reserved"};
    const unsigned form = bits_of(id, 7, 6);  // DEVID.CONFIGTYPE: ETB, ETR, ETF
    unit.feature("form", std::string(forms[form]));
    const std::uint32_t size = read(tmc::kRsz);
    unit.feature("bytes", std::int64_t{size} * 4);
    const std::uint32_t status = read(tmc::kSts), mode = read(tmc::kMode) & 3;
    constexpr const char* modes[] = {"circular", "software fifo", "hardware fifo", "reserved"};
    unit.setting("enabled", (read(tmc::kCtl) & 1) != 0);
    unit.setting("mode", std::string(modes[mode]));
    unit.setting("full", (status & tmc::kFull) != 0);
    unit.setting("triggered", (status & tmc::kTriggered) != 0);
    unit.setting("formatter", (read(tmc::kFfcr) & tmc::kEnFt) != 0);
    if (form == 1) {
        unit.setting("memory", hex_text(std::uint64_t{read(tmc::kDbaHi)} << 32 | read(tmc::kDbaLo)));
        unit.setting("scattered", (read(tmc::kAxiCtl) & tmc::kScatter) != 0);
    }
}

void look_at_etb(UnitReader& read, Unit& unit) {
    const std::uint32_t status = read(tmc::kSts);
    unit.feature("bytes", std::int64_t{read(tmc::kRsz)} * 4);  // RDP has the place of RSZ
    unit.setting("enabled", (read(tmc::kCtl) & 1) != 0);
    unit.setting("full", (status & tmc::kFull) != 0);
    unit.setting("triggered", (status & tmc::kTriggered) != 0);
    unit.setting("formatter", (read(tmc::kFfcr) & tmc::kEnFt) != 0);
}

}  // namespace mt
