// Instruction trace of every protocol against a small program: whatever the bytes, runs stay in the code, the stack
// stays nested, and pieces give what the whole gives.
#include <cstdlib>
#include <utility>
#include <variant>

#include "flow/call_stack.h"
#include "flow/step_log.h"
#include "flow/step_pipe.h"
#include "replay/rv_machine.h"
#include "replay/thumb_machine.h"

namespace {

using namespace mt;

// A program of many branches: numbers that are code as often as not.
std::vector<std::uint8_t> program() {
    std::vector<std::uint8_t> bytes(2048);
    std::uint32_t state = 12345;
    for (auto& b : bytes) {
        state = state * 1664525 + 1013904223;
        b = static_cast<std::uint8_t>(state >> 24);
    }
    return bytes;
}

struct Enough {};

// Where nothing executes again what ran.
struct NoMachine {
    void execute(std::uint32_t, std::uint64_t, std::uint32_t) {}
    void trap(const StepTrap&, std::uint64_t) {}
    void lose(std::uint64_t) {}
};
using Machine = std::variant<NoMachine, RvMachine, ThumbMachine>;

struct Check {
    const Code& code;
    CallStack stack;
    Machine machine;  ///< what ran is executed again with what is known
    std::uint64_t steps = 0, hash = 0;
    std::vector<std::uint64_t> begins = std::vector<std::uint64_t>(code.slot_count());
    std::vector<std::uint64_t> ends = std::vector<std::uint64_t>(code.slot_count());
    std::size_t depth = 0;
    void run(const StepRun& r) {
        if (r.count == 0 || r.first == Code::kNowhere || r.last >= code.slot_count() || r.first > r.last) std::abort();
        steps += r.count;
        ++begins[r.first];
        ++ends[r.last];
        if (steps > 1 << 20) throw Enough();  // a few bytes may claim millions of instructions
        hash = hash * 31 + r.first * 7 + r.last;
        std::uint32_t slot = r.first;
        for (std::uint32_t k = 0; k < r.count && slot <= r.last; ++k) {
            const std::uint32_t next = slot < r.last ? code.next(slot) : Code::kNowhere;
            std::visit([&](auto& m) { m.execute(slot, steps + k, next); }, machine);
            slot = code.next(slot);
        }
        stack.run(r, *this);
    }
    void trap(const StepTrap& t) {
        std::visit([&](auto& m) { m.trap(t, steps); }, machine);
        stack.trap(t, *this);
    }
    void trap_return() { stack.trap_return(); }
    void gap(const StepGap& g) {
        if (g.reason == nullptr) std::abort();
        std::visit([&](auto& m) { m.lose(steps); }, machine);
        if (g.kind == StepGapKind::stopped)
            stack.pause(*this);
        else
            stack.lose(*this);
    }
    void time(const StepTime&) {}
    void sync(std::uint64_t) {}
    void enter(const CallFrame&, std::uint64_t) { ++depth; }
    void leave(const CallFrame&, std::uint64_t) {
        if (depth-- == 0) std::abort();
    }
};

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    if (size < 3 || size > 4096) return 0;
    static const auto bytes = program();
    // The last two: ETMv4 of an A64 core, ETMv3 of an M-profile one.
    constexpr Protocol protocols[] = {Protocol::etrace, Protocol::etm4, Protocol::ntrace, Protocol::mtb,
                                      Protocol::pft,    Protocol::etm3, Protocol::etm4,   Protocol::etm3};
    const unsigned which = (data[0] & 3u) | (data[0] >> 4 & 4u);
    StreamSpec spec;
    spec.protocol = protocols[which];
    const bool arm_core = which == 1 || which == 3 || which == 7;
    const Image::Piece at_top{0x8000'0000u, 0, bytes, false};
    static const auto riscv = Code::of(std::span(&at_top, 1), "rv32imac");
    const Image::Piece at_zero{0, 0, bytes, false};
    static const auto thumb_at_zero = Code::of(std::span(&at_zero, 1), "armv7e-m");
    static const auto a32_at_zero = Code::of(std::span(&at_zero, 1), "armv7-a");
    static const auto a64_at_zero = Code::of(std::span(&at_zero, 1), "armv8-a");
    const auto code = arm_core ? thumb_at_zero : which == 6 ? a64_at_zero : which >= 4 ? a32_at_zero : riscv;
    spec.pft.return_stack = spec.etm3.alternative_branch = (data[0] & 4) != 0;
    spec.pft.cycle_accurate = spec.etm3.cycle_accurate = (data[0] & 8) != 0;
    spec.pft.context_id_bytes = spec.etm3.context_id_bytes = (data[0] & 16) != 0 ? 2 : 0;
    spec.etm3.data_address = spec.etm3.data_value = (data[0] & 32) != 0;
    spec.etrace.implicit_return = (data[0] & 4) != 0;
    spec.etrace.return_stack_size = (data[0] & 4) != 0 ? 3 : 0;
    spec.etrace.full_address = (data[0] & 8) != 0;
    spec.etrace.bpred_size = (data[0] & 16) != 0 ? 4 : 0;
    spec.etrace.cache_size = (data[0] & 32) != 0 ? 3 : 0;
    spec.etm4.return_stack = (data[0] & 4) != 0;
    spec.ntrace.implicit_return = (data[0] & 4) != 0;
    spec.ntrace.timestamps = (data[0] & 8) == 0;
    spec.etm4.max_speculation = (data[0] & 8) != 0 ? 3 : 0;
    spec.etm4.commit_in_cycles = (data[0] & 16) != 0;
    const std::span<const std::uint8_t> all(data + 1, size - 1);
    const auto functions = std::make_shared<FunctionTable>();
    const auto walked = [&](std::size_t cut) {
        StepPipe pipe(spec, code, {});
        PastMemory memory;
        memory.add_memory(0x2000'0000, 0x2000'0400);
        Check check{*code, CallStack(code, functions),
                    which >= 4 && which < 7 ? Machine(NoMachine())
                    : arm_core ? Machine(ThumbMachine(code, memory, (data[1] & 2) != 0, 0x2000'0400u, false))
                             : Machine(RvMachine(code, memory, (data[1] & 2) != 0))};
        pipe.feed(all.first(cut), check);
        pipe.feed(all.subspan(cut), check);
        pipe.finish(check);
        check.stack.finish(check);
        if (check.depth != 0) std::abort();
        return check;
    };
    try {
        const Check whole = walked(0), cut = walked(data[1] % all.size());
        if (whole.steps != cut.steps || whole.hash != cut.hash) std::abort();
        if ((data[1] & 1) == 0) return 0;
        // In blocks, with hops over what was walked before: as many instructions, each as often.
        std::uint64_t steps = 0;
        StepLog log(
            code, functions,
            [&](std::unique_ptr<StepBlock> block) {
                for (const auto& i : block->items()) steps += i.steps();
                return block;
            },
            7);
        StepPipe pipe(spec, code, {});
        pipe.feed(all, log);
        pipe.finish(log);
        log.flush();
        if (steps != whole.steps || log.counts().begins != whole.begins || log.counts().ends != whole.ends) std::abort();
    } catch (const Enough&) {
    }
    return 0;
}
