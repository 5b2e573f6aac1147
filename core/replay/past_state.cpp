#include "replay/past_state.h"

#include <algorithm>
#include <cstdlib>

#include <nlohmann/json.hpp>

#include "base/mapped_file.h"
#include "base/read_file.h"
#include "base/search.h"
#include "replay/step_window.h"

namespace mt {
namespace {

constexpr std::uint64_t kLeastApart = std::uint64_t{1} << 16, kMostKept = 512;
constexpr std::size_t kMostStopped = std::size_t{256} << 20;

// Whether another core writes to the same memory: what stands there is then nobody's alone.
bool shares_memory(const Recording& recording, std::size_t core) {
    for (std::size_t other = 0; other < recording.images.size(); ++other) {
        if (other == core || recording.images[other] == nullptr) continue;
        for (const Image::Piece& a : recording.images[core]->pieces())
            for (const Image::Piece& b : recording.images[other]->pieces())
                if (a.writable && b.writable && a.address < b.address + b.bytes.size() && b.address < a.address + a.bytes.size())
                    return true;
    }
    return false;
}

std::uint64_t first_address(const Recording& recording, const StepTrail& steps) {
    std::uint64_t address = ~std::uint64_t{0};
    each_step_piece(recording, steps, 0, [&](const StepPiece& p) {
        address = steps.code->address(p.run.first);
        return false;
    });
    return address;
}

// Registers of a machine by their names, as states show them.
template <class Machine>
struct RiscvRegisters {
    static constexpr unsigned kWhole = 31, kCount = kWhole + 32;
    static std::string name(unsigned n) { return n < kWhole ? "x" + std::to_string(n + 1) : "f" + std::to_string(n - kWhole); }
    static const Known& value(const Machine& m, unsigned n) { return n < kWhole ? m.x(n + 1) : m.floats().f(n - kWhole); }
};
struct ArmRegisters {
    static constexpr unsigned kCount = 15;
    static std::string name(unsigned n) { return n == 13 ? "sp" : n == 14 ? "lr" : "r" + std::to_string(n); }
    static const Known& value(const ArmCore& m, unsigned n) { return m.r(n); }
};
struct A64Registers {
    static constexpr unsigned kCount = 32;
    static std::string name(unsigned n) { return n == 31 ? "sp" : "x" + std::to_string(n); }
    static const Known& value(const A64Machine& m, unsigned n) { return m.x(n); }
};
template <class Machine>
struct RegistersOf;
template <>
struct RegistersOf<RvMachine> : RiscvRegisters<RvMachine> {};
template <>
struct RegistersOf<Rv64Machine> : RiscvRegisters<Rv64Machine> {};
template <>
struct RegistersOf<ThumbMachine> : ArmRegisters {};
template <>
struct RegistersOf<ArmMachine> : ArmRegisters {};
template <>
struct RegistersOf<A64Machine> : A64Registers {};

// `float_bits`: of the core's floating-point registers, where they are followed; 0: it has none.
template <class Machine>
std::vector<std::pair<std::string, Known>> registers_of(const Machine& m, unsigned float_bits) {
    using Registers = RegistersOf<Machine>;
    unsigned count = Registers::kCount;
    if constexpr (requires { Registers::kWhole; })
        if (float_bits == 0) count = Registers::kWhole;
    std::vector<std::pair<std::string, Known>> all;
    for (unsigned n = 0; n < count; ++n) all.emplace_back(Registers::name(n), Registers::value(m, n));
    if constexpr (requires { Registers::kWhole; })
        for (unsigned n = Registers::kWhole; n < count; ++n)
            if (float_bits == 32) all[n].second.value &= 0xFFFF'FFFF;
    return all;
}

// "rv32imafc": single precision alone; d and g have double.
unsigned float_bits_of(const std::string& isa) {
    if (isa.rfind("rv", 0) != 0 || isa.size() < 5) return 0;
    const std::string letters = isa.substr(4, isa.find_first_of("_z", 4) - 4);
    return letters.find_first_of("dg") != std::string::npos ? 64 : letters.find('f') != std::string::npos ? 32 : 0;
}
template <class Machine>
Known register_of(const Machine& m, unsigned n) {
    return n < RegistersOf<Machine>::kCount ? RegistersOf<Machine>::value(m, n) : Known{};
}
template <class Machine>
unsigned number_of(const std::string& name) {
    unsigned n = 0;
    while (n < RegistersOf<Machine>::kCount && RegistersOf<Machine>::name(n) != name) ++n;
    return n;
}

// What trace tells of the core itself, for machines to which that means something.
template <class Machine>
void tell_core(Machine& m, const StepData& data, bool has_processes, std::uint64_t step) {
    if constexpr (requires { m.level(0U); }) {
        if (data.tag == StepData::kLevel) m.level(static_cast<unsigned>(data.value));
        if (data.tag == StepData::kContext && has_processes) m.change_process(step);
    }
}

// {"registers": {"x1": "0x…", …}}
Result<std::map<std::string, std::uint64_t>> read_registers(const CoreSpec::State& state, const std::string& isa) {
    std::map<std::string, std::uint64_t> all;
    if (state.registers.empty()) return all;
    const auto text = read_small_file(state.registers, 1'000'000, "registers");
    if (!text) return tl::make_unexpected(text.error());
    const auto json = nlohmann::json::parse(*text, nullptr, false);
    if (!json.is_object() || !json.contains("registers") || !json["registers"].is_object())
        return failure("it holds no registers", state.registers, "it is to be {\"registers\": {\"x1\": \"0x…\", …}}");
    const bool wide = address_bits(isa_of(isa).value_or(Isa::thumb)) == 64;
    for (const auto& [name, value] : json["registers"].items()) {
        const std::string digits = value.is_string() ? value.get<std::string>() : std::string();
        char* end = nullptr;
        const std::uint64_t v = std::strtoull(digits.c_str(), &end, 16);
        if (digits.empty() || *end != 0)
            return failure("register '" + name + "' has no value such as \"0x1f\"", state.registers);
        all[name] = wide || name[0] == 'f' ? v : v & 0xFFFF'FFFF;
    }
    return all;
}

// Where the trail brings it along, while it is recorded, it is there already.
Result<std::map<std::string, std::uint64_t>> stopped_registers(const StepTrail& steps, const CoreSpec& core) {
    if (steps.stands) return steps.stands->registers;
    return read_registers(core.stopped, core.isa);
}

template <class Take>
Result<void> each_memory(const CoreSpec::State& state, Take take) {
    for (const CoreSpec::State::Memory& m : state.memory) {
        const auto file = MappedFile::open(m.file);
        if (!file) return tl::make_unexpected(file.error());
        const auto bytes = (*file)->bytes();
        if (bytes.size() > kMostStopped) return failure("memory of more than 256 MiB", m.file, "name smaller ranges");
        take(m.address, bytes);
    }
    return {};
}

// How often tracing stopped and went on.
std::uint64_t times_stopped(const StepTrail& steps) {
    std::uint64_t times = 0;
    for (std::size_t i = 0; i < steps.gaps.size(); ++i)
        if (const StepGapAt& g = steps.gaps[i]; g.step > 0 && g.step < steps.steps && g.gap.kind == StepGapKind::stopped) ++times;
    return times;
}

// Whether a core that stands at `pc` can have come there from the last instruction, as far as its kind says. Behind a loss
// nobody knows.
bool ends_at(const Recording& recording, const StepTrail& steps, std::uint64_t pc) {
    const Code& code = *steps.code;
    if (!steps.gaps.empty() && steps.gaps[steps.gaps.size() - 1].step >= steps.steps && is_missing(steps.gaps[steps.gaps.size() - 1].gap.kind)) return false;
    if (!steps.traps.empty() && steps.traps[steps.traps.size() - 1].step >= steps.steps) return true;  // in its handler
    std::uint32_t last = Code::kNowhere;
    each_step_piece(recording, steps, steps.steps - 1, [&](const StepPiece& p) {
        last = p.run.first;
        for (std::uint32_t n = 1; n < p.run.count; ++n) last = code.next(last);
        return true;
    });
    if (last == Code::kNowhere) return false;
    const Code::Slot& slot = code[last];
    const std::uint64_t at = pc & ~std::uint64_t{1}, behind = code.address(last) + std::uint64_t{slot.size} * 2;
    switch (slot.flow) {
        case Flow::next:
        case Flow::barrier:
            return at == behind;
        case Flow::branch:
        case Flow::jump:
        case Flow::call:
            return at == behind || (slot.target != Code::kNowhere && at == code.address(slot.target));
        default:
            return true;
    }
}

// With what a debugger read before the first instruction, if that is the one before which it stood and nothing is missing
// before it.
template <class Machine>
Result<void> begin_as_it_stood(Machine& machine, const CoreSpec& core, const StepTrail& steps, std::uint64_t first) {
    if (core.began.empty()) return {};
    const auto registers = read_registers(core.began, core.isa);
    if (!registers) return tl::make_unexpected(registers.error());
    const auto pc = registers->find("pc");
    const bool missing = !steps.gaps.empty() && steps.gaps[0].step == 0 && is_missing(steps.gaps[0].gap.kind);
    if (!steps.traps.empty() && steps.traps[0].step == 0) {  // it went to a handler before it executed anything
        if (!steps.traps[0].trap.epc_known) return {};
        first = steps.traps[0].trap.epc;
    }
    if (pc == registers->end() || ((pc->second ^ first) & ~std::uint64_t{1}) != 0 || steps.lead_in > 0 || missing) return {};
    if constexpr (requires { machine.begin(*registers); }) machine.begin(*registers);
    return each_memory(core.began, [&](std::uint64_t address, std::span<const std::uint8_t> bytes) { machine.memory().add_began(address, bytes); });
}

// Nothing is known before `from` but what trace tells of the core itself.
template <class Machine>
void begin_at(Machine& machine, const StepTrail& steps, std::uint64_t from) {
    constexpr std::size_t kMostBack = 1'000'000;  // further back it takes too long to look
    machine.lose(from);
    std::size_t i = first_false(0, steps.data.size(), [&](std::size_t n) { return steps.data[n].step < from; });
    for (std::size_t n = 0; i-- > 0 && n < kMostBack; ++n)
        if (steps.data[i].data.tag == StepData::kLevel) return tell_core(machine, steps.data[i].data, false, from);
}

}  // namespace

Result<PastStates> PastStates::of(const Recording& recording, const StepTrail& steps, std::uint64_t from) {
    const auto& image = recording.images[steps.core_index];
    if (!steps.code || !image || steps.steps == 0)
        return failure("there are no instructions of core '" + steps.core + "'", steps.file, "give its image and its trace");
    const std::string& isa = recording.target.cores[steps.core_index].isa;
    const bool shared = shares_memory(recording, steps.core_index);
    const std::uint64_t first = first_address(recording, steps);
    const auto made = [&](auto machine) -> Result<PastStates> {
        if (from == 0)
            if (auto taken = begin_as_it_stood(machine, recording.target.cores[steps.core_index], steps, first); !taken) return tl::make_unexpected(taken.error());
        PastStates states(recording, steps, machine);
        states.float_bits_ = std::max(float_bits_of(isa), float_bits_of(image->isa()));
        if (auto taken = states.take_stopped(recording.target.cores[steps.core_index], machine.memory()); !taken)
            return tl::make_unexpected(taken.error());
        if (auto taken = states.take_stood(recording.target.cores[steps.core_index]); !taken) return tl::make_unexpected(taken.error());
        if (from > 0) begin_at(machine, steps, from);
        constexpr std::uint64_t kFarEnd = 10'000'000;  // instructions up to it would take too long for a part
        if (from > 0 && steps.steps - from > kFarEnd) states.has_end_ = false;
        states.kept_.clear();
        states.kept_.emplace(from, std::move(machine));
        return states;
    };
    if (isa.rfind("rv32", 0) == 0)
        return made(RvMachine(steps.code, PastMemory(*image, first == image->entry()), shared));
    if (isa.rfind("rv64", 0) == 0)
        return made(Rv64Machine(steps.code, PastMemory(*image, first == image->entry()), shared));
    if (isa_of(isa) == Isa::a64) {
        const bool at_reset = first == image->entry();
        return made(A64Machine(steps.code, PastMemory(*image, at_reset), at_reset, shared));
    }
    if (isa_of(isa) == Isa::arm) {
        const bool at_reset = first == (image->entry() & ~std::uint64_t{1});
        return made(ArmMachine(steps.code, PastMemory(*image, at_reset), at_reset, shared));
    }
    if (isa == "armv6-m" || isa == "armv7-m" || isa == "armv7e-m") {
        // B1.5.5: the stack and the first instruction come from the vector table.
        std::optional<std::uint32_t> stack;
        bool at_reset = first == (image->entry() & ~std::uint64_t{1});
        if (const auto table = image->vector_table()) {
            stack = image->word_at(*table);
            if (const auto reset = image->word_at(*table + 4)) at_reset = first == (*reset & ~1u);
        }
        return made(ThumbMachine(steps.code, PastMemory(*image, at_reset), at_reset, stack, shared));
    }
    return failure("the past state of core '" + steps.core + "' cannot be worked out", steps.file,
                   "it can for Armv6-M, Armv7-M, A and R profile, RV32 and RV64");
}

Result<void> PastStates::take_stopped(const CoreSpec& core, PastMemory& memory) {
    auto registers = stopped_registers(*steps_, core);
    if (!registers) return tl::make_unexpected(registers.error());
    stopped_ = std::move(*registers);
    const auto pc = stopped_.find("pc");
    const StepGapAt* const last = steps_->gaps.empty() ? nullptr : &steps_->gaps[steps_->gaps.size() - 1];
    const bool told = last != nullptr && last->step >= steps_->steps && last->gap.kind == StepGapKind::stopped;
    // Each time that the core went on is to be in the trail, or something else may have run since.
    const bool late = steps_->stands && !(steps_->stood && steps_->stood->complete && times_stopped(*steps_) == steps_->stood->times);
    if (late || ((core.stopped.told || steps_->stands) && !told) || (pc != stopped_.end() && !ends_at(*recording_, *steps_, pc->second))) {
        stopped_.clear();  // what ran between is not known
        return {};
    }
    has_end_ = !stopped_.empty() || !core.stopped.memory.empty();
    if (steps_->stands) {
        for (const auto& [address, bytes] : steps_->stands->memory) memory.add_stopped(address, bytes);
        return {};
    }
    return each_memory(core.stopped, [&](std::uint64_t address, std::span<const std::uint8_t> bytes) {
        memory.add_stopped(address, {bytes.begin(), bytes.end()});
    });
}

// A gap at which the core was halted and let go on at `address`, with nothing changed.
bool PastStates::went_on(const StepGap& gap, std::optional<std::uint64_t> at) const {
    if (gap.kind != StepGapKind::stopped || !at) return false;
    const bool told = std::string_view(gap.reason) == kCoreHalted;
    if (told && steps_->untouched && gap.address == *at) return true;
    const auto place = stood_.at.find(*at & ~std::uint64_t{1});
    return (told || only_halts_) && place != stood_.at.end() && place->second.changed == 0;
}

Result<void> PastStates::take_stood(const CoreSpec& core) {
    if (steps_->stood) {
        stood_ = *steps_->stood;
    } else if (!core.stood.empty()) {
        auto read = read_stood(core.stood);
        if (!read) return tl::make_unexpected(read.error());
        stood_ = std::move(*read);
    }
    if (!stood_.complete) stood_.at.clear();
    // Where tracing stops for other reasons, too, it does so more often than the core stood.
    only_halts_ = times_stopped(*steps_) <= stood_.times;
    return {};
}

PastStates::PastStates(const Recording& recording, const StepTrail& steps, Machine first)
    : recording_(&recording), apart_(std::max(kLeastApart, steps.steps / kMostKept)), steps_(&steps) {
    kept_.emplace(0, std::move(first));
}

std::optional<PastState> PastStates::before(std::uint64_t step, Progress& progress) {
    return state_at(step, Upto::instruction, progress);
}

std::optional<PastState> PastStates::as_left(std::uint64_t step, Progress& progress) {
    return state_at(step, Upto::exception, progress);
}

std::optional<PastState> PastStates::state_at(std::uint64_t step, Upto upto, Progress& progress) {
    if (!end_ && has_end_ && !execute_all(progress)) return std::nullopt;
    auto state = run_to(step, upto, progress);
    if (state && end_) learn_from_end(*state);
    return state;
}

void PastStates::learn_copies() const {
    for (const auto& [name, value] : end_->registers) {
        const auto stopped = stopped_.find(name);
        if (stopped != stopped_.end() && !value.known) end_->memory->learn(value, stopped->second);
    }
    end_->memory->learn_stopped();
}

// A register keeps its value back to its last write, memory back to the last store.
void PastStates::learn_from_end(PastState& state) const {
    for (std::size_t i = 0; i < state.registers.size(); ++i) {
        auto& [name, value] = state.registers[i];
        const std::uint64_t last = end_->registers[i].second.set_at;
        const auto stopped = stopped_.find(name);
        // Which stack pointer is in use changes without a write to either.
        if (name == "sp" || value.known || stopped == stopped_.end() || (last != Known::kNever && last >= state.step)) continue;
        value.value = stopped->second;
        value.known = true;
    }
    auto memory = std::make_shared<PastMemory>(*state.memory);
    memory->learn_from(*end_->memory, state.step);
    state.memory = std::move(memory);
}

PastStates::Start PastStates::start_before(std::uint64_t step) const {
    const auto at = std::prev(kept_.upper_bound(step));
    Start start{at->first, at == kept_.begin(), at->second};
    std::visit([](auto& m) { m.resolve(); }, start.machine);
    return start;
}

std::optional<PastState> PastStates::run_to(std::uint64_t step, Upto upto, Progress& progress) {
    // A state that was kept is one behind an exception.
    const bool earlier = upto == Upto::exception && step > kept_.begin()->first;
    return run(start_before(earlier ? step - 1 : step), step, upto, progress, &kept_, {});
}

std::uint64_t PastStates::distance(std::uint64_t step) const {
    const std::uint64_t to_end = has_end_ && !end_ ? steps_->steps - std::prev(kept_.end())->first : 0;
    return to_end + step - std::prev(kept_.upper_bound(step))->first;
}

std::optional<PastState> PastStates::glimpse(std::uint64_t step, std::uint64_t reach, Progress& progress) const {
    const std::uint64_t first = kept_.begin()->first;
    Start start{step - first > reach ? step - reach : first, true, kept_.begin()->second};
    if (start.step > first) std::visit([&](auto& m) { begin_at(m, *steps_, start.step); }, start.machine);
    return run(std::move(start), step, Upto::instruction, progress);
}

bool PastStates::execute_all(Progress& progress) {
    if (has_end_ && !end_) {
        end_ = run_to(steps_->steps, Upto::instruction, progress);
        if (end_) learn_copies();
        executed_ = end_.has_value();
    }
    if (!executed_) executed_ = run_to(steps_->steps, Upto::instruction, progress).has_value();
    return executed_;
}

std::optional<std::uint64_t> PastStates::next_change(std::uint64_t step, const Watched& watched, Progress& progress) {
    const unsigned number = std::visit([&]<class M>(const M&) { return number_of<M>(watched.name); }, kept_.begin()->second);
    const auto value_of = [&](const Machine& machine) {
        if (watched.name.empty())
            return std::visit([&](const auto& m) { return m.memory().read(watched.address, watched.bytes); }, machine);
        return std::visit([&](const auto& m) { return register_of(m, number); }, machine);
    };
    std::optional<Known> before;
    std::optional<std::uint64_t> changed;
    run(start_before(step), steps_->steps, Upto::instruction, progress, &kept_, [&](const Machine& machine, std::uint64_t executed) {
        if (executed + 1 < step) return true;
        const Known now = value_of(machine);
        if (executed >= step && before && now.set_at == executed && !(now.known && before->known && now.value == before->value)) {
            changed = executed;
            return false;
        }
        before = now;
        return true;
    });
    return changed;
}

std::optional<PastState> PastStates::run(Start start, std::uint64_t step, Upto upto, Progress& progress,
                                         std::map<std::uint64_t, Machine>* keep,
                                         const std::function<bool(const Machine&, std::uint64_t)>& each) const {
    Machine& machine = start.machine;
    std::uint64_t now = start.step;  // the step that is executed next
    const Code& code = *steps_->code;
    const auto& traps = steps_->traps;
    const auto& gaps = steps_->gaps;
    const auto& told = steps_->data;
    const std::uint64_t undone = start.first ? now : now + 1;
    const auto first_of = [&](const auto& all) { return first_false(0, all.size(), [&](std::size_t i) { return all[i].step < undone; }); };
    std::size_t trap = first_of(traps), gap = first_of(gaps), tell = first_of(told);
    std::size_t trap_ahead = trap, gap_ahead = gap;
    std::uint64_t keep_at = keep != nullptr ? (now / apart_ + 1) * apart_ : Known::kNever;
    // A piece is executed once the next one is there: that says which way its last instruction went.
    std::optional<StepPiece> waiting;
    std::optional<PastState> out;
    bool over = false;
    std::uint32_t last = Code::kNowhere;  // what was executed last
    // Where the program goes on that comes to `p`: there, or where an exception took it away.
    const auto goes_on_at = [&](const StepPiece& p) -> std::optional<std::uint64_t> {
        if (trap == traps.size() || traps[trap].step > now) return code.address(p.run.first);
        if (traps[trap].trap.epc_known) return traps[trap].trap.epc;
        const bool straight = last != Code::kNowhere && (code[last].flow == Flow::next || code[last].flow == Flow::barrier);
        return straight ? std::optional(code.address(code.next(last))) : std::nullopt;
    };
    const auto finish = [&](const StepPiece& at) {
        PastState s;
        s.step = step;
        std::uint32_t slot = at.run.first;
        for (std::uint64_t i = at.step; i < step; ++i) slot = code.next(slot);
        s.time = step < at.step + at.run.count ? at.time_of(static_cast<std::uint32_t>(step - at.step)) : at.end;
        s.pc = slot < code.slot_count() ? code.address(slot) : 0;
        std::visit(
            [&s, this](const auto& m) {
                s.registers = registers_of(m, float_bits_);
                if constexpr (requires { m.flags(); }) s.flags = m.flags();
                s.memory = std::make_shared<const PastMemory>(m.memory());
            },
            machine);
        out = std::move(s);
        over = true;
    };
    // Executes `p` up to the wanted step, or to its end; `next`: the slot that follows it.
    const auto execute = [&](const StepPiece& p, std::uint32_t next) {
        std::uint32_t slot = p.run.first;
        for (std::uint64_t at = p.step; at < now; ++at) slot = code.next(slot);
        if (now == p.step) {  // what came before its first instruction
            for (; gap < gaps.size() && gaps[gap].step <= now; ++gap)
                if (is_missing(gaps[gap].gap.kind) || (now > 0 && !went_on(gaps[gap].gap, goes_on_at(p))))
                    std::visit([&](auto& m) { m.lose(now); }, machine);
            if (now == step && upto == Upto::exception) return finish(p);
            const auto trap_here = [&] { return trap < traps.size() && traps[trap].step <= now; };
            const auto told_here = [&] { return tell < told.size() && told[tell].step <= now; };
            while (trap_here() || told_here()) {  // as they stand in the trace
                if (trap_here() && (!told_here() || traps[trap].trap.offset <= told[tell].data.offset)) {
                    std::visit([&](auto& m) { m.trap(traps[trap].trap, now); }, machine);
                    ++trap;
                } else {
                    std::visit([&](auto& m) { tell_core(m, told[tell].data, code.has_contexts(), now); }, machine);
                    ++tell;
                }
            }
        }
        std::visit(
            [&](auto& m) {
                for (const std::uint64_t end = p.step + p.run.count; now < end; ++now) {
                    if (now == step) {
                        m.settle(now);
                        return finish(p);
                    }
                    if (now == keep_at) {
                        keep->emplace(now, m);
                        keep_at += apart_;
                    }
                    const std::uint32_t behind = code.next(slot);
                    m.execute(slot, now, now + 1 < end ? behind : next);
                    last = slot;
                    slot = behind;
                    if (each && !each(machine, now)) {
                        over = true;
                        return;
                    }
                }
            },
            machine);
    };
    each_step_piece(*recording_, *steps_, now, [&](const StepPiece& p) {
        if (progress.cancelled()) return false;
        if (waiting) {
            while (trap_ahead < traps.size() && traps[trap_ahead].step < p.step) ++trap_ahead;
            while (gap_ahead < gaps.size() && gaps[gap_ahead].step < p.step) ++gap_ahead;
            const bool straight = (trap_ahead == traps.size() || traps[trap_ahead].step > p.step) &&
                                  (gap_ahead == gaps.size() || gaps[gap_ahead].step > p.step);
            execute(*waiting, straight ? p.run.first : Code::kNowhere);
        }
        waiting = p;
        return !over;
    });
    if (over || !waiting || progress.cancelled()) return out;
    execute(*waiting, Code::kNowhere);
    if (!over && step == steps_->steps) finish(*waiting);
    return out;
}

}  // namespace mt
