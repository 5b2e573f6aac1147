// What has to be switched on before the units of a core answer at all.
#include "control/units/planner.h"

namespace mt {

TracePlan plan_wake(const CoreUnits& units, TargetMemory& memory, const TargetFile& target) {
    const CoreSpec* core = target.core(units.core);
    if (core == nullptr || core->isa.rfind("rv", 0) == 0) return {};
    const TraceWish nothing;
    Planner p(nothing, units, memory, target, *core, nullptr);
    bool dark = false;
    for (const Unit& u : units.units) dark = dark || !u.powered;
    if (!dark) return {};

    static const Unit core_debug = [] {
        Unit u;
        u.name = "core debug";
        return u;
    }();
    const Planner::Register monitor{core_debug, "DEMCR", static_cast<std::uint32_t>(demcr::kAddress)};
    const std::uint32_t now = p.read(monitor);
    if ((now & demcr::kTrcEna) == 0)
        p.write(monitor, now | demcr::kTrcEna, "units may answer only with TRCENA", PlanStep::Phase::open,
                demcr::kTrcEna);
    for (const Unit& u : units.units) {
        if (u.kind != UnitKind::etm4 || u.powered) continue;
        const Planner::Register power{u, "TRCPDCR", etm4::kPowerControl}, status{u, "TRCPDSR", etm4::kPowerStatus};
        p.unlock(u);
        p.write(power, p.read(power) | etm4::kPowerUp, "asks for the power of the trace unit", PlanStep::Phase::open,
                etm4::kPowerUp);
        p.await(status, 1, 1, "the trace unit has power", PlanStep::Phase::open);
    }
    return std::move(p.plan);
}

}  // namespace mt
