// Efficient Trace packets and the program: which instructions were executed.
// Efficient Trace for RISC-V Specification 2.0, chapter 11 (decoder), at the pace of straight runs.
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "flow/contexts.h"
#include "flow/hops.h"
#include "flow/steps.h"
#include "wire/etrace.h"

namespace mt {

/// Follows one hart. Copyable: a copy is a checkpoint. One thread at a time. After anything that does not fit
/// it waits for the next synchronisation and tells of a gap.
///
/// `Out` has run(const StepRun&), trap(const StepTrap&), trap_return(): the program leaves a handler (only where no
/// instruction tells), gap(const StepGap&), time(const StepTime&) and sync(std::uint64_t offset): decoding could
/// begin afresh at this packet.
class EtraceFlow {
  public:
    EtraceFlow(std::shared_ptr<const Code> code, const EtraceParameters& parameters);

    template <class Out>
    void feed(std::span<const EtracePacket> packets, Out& out) {
        for (const EtracePacket& p : packets) take(p, out);
    }
    /// Whether the next sync packet starts afresh.
    bool waiting() const { return waiting_; }

    // For decoding that began at the synchronisation that this one has just seen.
    void entered() {}
    void set_options(const EtraceOptions& options) { options_ = options; }
    bool agrees(const EtraceFlow& guess, const EtraceFlow& end) const;

  private:
    enum class Stop : std::uint8_t { reached, contradiction, not_in_image };
    using Option = EtraceParameters::Option;

    template <class Out>
    void take(const EtracePacket& p, Out& out);
    template <class Out>
    Stop follow(std::uint32_t address, const EtracePacket& p, Out& out);
    template <class Out>
    Stop run_out(Out& out);
    template <class Out>
    void lose(const EtracePacket& p, StepGapKind kind, const char* reason, Out& out);
    template <class Out>
    void begin_at(const EtracePacket& p, Out& out);

    /// For hops: where calls and returns need no look at the packet, or at what came before them.
    ReturnStack return_stack(const EtracePacket& p) const {
        ReturnStack s;
        s.calls = !on(Option::sequentially_inferred_jump);
        if (s.calls && on(Option::implicit_return) && stack_most_ > 0 && !p.irreport) {
            s.returns = &stack_;
            s.most = stack_most_;
        }
        return s;
    }
    void follow_moves(const Hop& hop) {
        if (!hop.stacks) return;
        if (on(Option::implicit_return) && stack_most_ != 0) ReturnStack::follow(hop, stack_, stack_most_);
    }
    // Hears what is told while it is told, to learn a hop from it.
    template <class Out>
    struct Learning {
        Out& out;
        std::vector<StepRun>& runs;
        void run(const StepRun& r) {
            runs.push_back(r);
            out.run(r);
        }
    };
    static constexpr std::uint32_t kTail = 6;  ///< branches that may be left to what is learnt
    template <class Out>
    Stop follow_notified(std::uint32_t to, const EtracePacket& p, Out& out);
    bool on(Option o) const { return options_[static_cast<std::size_t>(o)]; }
    Stop leave(std::uint32_t address, const EtracePacket& p, bool& discontinuity);
    bool taken(std::uint32_t slot, Stop& stop);
    void push(std::uint32_t slot);
    void learn_branch(std::uint32_t slot, bool taken);
    bool predicted(std::uint32_t slot) const;
    std::uint32_t sequential_target(std::uint32_t slot) const;
    /// The instruction executed before `slot` of the straight run from `begin`; `ahead` came before that. Where
    /// nobody asks which one it was: one of the run.
    std::uint32_t preceding(std::uint32_t begin, std::uint32_t slot, std::uint32_t ahead) const {
        if (slot == begin) return ahead;
        if (!on(Option::sequentially_inferred_jump)) return begin;
        while (code_->next(begin) != slot) begin = code_->next(begin);
        return begin;
    }
    bool epc(const EtracePacket& p, std::uint64_t& at) const;
    /// The branch that a count left undecided, as a bit of the map: what the packets behind say comes after it.
    void decide_predicted() {
        if (predictions_ != 1 || branches_ != 0 || (*code_)[pc_].flow != Flow::branch) return;
        map_ = predicted(pc_) != then_wrong_ ? 0 : 1;
        branches_ = 1;
        predictions_ = 0;
    }
    void forget_predictions() {
        predictor_.assign(predictor_.size(), 1);
        cache_.assign(cache_.size(), 0);
    }
    std::size_t cache_index(std::uint64_t address) const {
        return (address >> parameters_.iaddress_lsb) & (cache_.size() - 1);
    }
    void learn_vector(const EtracePacket& p);
    bool handler_of(const EtracePacket& p, std::uint64_t& at) const;
    /// Branches not yet walked, apart from the one that stands here.
    bool unwalked(std::uint32_t slot) const {
        return branches_ + predictions_ != ((*code_)[slot].flow == Flow::branch ? 1u : 0u);
    }

    std::shared_ptr<const Code> code_;
    EtraceParameters parameters_;
    EtraceOptions options_{};
    std::uint32_t pc_ = Code::kNowhere, before_ = Code::kNowhere;  ///< last reported instruction, and the one before
    std::uint64_t address_ = 0;                                    ///< the last one that a packet gave
    std::uint64_t map_ = 0;
    std::uint32_t branches_ = 0;     ///< valid bits of map_
    std::uint64_t predictions_ = 0;  ///< branches behind those that went as predicted …
    bool then_wrong_ = false;        ///< … all but the last of them
    bool stop_at_branch_ = false, inferred_ = false, waiting_ = true, trap_pending_ = false, any_ = false;
    std::uint8_t privilege_ = 0;
    Contexts contexts_;
    template <class Out>
    void enter_privilege(const EtracePacket& p, Out& out) {
        privilege_ = p.privilege;
        if (parameters_.privilege_width > 0) contexts_.privilege(p.privilege, p.offset, out);
    }
    std::vector<std::uint32_t> stack_;  ///< return addresses
    std::size_t stack_most_ = 0;
    bool may_hop_ = false;  ///< branches need not be walked one by one: nothing is learnt from them
    std::vector<std::uint8_t> predictor_;
    std::vector<std::uint64_t> cache_;
    /// Trap vectors of a privilege level, where an option leaves handlers' addresses out: as stated, as the image
    /// writes them, or learnt from traps that are told in full.
    struct Vector {
        std::optional<std::uint64_t> base;
        std::optional<bool> vectored;
        bool fixed = false;  ///< stated, or from the image
        bool operator==(const Vector&) const = default;
    };
    std::array<Vector, 2> vectors_{};  ///< of supervisor, machine mode
    Vector& vector_of(std::uint8_t privilege) { return vectors_[privilege == 1 ? 0 : 1]; }
    std::vector<StepRun> learnt_;  ///< only while something is learnt
};

inline void EtraceFlow::push(std::uint32_t slot) {
    if (!on(Option::implicit_return) || stack_most_ == 0) return;
    if (stack_.size() == stack_most_) stack_.erase(stack_.begin());  // the oldest makes room
    stack_.push_back(code_->next(slot));
}

inline bool EtraceFlow::taken(std::uint32_t slot, Stop& stop) {
    if (branches_ > 0) {
        const bool goes = (map_ & 1) == 0;
        map_ >>= 1;
        --branches_;
        learn_branch(slot, goes);
        return goes;
    }
    if (predictions_ == 0) {
        stop = Stop::contradiction;
        return false;
    }
    --predictions_;
    const bool goes = predicted(slot) != (predictions_ == 0 && then_wrong_);
    learn_branch(slot, goes);
    return goes;
}

// Goes from the instruction that ends a run to the next one (11.2.2).
inline EtraceFlow::Stop EtraceFlow::leave(std::uint32_t address, const EtracePacket& p, bool& discontinuity) {
    const Code& code = *code_;
    const std::uint32_t at = pc_;
    const Code::Slot& s = code[at];
    Stop stop = Stop::reached;
    bool uninferable = false;
    switch (s.flow) {
        case Flow::next:
        case Flow::barrier:
            pc_ = code.next(at);
            break;
        case Flow::branch:
            pc_ = taken(at, stop) ? s.target : code.next(at);
            break;
        case Flow::jump:
        case Flow::call:
            pc_ = s.target;
            break;
        case Flow::indirect:
        case Flow::indirect_call:
        case Flow::ret:
            if (on(Option::sequentially_inferred_jump))
                if (const std::uint32_t to = sequential_target(at); to != Code::kNowhere) {
                    pc_ = to;
                    break;
                }
            if (s.flow == Flow::ret && on(Option::implicit_return) && !stack_.empty() &&
                !(p.irreport && p.irdepth == stack_.size())) {
                pc_ = stack_.back();
                stack_.pop_back();
                break;
            }
            uninferable = true;
            break;
        case Flow::trap:
        case Flow::trap_return:
            uninferable = true;
            break;
        case Flow::none:
            return Stop::not_in_image;
    }
    if (uninferable) {
        if (stop_at_branch_) return Stop::contradiction;
        pc_ = address;
        discontinuity = true;
        if (!cache_.empty()) {
            const std::uint64_t to = code.address(address);
            cache_[cache_index(to)] = to;
        }
    }
    if ((s.flags & FlowInsn::kPush) != 0) push(at);
    return stop;
}

template <class Out>
void EtraceFlow::lose(const EtracePacket& p, StepGapKind kind, const char* reason, Out& out) {
    StepGap gap;
    gap.offset = p.offset;
    gap.length = p.kind == EtraceKind::damage ? p.length : 0;
    gap.address = pc_ == Code::kNowhere ? 0 : code_->address(pc_);
    gap.kind = kind;
    gap.reason = reason;
    if (kind == StepGapKind::not_in_image) gap.process = contexts_.process(*code_);
    out.gap(gap);
    waiting_ = true;
    trap_pending_ = inferred_ = false;
}

template <class Out>
void EtraceFlow::begin_at(const EtracePacket& p, Out& out) {
    address_ = p.address;
    pc_ = contexts_.slot_of(*code_, p.address);
    before_ = Code::kNowhere;
    map_ = 0;
    branches_ = 0;
    predictions_ = 0;
    stop_at_branch_ = inferred_ = trap_pending_ = false;
    stack_.clear();
    if (pc_ == Code::kNowhere || (*code_)[pc_].flow == Flow::none) {
        lose(p, StepGapKind::not_in_image, "the image has no code where the trace begins", out);
        return;
    }
    if ((*code_)[pc_].flow == Flow::branch) {
        map_ = p.branch ? 1 : 0;
        branches_ = 1;
    }
    waiting_ = false;
    any_ = true;
    out.run({pc_, pc_, 1});
}

template <class Out>
void EtraceFlow::take(const EtracePacket& p, Out& out) {
    const auto process = contexts_.process(*code_);
    if (parameters_.context_width > 0 && (p.kind == EtraceKind::sync || p.kind == EtraceKind::trap || p.kind == EtraceKind::context))
        contexts_.context(static_cast<std::uint32_t>(p.context), p.offset, out);
    switch (p.kind) {
        case EtraceKind::damage:
            lose(p, any_ ? StepGapKind::damaged : StepGapKind::lead_in, "bytes that are no packet", out);
            return;
        case EtraceKind::support:
            options_ = p.options;
            if (p.qual == EtraceQual::no_change) return;
            if (p.qual == EtraceQual::ended_by_update && inferred_ && !waiting_)
                if (run_out(out) != Stop::reached) {
                    lose(p, StepGapKind::contradiction, "the last packet names an instruction that is not reached",
                         out);
                    return;
                }
            if (!waiting_ || p.qual == EtraceQual::lost)
                lose(p, p.qual == EtraceQual::lost ? StepGapKind::lost : StepGapKind::stopped,
                     p.qual == EtraceQual::lost ? "the encoder lost packets" : "tracing was switched off", out);
            return;
        case EtraceKind::context:
            enter_privilege(p, out);
            return;
        case EtraceKind::trap: {
            StepTrap trap;
            trap.offset = p.offset;
            trap.process = process;
            trap.number = p.ecause;
            trap.interrupt = p.interrupt;
            trap.tval = p.value;
            trap.tval_known = !p.interrupt;
            decide_predicted();
            trap.epc_known = epc(p, trap.epc);
            forget_predictions();  // a synchronisation of any kind begins afresh (4.2.5, 4.2.6)
            out.trap(trap);
            if (parameters_.time_width > 0) out.time({p.offset, p.time, 0, StepTime::Kind::timestamp});
            enter_privilege(p, out);
            if (!p.thaddr) {  // no instruction of the handler ran: where it is, a later packet says
                trap_pending_ = true;
                return;
            }
            if (p.has_address) {
                learn_vector(p);
                begin_at(p, out);
                return;
            }
            EtracePacket told = p;
            if (!handler_of(p, told.address)) {
                lose(p, StepGapKind::no_vector, "the handler's address is left out, and no trap vector is known", out);
                return;
            }
            begin_at(told, out);
            return;
        }
        case EtraceKind::sync: {
            if (parameters_.time_width > 0) out.time({p.offset, p.time, 0, StepTime::Kind::timestamp});
            if (waiting_ || trap_pending_) {
                forget_predictions();
                enter_privilege(p, out);
                out.sync(p.offset);
                begin_at(p, out);
                return;
            }
            address_ = p.address;
            const std::uint32_t to = contexts_.slot_of(*code_, p.address);
            stop_at_branch_ = inferred_ = false;  // what came before a synchronisation was final
            decide_predicted();
            if (to != Code::kNowhere && (*code_)[to].flow == Flow::branch) {
                map_ |= static_cast<std::uint64_t>(p.branch) << branches_;
                ++branches_;
            }
            const Stop stop = to == Code::kNowhere ? Stop::not_in_image : follow(to, p, out);
            enter_privilege(p, out);
            forget_predictions();  // what led here was still as predicted before
            stack_.clear();
            if (stop != Stop::reached) {
                lose(p, stop == Stop::not_in_image ? StepGapKind::not_in_image : StepGapKind::contradiction,
                     "the synchronisation names an instruction that is not reached", out);
                begin_at(p, out);
            }
            out.sync(p.offset);
            return;
        }
        default:
            break;
    }
    if (waiting_) return;
    if (trap_pending_) {
        lose(p, StepGapKind::contradiction, "an exception without its handler's address", out);
        return;
    }
    std::uint32_t to = pc_;
    bool to_address = p.has_address;
    if (p.kind == EtraceKind::cached_target) {
        // A jump to an address that was met as an inferred one is still to come, and enters its target first (4.2.6).
        const bool entered = inferred_ && p.index < cache_.size() && p.index == cache_index(address_);
        if (!entered) address_ = p.index < cache_.size() ? cache_[p.index] : 0;
        to_address = true;
    } else if (p.has_address) {
        address_ = on(Option::full_address) ? p.address : address_ + p.address;
        if (parameters_.iaddress_width < 64) address_ &= (std::uint64_t{1} << parameters_.iaddress_width) - 1;
    }
    if (to_address) to = contexts_.slot_of(*code_, address_);
    stop_at_branch_ = !to_address;
    constexpr std::uint64_t most_predictions = 1 << 26;
    if (branches_ + predictions_ > 1 || (p.kind == EtraceKind::predicted && p.value > most_predictions)) {
        lose(p, StepGapKind::contradiction, "branches are left that the program did not come to", out);
        return;
    }
    decide_predicted();
    map_ |= static_cast<std::uint64_t>(p.branch_map) << branches_;
    branches_ += p.branches;
    if (p.kind == EtraceKind::predicted) {
        predictions_ = p.value + (p.mispredicted ? 1 : 0);
        then_wrong_ = p.mispredicted;
    }
    Stop stop = Stop::not_in_image;
    if (to != Code::kNowhere) stop = p.notify && to_address ? follow_notified(to, p, out) : follow(to, p, out);
    if (stop == Stop::not_in_image)
        lose(p, StepGapKind::not_in_image, "the program went where the image has no code", out);
    else if (stop == Stop::contradiction)
        lose(p, StepGapKind::contradiction, "the packet does not fit the program", out);
}

// A packet sent because its address was to be notified is sent again and again as a rule: what the last of its branches
// led to is kept.
template <class Out>
EtraceFlow::Stop EtraceFlow::follow_notified(std::uint32_t to, const EtracePacket& p, Out& out) {
    if constexpr (requires(bool known) { out.hop_to(pc_, map_, branches_, to, known); }) {
        if (!may_hop_ || inferred_ || predictions_ != 0 || on(Option::sequentially_inferred_jump))
            return follow(to, p, out);
        const Code& code = *code_;
        const ReturnStack returns = return_stack(p);
        while (branches_ > kTail) {
            if (code[pc_].flow != Flow::branch) {
                // No branch before the last one can be the end: on to the next.
                const std::uint32_t begin = code.next(pc_), last = code[pc_].last;
                if (last == pc_ || code[last].flow != Flow::branch) return follow(to, p, out);
                out.run({begin, last, code[begin].count});
                before_ = begin;
                pc_ = last;
            }
            const Hop* hop = out.hop(pc_, map_, branches_ - 2, returns);
            if (hop == nullptr) return follow(to, p, out);
            follow_moves(*hop);
            map_ >>= hop->used;
            branches_ -= hop->used;
            before_ = pc_ = hop->end;
        }
        // Calls and returns touch the return stack when they are left: they begin nothing that is learnt.
        if (!goes_on(code[pc_].flow) || (code[pc_].flags & FlowInsn::kPush) != 0) return follow(to, p, out);
        const std::uint32_t count = branches_, from = pc_;
        bool known = false;
        if (const Hop* hop = out.hop_to(from, map_, count, to, known)) {
            map_ >>= hop->used;
            branches_ -= hop->used;
            pc_ = hop->end;
            before_ = hop->before;
            return Stop::reached;
        }
        if (!known) {
            const std::uint64_t bits = map_;
            learnt_.clear();
            Learning<Out> learning{out, learnt_};
            const Stop stop = follow(to, p, learning);
            if (stop == Stop::reached && pc_ == to)
                out.learn(from, bits, count, to, learnt_, count - branches_, before_);
            return stop;
        }
    }
    return follow(to, p, out);
}

// Walks on to the second time that the address reported last is reached by an uninferable jump.
template <class Out>
EtraceFlow::Stop EtraceFlow::run_out(Out& out) {
    EtracePacket none;
    none.kind = EtraceKind::support;
    return follow(pc_, none, out);
}

template <class Out>
EtraceFlow::Stop EtraceFlow::follow(std::uint32_t address, const EtracePacket& p, Out& out) {
    const Code& code = *code_;
    std::uint32_t previous = pc_;  // where the last packet stopped, if it may not have been the last time there
    const bool full = p.kind == EtraceKind::sync;
    std::uint32_t from = Code::kNowhere;  // first instruction not yet told; nowhere: the one behind pc_
    bool discontinuity = false;           // pc_ was reached by an uninferable jump
    std::uint64_t idle = 0;
    const auto may_stop = [&](std::uint32_t at) {
        // (11.2.1) all branches walked, and the reported address reached, but not as the target of a jump.
        if (at != address || stop_at_branch_ || unwalked(at)) return false;
        if (full) return p.privilege == privilege_ || code[before_].flow == Flow::trap_return;
        if (p.kind == EtraceKind::support) return false;
        if (p.notify) return true;
        if (discontinuity || p.updiscon || (p.irreport && p.irdepth != stack_.size())) return false;
        inferred_ = true;
        return true;
    };
    constexpr bool hops = requires(ReturnStack stack) { out.hop(pc_, map_, branches_, stack); };
    [[maybe_unused]] ReturnStack returns;
    if constexpr (hops) returns = return_stack(p);
    for (;;) {
        const Code::Slot& here = code[pc_];
        const std::uint32_t last = here.last;
        if (pc_ != last || from != Code::kNowhere) {
            // The straight run up to `last`; told from `from`.
            const std::uint32_t begin = from != Code::kNowhere ? from : code.next(pc_);
            if (!inferred_ && address >= begin && address <= last && code[address].last == last &&
                (address != pc_ || from != Code::kNowhere)) {
                const bool jumped = discontinuity;
                if (address != begin || from == Code::kNowhere) discontinuity = false;
                const std::uint32_t was = before_;
                if (address != begin || from == Code::kNowhere) before_ = pc_;  // some instruction that goes on
                if (may_stop(address)) {
                    before_ = preceding(begin, address, from == Code::kNowhere ? pc_ : was);
                    out.run({begin, address, code[begin].count - code[address].count + 1});
                    pc_ = address;
                    return Stop::reached;
                }
                discontinuity = jumped;
                before_ = was;
            }
            if (code[begin].flow == Flow::none) {
                pc_ = begin;
                return Stop::not_in_image;
            }
            out.run({begin, last, code[begin].count});
            if (last != begin) discontinuity = false;
            before_ = preceding(begin, last, from == Code::kNowhere ? pc_ : before_);
            pc_ = last;
            from = Code::kNowhere;
            if (stop_at_branch_ && branches_ + predictions_ == 1 && code[last].flow == Flow::branch) {
                stop_at_branch_ = false;
                return Stop::reached;
            }
        }
        if constexpr (hops) {
            // Up to the last branch, where a packet ends that gives no address; else not quite so far: whether the walk
            // ends before it is looked at one by one.
            const std::uint32_t leave_over = stop_at_branch_ ? 1 : 2;
            while (may_hop_ && branches_ > leave_over && !inferred_ && code[pc_].flow == Flow::branch) {
                const Hop* hop = out.hop(pc_, map_, branches_ - leave_over, returns);
                if (hop == nullptr) break;
                follow_moves(*hop);
                map_ >>= hop->used;
                branches_ -= hop->used;
                before_ = pc_ = hop->end;
                discontinuity = false;
                idle = 0;
            }
            if (stop_at_branch_ && branches_ + predictions_ == 1 && code[pc_].flow == Flow::branch) {
                stop_at_branch_ = false;
                return Stop::reached;
            }
        }
        // Leave the instruction that ends the run.
        const std::uint64_t walked = branches_ + predictions_;
        bool jumped = false;
        const std::uint32_t at = pc_;
        const Stop stop = leave(inferred_ ? previous : address, p, jumped);
        if (stop != Stop::reached) return stop;
        before_ = at;
        discontinuity = jumped;
        if (pc_ == Code::kNowhere || code[pc_].flow == Flow::none) return Stop::not_in_image;
        from = pc_;
        if (jumped) {
            if (inferred_) {
                inferred_ = false;
                if (p.kind == EtraceKind::support) {
                    out.run({pc_, pc_, 1});
                    return Stop::reached;
                }
            } else {
                out.run({pc_, pc_, 1});
                // A branch stands here at most that is not yet decided.
                return unwalked(pc_) ? Stop::contradiction : Stop::reached;
            }
        }
        idle = branches_ + predictions_ != walked ? 0 : idle + 1;
        if (idle > code.slot_count()) return Stop::contradiction;  // a loop without a branch that ends it
    }
}

}  // namespace mt
