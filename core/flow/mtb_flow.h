// Micro Trace Buffer packets and the program: which instructions were executed. DDI 0486, 2.2.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <span>

#include "flow/steps.h"
#include "wire/mtb.h"

namespace mt {

/// Follows one core. Between two packets every branch was not taken, so the way is known. The buffer does not tell
/// exception numbers: they come from `handlers` (address to number, unique ones only). Copyable: a copy is a
/// checkpoint. One thread at a time. `Out` as for EtraceFlow.
class MtbFlow {
  public:
    MtbFlow(std::shared_ptr<const Code> code, std::map<std::uint64_t, unsigned> handlers)
        : code_(std::move(code)), handlers_(std::move(handlers)) {}

    template <class Out>
    void feed(std::span<const MtbPacket> packets, Out& out) {
        for (const MtbPacket& p : packets) take(p, out);
    }

    /// Whether the program has instructions at both ends, and one that branches at the first, but for exceptions.
    static bool possible(const MtbPacket& p, const Code& code) {
        const Flow from = code[code.slot_of(p.source)].flow, to = code[code.slot_of(p.destination)].flow;
        const bool leaves =
            p.start || is_return_value(p.source | 1) || (from != Flow::none && (p.atomic || from != Flow::next));
        return leaves && (is_return_value(p.destination | 1) || to != Flow::none);
    }
    static bool is_return_value(std::uint32_t address) { return address >= 0xFFFF'FFE0; }  // EXC_RETURN (B1.5.8)

  private:
    template <class Out>
    bool walk(std::uint32_t source, bool including, Out& out);
    template <class Out>
    void take(const MtbPacket& p, Out& out);

    std::shared_ptr<const Code> code_;
    std::map<std::uint64_t, unsigned> handlers_;
    std::uint32_t pc_ = Code::kNowhere;
    bool waiting_ = true, any_ = false, returning_ = false;
};

template <class Out>
bool MtbFlow::walk(std::uint32_t source, bool including, Out& out) {
    const Code& code = *code_;
    const std::uint32_t to = code.slot_of(source);
    if (to == Code::kNowhere) return false;
    while (including || pc_ != to) {
        const Code::Slot& from = code[pc_];
        if (from.flow == Flow::none) return false;
        const std::uint32_t last = from.last;
        if (to >= pc_ && to <= last && code[to].last == last) {
            if (including) {
                out.run({pc_, to, from.count - code[to].count + 1});
                pc_ = to;
                return true;
            }
            std::uint32_t end = pc_;
            while (code.next(end) < to) end = code.next(end);
            if (code.next(end) != to) return false;
            out.run({pc_, end, from.count - code[to].count});
            pc_ = to;
            return true;
        }
        // The buffer takes changes of the flow: going to the very next instruction, however it is done, is none.
        const Code::Slot& s = code[last];
        const bool goes_on = (s.flags & FlowInsn::kConditional) != 0 || s.flow == Flow::barrier ||
                             s.flow == Flow::indirect || s.flow == Flow::indirect_call || s.flow == Flow::ret ||
                             (s.target != Code::kNowhere && s.target == last + s.size);
        if (!goes_on) return false;
        out.run({pc_, last, from.count});
        pc_ = last + s.size;
    }
    return true;
}

template <class Out>
void MtbFlow::take(const MtbPacket& p, Out& out) {
    const auto lose = [&](StepGapKind kind, const char* reason) {
        StepGap gap;
        gap.offset = p.offset;
        gap.length = 8;
        gap.address = waiting_ || pc_ == Code::kNowhere ? 0 : code_->address(pc_);
        gap.kind = kind;
        gap.reason = reason;
        out.gap(gap);
        waiting_ = true;
    };
    if (p.skipped > 0) lose(any_ ? StepGapKind::damaged : StepGapKind::lead_in, "bytes that are no packet");
    if (!possible(p, *code_)) {
        lose(StepGapKind::not_in_image, "the program went where the image has no code, or from where nothing branches");
        return;
    }
    if (p.start && any_) lose(StepGapKind::stopped, "tracing was off");
    const bool from_return = is_return_value(p.source | 1);
    if (!waiting_ && !returning_) {
        if (from_return || !walk(p.source, !p.atomic, out))
            lose(StepGapKind::contradiction, "the branch is not on the way that the program went");
    } else if (!waiting_ && !from_return) {
        lose(StepGapKind::contradiction, "an exception return is missing");
    }
    if (waiting_ && !p.atomic) {
        // The first packet: where it branches from was executed, what came before is not known.
        const std::uint32_t at = code_->slot_of(p.source);
        if (at != Code::kNowhere && (*code_)[at].flow != Flow::none) out.run({at, at, 1});
    }
    out.sync(p.offset);
    any_ = true;
    returning_ = false;
    if (is_return_value(p.destination)) {  // where it returns to, the next packet tells
        waiting_ = false;
        returning_ = true;
        out.trap_return();
        return;
    }
    // From an exception return straight into another handler: the next exception, if it is one that is known.
    if (p.atomic && (!from_return || handlers_.count(p.destination) != 0)) {
        StepTrap trap;
        trap.offset = p.offset;
        trap.epc = p.source;
        trap.epc_known = !from_return;
        trap.tail_chained = from_return;
        const auto found = handlers_.find(p.destination);
        trap.number = found == handlers_.end() ? StepTrap::kUnknown : found->second;
        trap.interrupt = found != handlers_.end() && found->second >= 15;
        out.trap(trap);
    }
    pc_ = code_->slot_of(p.destination);
    waiting_ = false;
    if (pc_ == Code::kNowhere || (*code_)[pc_].flow == Flow::none)
        lose(StepGapKind::not_in_image, "the program went where the image has no code");
}

}  // namespace mt
