// N-Trace messages and the program: which instructions were executed.
// RISC-V N-Trace Specification 1.0, chapters 5 and 6 (branch trace and history trace).
#pragma once

#include <algorithm>
#include <array>
#include <bit>
#include <cstdint>
#include <deque>
#include <memory>
#include <span>
#include <vector>

#include "flow/contexts.h"
#include "flow/hops.h"
#include "flow/steps.h"
#include "wire/ntrace.h"

namespace mt {

/// Follows one hart. Copyable: a copy is a checkpoint. One thread at a time. `Out` as for EtraceFlow.
class NtraceFlow {
  public:
    NtraceFlow(std::shared_ptr<const Code> code, const NtraceParameters& parameters)
        : code_(std::move(code)), parameters_(parameters) {}

    template <class Out>
    void feed(std::span<const NtraceMessage> messages, Out& out) {
        for (const NtraceMessage& m : messages) take(m, out);
    }
    bool waiting() const { return waiting_; }

  private:
    static constexpr std::size_t kMostReturns = 32;
    static constexpr std::uint64_t kMostRepeats = 1 << 20;
    static constexpr std::array<std::uint8_t, 256> kMirrored = [] {
        std::array<std::uint8_t, 256> all{};
        for (unsigned i = 0; i < 256; ++i)
            for (unsigned b = 0; b < 8; ++b) all[i] = static_cast<std::uint8_t>(all[i] | (i >> b & 1) << (7 - b));
        return all;
    }();
    static constexpr std::uint64_t kMostHalfwords = 1 << 24;  ///< more than any I-CNT: such a message is wrong

    // Outcomes of branches not yet walked: `bits` of them, newest in bit 0, `times` over.
    struct History {
        std::uint64_t pattern = 0, times = 1;
        unsigned bits = 0;
    };
    enum class Walk : std::uint8_t { done, contradiction, not_in_image };

    template <class Out>
    void take(const NtraceMessage& m, Out& out);
    template <class Out>
    Walk walk(std::uint64_t halfwords, bool branch_taken, bool jump_told, Out& out);
    template <class Out>
    void lose(const NtraceMessage& m, StepGapKind kind, const char* reason, Out& out);
    template <class Out>
    void begin_at(const NtraceMessage& m, Out& out);
    template <class Out>
    void arrive(const NtraceMessage& m, Walk walked, std::uint64_t address, bool trap, Out& out);

    void push(std::uint32_t back) {
        if (returns_.size() == kMostReturns) returns_.erase(returns_.begin());
        returns_.push_back(back);
    }
    void add_history(std::uint64_t raw, std::uint64_t times) {
        if (raw < 2) return;
        const auto bits = static_cast<unsigned>(std::bit_width(raw)) - 1;  // below the stop bit
        history_.push_back({raw & ((std::uint64_t{1} << bits) - 1), times, bits});
    }
    // The oldest outcomes not yet used, the oldest in bit 0: some of them, at most eight.
    std::uint32_t outcomes(std::uint32_t& bits) const {
        if (history_.empty()) return 0;
        const History& h = history_.front();
        const unsigned left = left_ == 0 ? h.bits : left_, n = std::min(left, 8u);
        const auto oldest = static_cast<std::uint32_t>(h.pattern >> (left - n)) & ((1u << n) - 1);
        bits = kMirrored[oldest] >> (8 - n);
        return n;
    }
    void use(std::uint32_t outcomes) {
        History& h = history_.front();
        if (left_ == 0) left_ = h.bits;
        left_ -= outcomes;
        if (left_ == 0 && --h.times == 0) history_.pop_front();
    }
    // The oldest outcome not yet used; false if there is none.
    bool next_outcome(bool& taken) {
        if (history_.empty()) return false;
        History& h = history_.front();
        if (left_ == 0) left_ = h.bits;
        taken = (h.pattern >> --left_ & 1) != 0;
        if (left_ == 0 && --h.times == 0) history_.pop_front();
        return true;
    }

    std::shared_ptr<const Code> code_;
    NtraceParameters parameters_;
    std::uint32_t pc_ = Code::kNowhere;  ///< next instruction to be executed
    std::uint64_t address_ = 0;          ///< last one sent
    std::uint64_t carried_ = 0;          ///< halfwords told by resource full messages
    std::uint64_t clock_ = 0;
    bool waiting_ = true, any_ = false, by_history_ = false;
    std::deque<History> history_;
    unsigned left_ = 0;  ///< outcomes of the first pattern not yet used in this turn; 0: all
    NtraceMessage last_branch_;
    std::vector<std::uint32_t> returns_;
    Contexts contexts_;
};

template <class Out>
void NtraceFlow::lose(const NtraceMessage& m, StepGapKind kind, const char* reason, Out& out) {
    StepGap gap;
    gap.offset = m.offset;
    gap.length = m.kind == NtraceKind::damage ? m.length : 0;
    gap.address = pc_ == Code::kNowhere || waiting_ ? 0 : code_->address(pc_);
    gap.kind = kind;
    gap.reason = reason;
    if (kind == StepGapKind::not_in_image) gap.process = contexts_.process(*code_);
    out.gap(gap);
    waiting_ = true;
    history_.clear();
    left_ = 0;
    carried_ = 0;
    returns_.clear();
}

template <class Out>
void NtraceFlow::begin_at(const NtraceMessage& m, Out& out) {
    address_ = m.address;
    pc_ = contexts_.slot_of(*code_, m.address);
    history_.clear();
    left_ = 0;
    carried_ = 0;
    returns_.clear();
    any_ = true;
    if (pc_ == Code::kNowhere || (*code_)[pc_].flow == Flow::none) {
        lose(m, StepGapKind::not_in_image, "the image has no code where the trace begins", out);
        return;
    }
    waiting_ = false;
    out.sync(m.offset);
}

// So many halfwords along the program; `branch_taken`: the last instruction is a branch that was taken and told so
// by the message itself; `jump_told`: it is a jump, and the message says where it goes.
template <class Out>
NtraceFlow::Walk NtraceFlow::walk(std::uint64_t halfwords, bool branch_taken, bool jump_told, Out& out) {
    const Code& code = *code_;
    if (halfwords > kMostHalfwords) return Walk::contradiction;
    constexpr bool hops = requires(ReturnStack stack) { out.hop(pc_, halfwords, 1u, stack); };
    while (halfwords > 0) {
        if constexpr (hops) {
            std::uint32_t bits = 0;
            const std::uint32_t n = by_history_ && !branch_taken ? outcomes(bits) : 0;
            if (n > 0) {
                ReturnStack stack;
                stack.calls = stack.ahead = true;
                stack.most_halfwords = halfwords;
                if (parameters_.implicit_return) {
                    stack.returns = &returns_;
                    stack.most = kMostReturns;
                }
                if (const Hop* hop = out.hop(pc_, bits, n, stack)) {
                    halfwords -= hop->halfwords;
                    pc_ = hop->end;
                    use(hop->used);
                    if (parameters_.implicit_return) ReturnStack::follow(*hop, returns_, kMostReturns);
                    continue;
                }
            }
        }
        const Code::Slot& from = code[pc_];
        if (from.flow == Flow::none) return Walk::not_in_image;
        const std::uint32_t last = from.last;
        const Code::Slot& s = code[last];
        const std::uint64_t whole = last + s.size - pc_;
        if (halfwords < whole) {
            const auto behind = pc_ + static_cast<std::uint32_t>(halfwords);
            if (code[behind].last != last) return Walk::contradiction;
            std::uint32_t end = pc_, count = 1;
            while (code.next(end) < behind) {
                end = code.next(end);
                ++count;
            }
            if (code.next(end) != behind) return Walk::contradiction;
            out.run({pc_, end, count});
            pc_ = behind;
            return branch_taken ? Walk::contradiction : Walk::done;
        }
        out.run({pc_, last, from.count});
        halfwords -= whole;
        switch (s.flow) {
            case Flow::branch: {
                bool taken = branch_taken && halfwords == 0;
                if (!taken && by_history_ && !next_outcome(taken)) return Walk::contradiction;
                pc_ = taken ? s.target : last + s.size;
                break;
            }
            case Flow::jump:
            case Flow::call:
                if ((s.flags & FlowInsn::kPush) != 0 && parameters_.implicit_return) push(last + s.size);
                pc_ = s.target;
                break;
            case Flow::next:
            case Flow::barrier:
                pc_ = last + s.size;
                break;
            case Flow::ret:
                if ((halfwords > 0 || !jump_told) && parameters_.implicit_return && !returns_.empty()) {
                    pc_ = returns_.back();
                    returns_.pop_back();
                    break;
                }
                [[fallthrough]];
            default:
                if (s.flow == Flow::trap) pc_ = last;  // the exception that follows is its own
                if ((s.flags & FlowInsn::kPush) != 0 && parameters_.implicit_return) push(last + s.size);
                return halfwords == 0 && !branch_taken ? Walk::done : Walk::contradiction;
        }
        if (branch_taken && halfwords == 0 && s.flow != Flow::branch) return Walk::contradiction;
        if (pc_ == Code::kNowhere) return Walk::not_in_image;
    }
    return Walk::done;
}

// After the walk: the program goes on at `address`.
template <class Out>
void NtraceFlow::arrive(const NtraceMessage& m, Walk walked, std::uint64_t address, bool trap, Out& out) {
    address_ = address;
    if (walked != Walk::done) {
        lose(m, walked == Walk::contradiction ? StepGapKind::contradiction : StepGapKind::not_in_image,
             walked == Walk::contradiction ? "the message does not fit the program"
                                           : "the program went where the image has no code",
             out);
        return;
    }
    if (trap) {
        StepTrap t;
        t.offset = m.offset;
        t.process = contexts_.process(*code_);
        t.epc = pc_ == Code::kNowhere ? 0 : code_->address(pc_);
        t.epc_known = true;
        t.number = StepTrap::kUnknown;
        t.interrupt = m.code == 3;
        out.trap(t);
    }
    pc_ = contexts_.slot_of(*code_, address);
    if (pc_ == Code::kNowhere || (*code_)[pc_].flow == Flow::none)
        lose(m, StepGapKind::not_in_image, "the program went where the image has no code", out);
}

template <class Out>
void NtraceFlow::take(const NtraceMessage& m, Out& out) {
    if (m.has_timestamp) {
        clock_ = m.full_address() ? m.timestamp : clock_ + m.timestamp;
    }
    const auto tell_time = [&] {
        const auto sent = static_cast<std::uint8_t>(m.full_address() ? 64 : 0);
        if (m.has_timestamp) out.time({m.offset, clock_, 0, StepTime::Kind::timestamp, sent});
    };
    const std::uint64_t ran = m.icount + carried_;
    const bool branches =
        m.kind == NtraceKind::indirect_branch || m.kind == NtraceKind::history || m.kind == NtraceKind::direct_branch;
    switch (m.kind) {
        case NtraceKind::damage:
            lose(m, any_ ? StepGapKind::damaged : StepGapKind::lead_in, "bytes that are no message", out);
            return;
        case NtraceKind::error:
            tell_time();
            lose(m, StepGapKind::lost, "the encoder's queue overran", out);
            return;
        case NtraceKind::resource_full:
            if (waiting_) return;
            if (m.code == 0)
                carried_ += m.history;
            else
                add_history(m.history, m.code == 2 ? std::min(std::max<std::uint64_t>(m.icount, 1), kMostRepeats) : 1);
            if (m.code != 0) by_history_ = true;
            return;
        case NtraceKind::repeat: {
            if (waiting_ || last_branch_.offset == m.offset || last_branch_.icount == 0) return;
            for (std::uint64_t i = 0; i < std::min(m.icount, kMostRepeats) && !waiting_; ++i) {
                NtraceMessage again = last_branch_;
                again.has_timestamp = false;
                again.offset = m.offset;
                again.address = 0;  // the same target: nothing in it changes
                take(again, out);
            }
            tell_time();
            return;
        }
        case NtraceKind::ownership: {
            tell_time();
            const NtraceOwner owner = ntrace_owner(m.history);
            contexts_.privilege(owner.privilege, m.offset, out);
            if (owner.kind == NtraceOwner::Kind::process) contexts_.context(static_cast<std::uint32_t>(owner.context), m.offset, out);
            if (owner.kind == NtraceOwner::Kind::machine) contexts_.virtual_machine(static_cast<std::uint32_t>(owner.context), m.offset, out);
            return;
        }
        case NtraceKind::data_acquisition:
            tell_time();
            if (any_) tell_data(out, StepData{m.offset, m.history, static_cast<std::uint32_t>(m.icount)});
            return;
        default:
            break;
    }
    if (waiting_) {
        if (!m.full_address()) return;
        tell_time();
        begin_at(m, out);
        return;
    }
    if (m.has_history) {
        by_history_ = true;
        add_history(m.history, 1);
    }
    carried_ = 0;
    const bool direct = m.kind == NtraceKind::direct_branch || m.kind == NtraceKind::direct_branch_sync;
    const bool jump_told =
        m.code == 0 && (m.kind == NtraceKind::indirect_branch || m.kind == NtraceKind::history ||
                        m.kind == NtraceKind::indirect_branch_sync || m.kind == NtraceKind::history_sync);
    const Walk walked = walk(ran, direct, jump_told, out);
    tell_time();
    if (branches) last_branch_ = m;
    switch (m.kind) {
        case NtraceKind::direct_branch:
            if (walked != Walk::done) arrive(m, walked, address_, false, out);
            break;
        case NtraceKind::indirect_branch:
        case NtraceKind::history:
            arrive(m, walked, address_ ^ m.address, m.code != 0, out);
            break;
        case NtraceKind::indirect_branch_sync:
        case NtraceKind::history_sync:
            arrive(m, walked, m.address, m.code != 0, out);
            if (waiting_)
                begin_at(m, out);
            else
                out.sync(m.offset);
            break;
        case NtraceKind::sync:
        case NtraceKind::direct_branch_sync:
            if (walked == Walk::done && pc_ == contexts_.slot_of(*code_, m.address)) {
                address_ = m.address;
                out.sync(m.offset);
            } else {
                lose(m, StepGapKind::contradiction, "the synchronisation is not where the program was", out);
                begin_at(m, out);
            }
            break;
        case NtraceKind::correlation:
            if (walked != Walk::done)
                arrive(m, walked, address_, false, out);
            else
                lose(m, StepGapKind::stopped, "tracing was switched off", out);
            break;
        default:
            break;
    }
}

}  // namespace mt
