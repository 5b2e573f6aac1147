// ETMv3 packets and the program: which instructions were executed.
// IHI 0014Q, chapter 7: an atom for each instruction; the numbers in comments are its sections.
#pragma once

#include <algorithm>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "flow/contexts.h"
#include "flow/hops.h"
#include "flow/steps.h"
#include "wire/etm3.h"

namespace mt {

/// Follows one core. Copyable: a copy is a checkpoint. One thread at a time. `Out` as for EtraceFlow.
class Etm3Flow {
  public:
    explicit Etm3Flow(std::shared_ptr<const Code> code) : code_(std::move(code)), m_profile_(code_->isa() == Isa::thumb) {}

    template <class Out>
    void feed(std::span<const Etm3Packet> packets, Out& out) {
        for (std::size_t i = 0; i < packets.size(); ++i)
            if (packets[i].kind == Etm3Kind::atoms && !packets[i].has_cycles)
                i += atoms(packets[i], i + 1 < packets.size() ? &packets[i + 1] : nullptr, out) ? 1 : 0;
            else
                take(packets[i], out);
    }
    /// What is still held back goes on.
    template <class Out>
    void finish(Out& out) {
        flush(out);
    }
    bool waiting() const { return waiting_; }
    void entered() {}
    bool agrees(const Etm3Flow& guess, const Etm3Flow& /*end*/) const {
        return !waiting_ && !guess.waiting_ && pc_ == guess.pc_ && any_ == guess.any_ && need_address_ == guess.need_address_ && !synced_ &&
               !guess.synced_ && std::ranges::equal(times_, guess.times_, {}, &StepTime::ticks, &StepTime::ticks) && run_.count == guess.run_.count && run_.first == guess.run_.first && returned_ == guess.returned_ &&
               contexts_ == guess.contexts_;
    }
    void continue_from(const Etm3Flow&) {}

  private:
    template <class Out>
    void take(const Etm3Packet& p, Out& out);
    template <class Out>
    bool atoms(const Etm3Packet& p, const Etm3Packet* next, Out& out);
    /// The next instruction goes straight on from those that are not told yet.
    bool straight_on() const {
        return run_.count > 0 && (*code_)[run_.last].flow == Flow::next && code_->next(run_.last) == pc_;
    }
    template <class Out>
    void branch(const Etm3Packet& p, Out& out);
    template <class Out>
    void isync(const Etm3Packet& p, Out& out);
    template <class Out>
    void go_to(std::uint32_t address, std::uint64_t offset, Out& out);
    template <class Out>
    void lose(std::uint64_t offset, std::uint64_t length, StepGapKind kind, const char* reason, Out& out);
    template <class Out>
    void flush(Out& out) {
        if (run_.count > 0) out.run(run_);
        run_ = {};
        inside_ = false;
        for (const StepTime& t : times_) out.time(t);
        times_.clear();
    }
    /// The last instruction was not completed after all: as if it had not been told.
    void cancel();

    std::shared_ptr<const Code> code_;
    bool m_profile_;
    std::uint32_t pc_ = Code::kNowhere;  ///< next instruction to be executed
    bool waiting_ = true, any_ = false;
    bool need_address_ = false;  ///< an indirect branch was executed, or a handler ended
    bool synced_ = false;        ///< a synchronisation came, and its address has not come yet
    bool returned_ = false;      ///< a handler returned, and nothing ran since
    std::uint64_t sync_at_ = 0;
    Contexts contexts_;
    std::vector<StepTime> times_;  ///< that lie behind run_
    bool inside_ = false;          ///< run_ begins within a packet, whose cycles are those of other instructions, too
    StepRun run_;  ///< executed one behind the other, and not told yet: the last may still be cancelled
};

template <class Out>
void Etm3Flow::lose(std::uint64_t offset, std::uint64_t length, StepGapKind kind, const char* reason, Out& out) {
    flush(out);
    if (!waiting_ || kind != StepGapKind::stopped)
        out.gap(contexts_.gap(*code_, waiting_ ? Code::kNowhere : pc_, offset, length, kind, reason));
    waiting_ = true;
    need_address_ = returned_ = false;
}

template <class Out>
void Etm3Flow::go_to(std::uint32_t address, std::uint64_t offset, Out& out) {
    flush(out);
    pc_ = contexts_.slot_of(*code_, address);
    waiting_ = need_address_ = false;
    any_ = true;
    if (pc_ == Code::kNowhere || (*code_)[pc_].flow == Flow::none)
        lose(offset, 0, StepGapKind::not_in_image, "the program went where the image has no code", out);
}

// 7.4.2: an atom each instruction, one whose condition failed as well. True: the address behind them was taken, too.
template <class Out>
bool Etm3Flow::atoms(const Etm3Packet& p, const Etm3Packet* next, Out& out) {
    const Code& code = *code_;
    std::uint64_t bits = p.atoms;
    unsigned left = p.count;
    constexpr bool hops = requires { out.hop_each(pc_, bits, left, pc_); };
    // Cycles are told exactly where a run ends; within one, whoever wants the whole way at once does not ask.
    const bool within = hops && p.cycles > 0 && !inside_ && straight_on() && left <= code[pc_].count && times_.size() == 1 && times_[0].kind == StepTime::Kind::cycles;
    if (left > 0 && !times_.empty() && !within) flush(out);
    std::uint32_t address = Code::kNowhere;
    if constexpr (hops) {
        if (next != nullptr && next->kind == Etm3Kind::branch && next->known && (next->exception == Etm3Packet::kNone || next->exception == 0)) {
            const std::uint32_t to = contexts_.slot_of(code, next->address);
            if (to != Code::kNowhere && code[to].flow != Flow::none) address = to;
        }
    }
    const auto fail = [&](StepGapKind kind, const char* reason) {
        lose(p.offset_of(p.count - std::max(left, 1u)), 0, kind, reason, out);
        return false;
    };
    while (left > 0 && !waiting_) {
        if (need_address_) return fail(StepGapKind::contradiction, "an indirect branch without the address it goes to");
        const Code::Slot& from = code[pc_];
        if (from.flow == Flow::none) return fail(StepGapKind::not_in_image, "the program went where the image has no code");
        if (!straight_on()) {
            // What was told before cannot be cancelled any more, once it led elsewhere.
            if (run_.count > 0) flush(out);
            if constexpr (hops) {
                // The last instruction may still be cancelled, unless it is told where it led.
                const unsigned certain = address != Code::kNowhere ? left : left - 1;
                const Hop* hop = certain > 0 && !p.has_cycles ? out.hop_each(pc_, bits, certain, address) : nullptr;
                if (hop != nullptr) {
                    pc_ = hop->end;
                    left -= hop->used;
                    bits >>= hop->used;
                    returned_ = false;
                    if (hop->address) return true;
                    continue;
                }
            }
            run_.first = pc_;
            inside_ = left != p.count;
        }
        returned_ = false;
        if (left < from.count) {  // whether or not their conditions held, these go straight on
            run_.count += left;
            for (unsigned n = 0; n < left; ++n) {
                run_.last = pc_;
                pc_ = code.next(pc_);
            }
            return false;
        }
        run_.last = pc_ = from.last;
        run_.count += from.count;
        const bool held = (bits >> (from.count - 1) & 1) != 0;
        left -= from.count;
        bits = from.count < 64 ? bits >> from.count : 0;
        const Code::Slot& s = code[pc_];
        const bool stays = s.flow == Flow::next || s.flow == Flow::barrier || s.flow == Flow::trap || !held;
        if (!held && s.flow != Flow::next && s.flow != Flow::barrier && (s.flags & FlowInsn::kConditional) == 0)
            return fail(StepGapKind::contradiction, "a branch that is always taken is told as not taken");
        if (stays) {
            pc_ = code.next(pc_);
        } else if (s.target != Code::kNowhere) {
            pc_ = s.target;
        } else if (s.flow == Flow::branch || s.flow == Flow::jump || s.flow == Flow::call) {
            return fail(StepGapKind::not_in_image, "the program went where the image has no code");
        } else {
            need_address_ = true;
        }
    }
    return false;
}

inline void Etm3Flow::cancel() {
    if (run_.count == 0) return;
    pc_ = run_.last;
    need_address_ = false;
    if (--run_.count == 0) {
        run_ = {};
        return;
    }
    std::uint32_t at = run_.first;
    while (code_->next(at) < run_.last) at = code_->next(at);
    run_.last = at;
}

// 7.4.3, 7.4.4: where the last instruction led; with exception information, where the exception led.
template <class Out>
void Etm3Flow::branch(const Etm3Packet& p, Out& out) {
    if (p.exception != Etm3Packet::kNone && p.exception != 0) {
        constexpr std::uint16_t kDebugHalt = 1;
        if (!waiting_ && p.cancels) cancel();
        flush(out);
        if (!m_profile_ && p.exception == kDebugHalt) return lose(p.offset, p.length, StepGapKind::stopped, kCoreHalted, out);
        const int number = m_profile_ ? etm3_exception_number(p.exception) : ExceptionId::kPftTypes + (p.exception & 0xF);
        if (number >= 0 && (!waiting_ || any_)) {
            StepTrap trap;
            trap.offset = p.offset;
            trap.process = contexts_.process(*code_);
            trap.number = static_cast<std::uint32_t>(number);
            trap.interrupt = m_profile_ ? number >= 15 : p.exception == 14 || p.exception == 15;
            trap.epc_known = !waiting_ && !need_address_;
            if (trap.epc_known) trap.epc = code_->address(pc_);
            trap.tail_chained = m_profile_ && returned_;
            out.trap(trap);
        }
        returned_ = false;
        if (p.known && (!waiting_ || any_)) go_to(p.address, p.offset, out);
        return;
    }
    if (!p.known) return;
    if (waiting_) {
        if (any_ && !synced_) go_to(p.address, p.offset, out);
        return;
    }
    const std::uint32_t to = contexts_.slot_of(*code_, p.address);
    // A direct branch is told, too, where all of them are: then it says what is known already.
    if (!need_address_ && to != pc_) return lose(p.offset, 0, StepGapKind::contradiction, "the address is not where the branch goes", out);
    if (!need_address_) return;
    const bool returned = returned_;
    go_to(p.address, p.offset, out);
    returned_ = returned && !waiting_;
}

template <class Out>
void Etm3Flow::isync(const Etm3Packet& p, Out& out) {
    using Reason = Etm3Packet::Reason;
    const std::uint32_t to = contexts_.slot_of(*code_, p.address);
    // 7.4.6: a periodic one says where the program is; behind an indirect branch it may stand before its address.
    if (p.reason == Reason::periodic && !waiting_) {
        if (need_address_) {
            out.sync(synced_ ? sync_at_ : p.offset);
            synced_ = false;
            go_to(p.address, p.offset, out);
            return;
        }
        if (to == pc_) {
            flush(out);
            out.sync(synced_ ? sync_at_ : p.offset);
            synced_ = false;
            return;
        }
        lose(p.offset, 0, StepGapKind::contradiction, "the address is not where the program was", out);
    }
    if (p.reason == Reason::overflow) lose(p.offset, p.length, StepGapKind::lost, "the trace unit's buffer overflowed", out);
    if (p.reason == Reason::enabled) lose(p.offset, p.length, StepGapKind::stopped, "tracing was off", out);
    if (p.reason == Reason::debug_exit) lose(p.offset, p.length, StepGapKind::stopped, kCoreHalted, out);
    out.sync(synced_ ? sync_at_ : p.offset);
    synced_ = false;
    go_to(p.address, p.offset, out);
}

template <class Out>
void Etm3Flow::take(const Etm3Packet& p, Out& out) {
    if (p.has_context || p.kind == Etm3Kind::virtual_machine || (p.kind == Etm3Kind::data && p.has_address && p.count > 0)) {
        flush(out);
        if (p.has_context) contexts_.context(static_cast<std::uint32_t>(p.value), p.offset, out);
        if (p.kind == Etm3Kind::virtual_machine) contexts_.virtual_machine(static_cast<std::uint32_t>(p.value), p.offset, out);
        if (p.kind == Etm3Kind::data)
            tell_data(out, StepData{p.offset, p.value, p.count == 1 ? StepData::kAccess1 : p.count == 2 ? StepData::kAccess2 : StepData::kAccess4,
                                    p.address});
    }
    switch (p.kind) {
        case Etm3Kind::damage:
            lose(p.offset, p.length, any_ ? StepGapKind::damaged : StepGapKind::lead_in, "bytes that are no packet", out);
            break;
        case Etm3Kind::async:
            synced_ = true;
            sync_at_ = p.offset;
            break;
        case Etm3Kind::isync:
            isync(p, out);
            break;
        case Etm3Kind::atoms:
            (void)atoms(p, nullptr, out);
            break;
        case Etm3Kind::branch:
            branch(p, out);
            break;
        case Etm3Kind::exception_exit:
            if (!waiting_) {
                flush(out);
                out.trap_return();
                returned_ = true;
            }
            break;
        default:
            break;
    }
    if (p.has_cycles && p.cycles > 0) {
        if (!times_.empty() && times_.back().kind == StepTime::Kind::cycles)
            times_.back().ticks += p.cycles;
        else
            times_.push_back({p.offset, p.cycles, 0, StepTime::Kind::cycles});
    }
    if (p.kind == Etm3Kind::timestamp) {
        times_.push_back({p.offset, p.value, p.assumed, StepTime::Kind::timestamp, p.sent});
    }
    constexpr std::size_t kMostTimes = 64;
    if (waiting_ || times_.size() > kMostTimes) flush(out);
}

}  // namespace mt
