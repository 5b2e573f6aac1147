// Trace funnel and replicator. CoreSight Components TRM (DDI 0314) chapters 7 and 6.
#include "base/text.h"
#include "control/units/registers.h"
#include "control/units/unit.h"

namespace mt {

void look_at_funnel(UnitReader& read, Unit& unit) {
    const unsigned inputs = read(coresight::kDevId) & 0xF;
    const std::uint32_t control = read(funnel::kCtrl);
    unit.feature("inputs", std::int64_t{inputs});
    std::vector<std::string> open;
    for (unsigned n = 0; n < inputs && n < 8; ++n)
        if ((control >> n & 1) != 0) open.push_back(std::to_string(n));
    unit.setting("inputs_open", open);
    unit.setting("hold_time", std::int64_t{bits_of(control, 11, 8) + 1});
}

void look_at_replicator(UnitReader& read, Unit& unit) {
    unit.setting("filter_0", hex_text(read(replicator::kFilter0) & 0xFF));
    unit.setting("filter_1", hex_text(read(replicator::kFilter1) & 0xFF));
}

}  // namespace mt
