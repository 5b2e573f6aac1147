// What the files that plan for one family of units share.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "control/units/plan.h"
#include "control/units/registers.h"

namespace mt {

class Planner {
  public:
    Planner(const TraceWish& asked, const CoreUnits& there, TargetMemory& memory, const TargetFile& described,
            const CoreSpec& of_core, const Image* of_image)
        : wish(asked), units(there), target(described), core(of_core), image(of_image), memory_(memory) {
        plan.core = core.name;
    }

    using Phase = PlanStep::Phase;
    struct Register {
        const Unit& unit;
        std::string name;
        std::uint32_t offset;
    };

    /// Writes a whole register, also if it reads so already: what the plan needs does not depend on what was found.
    void write(const Register& r, std::uint32_t value, std::string why, Phase phase = Phase::set,
               std::uint32_t checked = 0xFFFF'FFFF);
    /// Waits until bits of it read as those of `value`.
    void await(const Register& r, std::uint32_t bits, std::uint32_t value, std::string why, Phase phase = Phase::quiet);
    /// As it reads now, after the writes that are planned; 0 where it cannot be read.
    std::uint32_t read(const Register& r);
    /// Unlocks a unit that is to be written (CoreSight software lock).
    void unlock(const Unit& unit);
    void note(std::string text) { plan.notes.push_back(std::move(text)); }
    /// A unit that has power and is known, or a Problem that says what is missing.
    Result<const Unit*> need(UnitKind kind, const std::string& for_what) const;
    bool has(UnitKind kind) const;
    /// What of the core's units could not be looked at, in brackets; empty if all could.
    std::string dark() const;
    /// A funnel or a buffer without power swallows all that comes to it, and does not even tell what it is: a Problem
    /// if a unit that cannot be identified may be one, and the wish does not say that it is none.
    Result<void> nothing_dark_on_the_way() const;
    /// Where in system memory the trace may go: address and bytes, aligned to `align` of them.
    Result<std::pair<std::uint64_t, std::uint64_t>> trace_memory(unsigned align) const;
    /// Changes of the target file.
    void key(std::string table, std::size_t index, std::string name, std::string value) {
        plan.target.push_back({std::move(table), index, std::move(name), std::move(value)});
    }
    /// The index of the core's stream of a protocol; it is added if there is none.
    std::size_t stream(Protocol protocol);

    const TraceWish& wish;
    const CoreUnits& units;
    const TargetFile& target;
    const CoreSpec& core;
    const Image* image;
    TracePlan plan;

  private:
    PlanStep step(const Register& r, Phase phase, std::uint32_t value, std::uint32_t bits, std::string why) const;
    PlannedMemory memory_;
    std::vector<std::pair<Protocol, std::size_t>> added_;
    std::vector<std::uint64_t> unlocked_;
};

// Each plans its part, in the order in which things are set up.
Result<void> plan_arm(Planner& p);
Result<void> plan_riscv(Planner& p);
/// The DWT and the ITM.
Result<void> plan_events(Planner& p, bool framed, unsigned trace_id);
/// `trigger_after` is set if the buffer must count bytes behind a trigger.
Result<void> plan_etm4(Planner& p, unsigned trace_id, bool& trigger_after);
Result<void> plan_mtb(Planner& p);
void tell_etm4(Planner& p, const Unit& etm, std::uint32_t config, unsigned threshold, unsigned trace_id);
void tell_encoder(Planner& p, const Unit& encoder, std::uint32_t control, std::uint32_t can);
/// Sets a free DWT comparator up as a trigger (at a place, or on an access); its number.
Result<unsigned> trigger_comparator(Planner& p, const TraceWish::Trigger& trigger);
/// Where a trigger stands.
Result<std::uint64_t> trigger_place(const Planner& p, const TraceWish::Trigger& trigger);

}  // namespace mt
