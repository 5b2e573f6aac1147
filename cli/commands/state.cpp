#include "command.h"

#include <algorithm>
#include <ostream>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "input.h"
#include "output.h"
#include "replay/past_frame.h"
#include "replay/past_state.h"
#include "replay/step_window.h"
#include "share/state_tables.h"

namespace mt::cli {
namespace {

struct StateOptions : Reading {
    std::string core, at;
    std::optional<std::uint64_t> index;
    std::string change;
    std::vector<std::string> of;
    bool json = false, locals = false;
};

// The next instruction that changes a register or a variable.
int next_change(const StateOptions& o, const Opened& opened, const StepTrail& steps, PastStates& states, std::uint64_t step) {
    PastStates::Watched watched;
    Progress progress;
    const auto past = states.before(step, progress);
    const bool is_register = past && std::any_of(past->registers.begin(), past->registers.end(), [&o](const auto& r) { return r.first == o.change; });
    if (is_register) {
        watched.name = o.change;
    } else {
        const auto place = find_data(opened.recording->target.cores[steps.core_index], o.change);
        if (!place) return fail(place.error());
        watched.address = place->address;
        watched.bytes = static_cast<unsigned>(std::clamp<std::uint64_t>(place->size, 1, 8));
    }
    const auto at = states.next_change(step, watched, progress);
    return o.write(opened, !o.json, [&](std::ostream& out) {
        if (o.json)
            out << nlohmann::ordered_json{{"of", o.change}, {"from", step}, {"changed_by", at ? nlohmann::ordered_json(*at) : nlohmann::ordered_json()}}.dump(2) << "\n";
        else
            out << (at ? o.change + " is changed next by instruction " + count_text(*at) : o.change + " is not changed any more") << "\n";
    });
}

int state(StateOptions& o) {
    const auto at = time_of("--at", o.at);
    if (!at) return fail(at.error());
    if (!o.index && !*at) return fail({"which instruction is not said", "", "give --index N, or --at a time"});
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    const auto steps = steps_of(*opened, o.core);
    if (!steps) return fail(steps.error());
    const std::uint64_t step = o.index ? *o.index : step_at(*opened->recording, **steps, **at);
    if (step >= (*steps)->steps)
        return fail({"there is no instruction " + std::to_string(step), "--index",
                     "they go from 0 to " + std::to_string((*steps)->steps - 1)});
    auto states = PastStates::of(*opened->recording, **steps);
    if (!states) return fail(states.error());
    Progress progress;
    if (!o.change.empty()) return next_change(o, *opened, **steps, *states, step);
    const auto past = states->before(step, progress);
    if (!past) return fail({"the state before instruction " + std::to_string(step) + " cannot be worked out", o.input, "is the recording damaged there?"});
    const CoreSpec& spec = opened->recording->target.cores[(*steps)->core_index];
    const Isa kind = isa_of(spec.isa).value_or(Isa::thumb);
    const FrameState frame = frame_of(*past, kind, *states, *opened->recording, **steps, progress);
    std::optional<Locals> locals;
    if (o.locals || !o.of.empty()) locals.emplace(spec.images());
    std::vector<StateVariable> variables;
    for (const std::string& name : o.of) {
        // As in C: a variable of the function hides one of the program.
        if (const auto local = locals->named(name, past->pc, frame)) {
            if (!*local) return fail(local->error());
            variables.push_back(variable_of(**local));
            continue;
        }
        auto v = variable_in(spec, name, *past->memory);
        if (!v) return fail(v.error());
        variables.push_back(std::move(*v));
    }
    const std::vector<LocalFrame> frames = o.locals ? locals->frames(past->pc, frame, 16) : std::vector<LocalFrame>();
    const auto* shown = o.locals ? &frames : nullptr;
    return o.write(*opened, !o.json, [&](std::ostream& out) {
        if (o.json)
            out << state_json(*past, variables, shown).dump(2, ' ', false, nlohmann::json::error_handler_t::replace) << "\n";
        else
            out << state_text(*past, variables, shown);
    });
}

}  // namespace

void add_state(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "state", "registers and variables as they were before an instruction", state);
    o->add_output(c);
    c.add_option("--core", o->core, "the core, if several are traced");
    CLI::Option* index = c.add_option("--index", o->index, "before this instruction, counted from 0");
    c.add_option("--at", o->at, "before the instruction that ran then: 1500 (ns), 1.5us, 2ms, 3s")->excludes(index);
    c.add_option("--of", o->of, "these variables, too: axis_error, guide.state, s->next, *(uint32_t*)0x20000100");
    c.add_flag("--locals", o->locals, "arguments and local variables of the functions on the stack, too");
    c.add_option("--next-change", o->change, "instead: the next instruction that changes this register or variable");
    c.add_flag("--json", o->json, "as JSON");
}

}  // namespace mt::cli
