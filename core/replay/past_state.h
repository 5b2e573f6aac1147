// The state of a core before any instruction that was recorded: what is certain of its registers and its memory.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <variant>
#include <string>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "model/step_trail.h"
#include "recording/recording.h"
#include "replay/a64_machine.h"
#include "replay/arm_machine.h"
#include "replay/condition_flags.h"
#include "replay/rv64_machine.h"
#include "replay/rv_machine.h"
#include "replay/thumb_machine.h"

namespace mt {

/// Before an instruction. What is not known stays so; nothing is guessed.
struct PastState {
    std::uint64_t step = 0;
    Time time;
    std::uint64_t pc = 0;
    std::optional<ConditionFlags> flags;  ///< of Arm
    std::vector<std::pair<std::string, Known>> registers;  ///< by name: x1 to x31, f0 to f31; r0 to r12, sp, lr; x0 to x30, sp
    std::shared_ptr<const PastMemory> memory;
};

/// States of one stream of instructions. Executes forwards what was recorded; where the target file has what a debugger
/// read at the end, what was not written since then is known, too. Keeps states on the way, so that the
/// next that is asked for is near. One thread at a time; both arguments must outlive it.
class PastStates {
  public:
    /// A Problem where the core's instructions cannot be executed here.
    /// `from`: nothing before that step is executed, or known.
    static Result<PastStates> of(const Recording& recording, const StepTrail& steps, std::uint64_t from = 0);

    /// REQUIRES: from <= step < steps.steps. Cancelled, nothing. Blocks: what was not executed yet is executed, at about
    /// ten million instructions a second.
    std::optional<PastState> before(std::uint64_t step, Progress& progress);
    /// How many instructions are to be executed until `before(step)` can tell. REQUIRES: from <= step <= steps.steps
    std::uint64_t distance(std::uint64_t step) const;
    /// The same as `before`, but as if nothing was known of what came before the last `reach` instructions: soon there, and
    /// what it knows `before` knows, too. REQUIRES as `before`.
    std::optional<PastState> glimpse(std::uint64_t step, std::uint64_t reach, Progress& progress) const;
    /// Executes what was not executed yet: the state before any step is near then. False: cancelled. Blocks as `before` does.
    bool execute_all(Progress& progress);
    /// The same before an exception that was taken there has changed anything. REQUIRES: from <= step <= steps.steps
    std::optional<PastState> as_left(std::uint64_t step, Progress& progress);

    /// What is looked at: a register by its name, or memory.
    struct Watched {
        std::string name;  ///< of a register; empty: memory
        std::uint64_t address = 0;
        unsigned bytes = 4;
    };
    /// The first instruction from `step` on that leaves another value there, or one that is not known; nothing up to the
    /// end of what was recorded, or cancelled. Blocks as `before` does. REQUIRES: from <= step < steps.steps; 0 < bytes <= 8.
    std::optional<std::uint64_t> next_change(std::uint64_t step, const Watched& watched, Progress& progress);

  private:
    using Machine = std::variant<RvMachine, ThumbMachine, Rv64Machine, A64Machine, ArmMachine>;
    PastStates(const Recording& recording, const StepTrail& steps, Machine first);
    enum class Upto : std::uint8_t { instruction, exception };
    std::optional<PastState> state_at(std::uint64_t step, Upto upto, Progress& progress);
    struct Start {
        std::uint64_t step = 0;
        bool first = false;  ///< what came before its instruction is still to be done
        Machine machine;
    };
    Start start_before(std::uint64_t step) const;
    /// From `start` up to `step`, or to the end.
    std::optional<PastState> run(Start start, std::uint64_t step, Upto upto, Progress& progress) const {
        return run(std::move(start), step, upto, progress, nullptr, {});
    }
    /// `keep`: where states on the way are kept. `each` is given every machine behind an instruction, with the number of that;
    /// false: it is enough.
    std::optional<PastState> run(Start start, std::uint64_t step, Upto upto, Progress& progress, std::map<std::uint64_t, Machine>* keep,
                                 const std::function<bool(const Machine&, std::uint64_t)>& each) const;
    std::optional<PastState> run_to(std::uint64_t step, Upto upto, Progress& progress);
    /// What is known of the end tells values that were copied there, however long before.
    void learn_copies() const;
    void learn_from_end(PastState& state) const;
    Result<void> take_stopped(const CoreSpec& core, PastMemory& memory);
    Result<void> take_stood(const CoreSpec& core);
    /// Whether `gap` is one at which the core was halted, and let go on `at` there with nothing changed.
    bool went_on(const StepGap& gap, std::optional<std::uint64_t> at) const;

    const Recording* recording_;
    std::uint64_t apart_;  ///< steps between two states that are kept: they take some hundred kilobytes each
    const StepTrail* steps_;
    std::map<std::uint64_t, Machine> kept_;  ///< as they are before the step
    std::map<std::string, std::uint64_t> stopped_;  ///< registers when the recording had stopped
    unsigned float_bits_ = 0;  ///< of the core's floating-point registers, where they are followed
    StoodPlaces stood_;
    bool only_halts_ = false;  ///< tracing stopped for no other reason
    bool has_end_ = false, executed_ = false;  ///< executed_: all was
    std::optional<PastState> end_;                  ///< behind the last step, where that helps
};

}  // namespace mt
