// PFT packets and the program: which instructions were executed.
// IHI 0035B, chapters 2 and 4: waypoints are branches, exceptions and instruction synchronisation barriers; the numbers in
// comments are its sections.
#pragma once

#include <algorithm>
#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include "flow/arm_atoms.h"
#include "flow/contexts.h"
#include "flow/hops.h"
#include "flow/steps.h"
#include "wire/pft.h"

namespace mt {

/// Follows one core. Copyable: a copy is a checkpoint. One thread at a time. `Out` as for EtraceFlow.
class PftFlow {
  public:
    PftFlow(std::shared_ptr<const Code> code, const PftParameters& parameters) : code_(std::move(code)), parameters_(parameters) {}

    template <class Out>
    void feed(std::span<const PftPacket> packets, Out& out) {
        for (std::size_t i = 0; i < packets.size(); ++i)
            if (packets[i].kind == PftKind::atoms && !packets[i].has_cycles)
                i += atoms(packets[i], i + 1 < packets.size() ? &packets[i + 1] : nullptr, out) ? 1 : 0;
            else
                take(packets[i], out);
    }
    bool waiting() const { return waiting_; }
    void entered() {}
    bool agrees(const PftFlow& guess, const PftFlow& /*end*/) const {
        return !waiting_ && !guess.waiting_ && pc_ == guess.pc_ && any_ == guess.any_ && returns_ == guess.returns_ && contexts_ == guess.contexts_ && !synced_ && !guess.synced_;
    }
    void continue_from(const PftFlow&) {}

  private:
    static constexpr std::size_t kMostReturns = 16;

    template <class Out>
    void take(const PftPacket& p, Out& out);
    template <class Out>
    bool atoms(const PftPacket& p, const PftPacket* next, Out& out);
    template <class Out>
    ArmAtom walk(bool taken, std::uint64_t offset, Out& out) {
        return walk_arm_atom(*code_, pc_, taken, parameters_.return_stack ? &returns_ : nullptr, kMostReturns, out,
                             [&](StepGapKind kind, const char* reason) { lose(offset, 0, kind, reason, out); });
    }
    template <class Out>
    bool atom(bool taken, std::uint64_t offset, Out& out);
    template <class Out>
    void branch(const PftPacket& p, Out& out);
    template <class Out>
    void except(const PftPacket& p, Out& out);
    template <class Out>
    void waypoint(const PftPacket& p, Out& out);
    template <class Out>
    void isync(const PftPacket& p, Out& out);
    template <class Out>
    bool go_to(std::uint32_t address, std::uint64_t offset, Out& out);
    template <class Out>
    bool go_to_slot(std::uint32_t slot, std::uint64_t offset, Out& out);
    template <class Out>
    void lose(std::uint64_t offset, std::uint64_t length, StepGapKind kind, const char* reason, Out& out);

    std::shared_ptr<const Code> code_;
    PftParameters parameters_;
    std::uint32_t pc_ = Code::kNowhere;  ///< next instruction to be executed
    bool waiting_ = true, any_ = false;
    bool synced_ = false;  ///< a synchronisation came, and its address has not come yet
    std::uint64_t sync_at_ = 0;
    std::vector<std::uint32_t> returns_;
    Contexts contexts_;
};

template <class Out>
void PftFlow::lose(std::uint64_t offset, std::uint64_t length, StepGapKind kind, const char* reason, Out& out) {
    if (!waiting_ || kind != StepGapKind::stopped)
        out.gap(contexts_.gap(*code_, waiting_ ? Code::kNowhere : pc_, offset, length, kind, reason));
    waiting_ = true;
    returns_.clear();
}

template <class Out>
bool PftFlow::go_to(std::uint32_t address, std::uint64_t offset, Out& out) {
    return go_to_slot(contexts_.slot_of(*code_, address), offset, out);
}

template <class Out>
bool PftFlow::go_to_slot(std::uint32_t slot, std::uint64_t offset, Out& out) {
    pc_ = slot;
    waiting_ = false;
    any_ = true;
    if (pc_ != Code::kNowhere && (*code_)[pc_].flow != Flow::none) return true;
    lose(offset, 0, StepGapKind::not_in_image, "the program went where the image has no code", out);
    return false;
}

// To the next waypoint, and from it on or to its target. False: lost.
template <class Out>
bool PftFlow::atom(bool taken, std::uint64_t offset, Out& out) {
    const ArmAtom walked = walk(taken, offset, out);
    if (walked != ArmAtom::indirect) return walked == ArmAtom::done;
    if (!parameters_.return_stack || returns_.empty()) {  // 2.4: else the address follows
        lose(offset, 0, StepGapKind::contradiction, "an indirect branch without the address it goes to", out);
        return false;
    }
    pc_ = returns_.back();
    returns_.pop_back();
    return true;
}

// Packets of atoms, and the address behind them, which tells one more. True: that was taken, too.
template <class Out>
bool PftFlow::atoms(const PftPacket& p, const PftPacket* next, Out& out) {
    std::uint64_t bits = p.atoms;
    std::uint32_t left = p.count, told = left;
    constexpr bool hops = requires(ReturnStack stack) { out.hop(pc_, bits, left, stack); };
    [[maybe_unused]] ReturnStack stack;
    if constexpr (hops) {
        stack.calls = true;
        if (parameters_.return_stack) {
            stack.returns = &returns_;
            stack.most = kMostReturns;
        } else if (next != nullptr && left < 64 && next->kind == PftKind::branch && next->exception == PftPacket::kNone && next->known &&
                   !next->has_cycles) {
            const std::uint32_t to = contexts_.slot_of(*code_, next->address);
            if (to != Code::kNowhere && (*code_)[to].flow != Flow::none) {
                stack.address = to;
                bits |= std::uint64_t{1} << left++;
            }
        }
    }
    const bool address = left > told;
    while (left > 0 && !waiting_) {
        std::uint32_t used = 0;
        if constexpr (hops) {
            if (const Hop* hop = out.hop(pc_, bits, left, stack)) {
                pc_ = hop->end;
                used = hop->used;
                if (stack.returns != nullptr) ReturnStack::follow(*hop, returns_, kMostReturns);
            } else if (address && left == 1) {
                branch(*next, out);
                return true;
            }
        }
        if (used == 0) {
            used = 1;
            (void)atom((bits & 1) != 0, p.offset_of((address ? told + 1 : told) - left), out);
        }
        left -= used;
        bits = used < 64 ? bits >> used : 0;
    }
    if (!address || waiting_) return false;  // if it is lost, the address tells where it is now
    if (pc_ != stack.address) lose(next->offset, 0, StepGapKind::contradiction, "the address is not where the branch goes", out);
    return true;
}

// 4.3.4: without an exception, the waypoint before it was taken, to this address.
template <class Out>
void PftFlow::branch(const PftPacket& p, Out& out) {
    if (!p.known) return;
    if (waiting_) {  // where it was is not known, but where it is now; unless a synchronisation is about to tell
        if (any_ && !synced_) (void)go_to(p.address, p.offset, out);
        return;
    }
    const ArmAtom walked = walk(true, p.offset, out);
    if (walked == ArmAtom::lost) return;
    const std::uint32_t to = contexts_.slot_of(*code_, p.address);
    if (walked == ArmAtom::done && pc_ != to)
        return lose(p.offset, 0, StepGapKind::contradiction, "the address is not where the branch goes", out);
    (void)go_to_slot(to, p.offset, out);
}

// 4.3.5: what was executed since the last waypoint, up to this instruction.
template <class Out>
void PftFlow::waypoint(const PftPacket& p, Out& out) {
    if (waiting_ || !p.known) return;
    const Code& code = *code_;
    const std::uint32_t last = contexts_.slot_of(code, p.address);
    // Only what is no waypoint may lie before it: a straight run.
    if (last == Code::kNowhere || last < pc_ || last > code[pc_].last || code[last].last != code[pc_].last)
        return lose(p.offset, 0, StepGapKind::contradiction, "the exception came from where the program was not", out);
    std::uint32_t count = 1;
    std::uint32_t at = pc_;
    for (; at < last; at = code.next(at)) ++count;
    if (at != last) return lose(p.offset, 0, StepGapKind::contradiction, "the exception came from the middle of an instruction", out);
    out.run({pc_, last, count});
    pc_ = code.next(last);
}

template <class Out>
void PftFlow::except(const PftPacket& p, Out& out) {
    constexpr std::uint16_t kDebugHalt = 1;
    if (p.exception == kDebugHalt) return lose(p.offset, p.length, StepGapKind::stopped, kCoreHalted, out);
    StepTrap trap;
    trap.offset = p.offset;
    trap.process = contexts_.process(*code_);
    trap.number = ExceptionId::kPftTypes + std::min<std::uint32_t>(p.exception, 0xFF);
    trap.interrupt = p.exception == 14 || p.exception == 15;
    trap.epc_known = !waiting_;
    if (trap.epc_known) trap.epc = code_->address(pc_);
    if (!waiting_ || any_) out.trap(trap);
    if (p.known && (!waiting_ || any_)) (void)go_to(p.address, p.offset, out);
}

template <class Out>
void PftFlow::isync(const PftPacket& p, Out& out) {
    using Reason = PftPacket::Reason;
    const std::uint32_t to = contexts_.slot_of(*code_, p.address);
    // 4.3.2: a periodic one only says where the program is.
    if (p.reason == Reason::periodic && !waiting_) {
        if (to == pc_) {
            out.sync(synced_ ? sync_at_ : p.offset);
            synced_ = false;
            return;
        }
        lose(p.offset, 0, StepGapKind::contradiction, "the address is not where the program was", out);
    }
    if (p.reason == Reason::overflow) lose(p.offset, p.length, StepGapKind::lost, "the trace unit's buffer overflowed", out);
    if (p.reason == Reason::enabled) lose(p.offset, p.length, StepGapKind::stopped, "tracing was off", out);
    if (p.reason == Reason::debug_exit) lose(p.offset, p.length, StepGapKind::stopped, kCoreHalted, out);
    returns_.clear();
    out.sync(synced_ ? sync_at_ : p.offset);
    synced_ = false;
    (void)go_to(p.address, p.offset, out);
}

template <class Out>
void PftFlow::take(const PftPacket& p, Out& out) {
    if (p.has_context) contexts_.context(static_cast<std::uint32_t>(p.value), p.offset, out);
    if (p.kind == PftKind::virtual_machine) contexts_.virtual_machine(static_cast<std::uint32_t>(p.value), p.offset, out);
    switch (p.kind) {
        case PftKind::damage:
            lose(p.offset, p.length, any_ ? StepGapKind::damaged : StepGapKind::lead_in, "bytes that are no packet", out);
            break;
        case PftKind::async:
            synced_ = true;
            sync_at_ = p.offset;
            break;
        case PftKind::isync:
            isync(p, out);
            break;
        case PftKind::atoms:
            for (unsigned i = 0; i < p.count && !waiting_; ++i) (void)atom((p.atoms >> i & 1) != 0, p.offset, out);
            break;
        case PftKind::branch:
            p.exception == PftPacket::kNone ? branch(p, out) : except(p, out);
            break;
        case PftKind::waypoint:
            waypoint(p, out);
            break;
        case PftKind::exception_return:
            if (!waiting_) out.trap_return();
            break;
        default:
            break;
    }
    if (p.has_cycles) out.time({p.offset, p.cycles, 0, StepTime::Kind::cycles});
    if (p.kind == PftKind::timestamp) out.time({p.offset, p.value, p.assumed, StepTime::Kind::timestamp, p.sent});
}

}  // namespace mt
