// ETMv4 packets and the program: which instructions were executed.
// IHI 0064, chapter 5 (element streams and their analysis); Armv7-M ARM B1.5 for exceptions.
#pragma once

#include <algorithm>
#include <cstdint>
#include <deque>
#include <memory>
#include <span>
#include <tuple>
#include <vector>

#include "flow/arm_atoms.h"
#include "flow/contexts.h"
#include "flow/hops.h"
#include "flow/steps.h"
#include "wire/etm4.h"

namespace mt {

/// Follows one core. Copyable: a copy is a checkpoint. One thread at a time. `Out` as for EtraceFlow.
class Etm4Flow {
  public:
    Etm4Flow(std::shared_ptr<const Code> code, const Etm4Parameters& parameters)
        : code_(std::move(code)), parameters_(parameters) {}

    template <class Out>
    void feed(std::span<const Etm4Packet> packets, Out& out) {
        for (std::size_t i = 0; i < packets.size(); ++i) {
            const Etm4Packet& p = packets[i];
            if (parameters_.max_speculation != 0 || p.kind != Etm4Kind::atoms)
                take(p, out);
            else if (atoms(p, i + 1 < packets.size() ? &packets[i + 1] : nullptr, out))
                ++i;
        }
    }
    bool waiting() const { return waiting_; }

    // For decoding that began at the synchronisation that this one has just seen: what lies deeper on the return stack
    // is not known then, and taken for nothing.
    void entered() {
        below_ = fresh_ = true;
        highest_ = returns_.size();
    }
    bool agrees(const Etm4Flow& guess, const Etm4Flow& end) const;
    void continue_from(const Etm4Flow& before);

  private:
    static constexpr std::size_t kMostReturns = 15;  ///< 5.4.3: deepest return stack there is

    // What a packet brings into the stream of elements, once it can no longer be cancelled.
    struct Element {
        enum class Kind : std::uint8_t { atom, exception, q, address, exception_return, time, context } kind = Kind::atom;
        bool taken = false;
        Etm4Packet packet;
        bool is_p0() const { return kind == Kind::atom || kind == Kind::exception || kind == Kind::q; }
    };

    template <class Out>
    void take(const Etm4Packet& p, Out& out);
    template <class Out>
    void put(Element e, Out& out);
    template <class Out>
    void commit(std::size_t count, Out& out);
    template <class Out>
    void act(const Element& e, Out& out);
    template <class Out>
    bool atoms(const Etm4Packet& p, const Etm4Packet* next, Out& out);
    template <class Out>
    bool atom(bool taken, std::uint64_t offset, Out& out);
    template <class Out>
    bool counted(const Etm4Packet& p, Out& out);
    template <class Out>
    void address(const Etm4Packet& p, Out& out);
    template <class Out>
    void except(const Etm4Packet& p, Out& out);
    template <class Out>
    void lose(std::uint64_t offset, std::uint64_t length, StepGapKind kind, const char* reason, Out& out);
    void cancel(std::size_t count);

    std::shared_ptr<const Code> code_;
    Etm4Parameters parameters_;
    std::uint32_t pc_ = Code::kNowhere;  ///< next instruction to be executed
    bool waiting_ = true;                ///< for an address: nothing is known
    bool any_ = false;                   ///< something was known before
    bool need_address_ = false;          ///< an indirect branch was taken: pc_ is where the next address says, or …
    bool may_pop_ = false;               ///< … if none comes, on the return stack
    bool returned_ = false;              ///< from an exception, and nothing ran since
    bool synced_ = false;                ///< a synchronisation came and its address has not come yet
    std::uint64_t sync_at_ = 0;
    bool exception_open_ = false;  ///< an exception packet waits for its address
    Etm4Packet exception_;
    std::vector<std::uint32_t> returns_;
    bool below_ = false;        ///< more may lie below them
    bool asked_below_ = false;  ///< it was needed
    bool fresh_ = false;        ///< nothing ran since it entered: whether a handler had returned is not known
    bool asked_fresh_ = false;  ///< it was needed
    std::size_t highest_ = 0;   ///< of returns_, since below_
    std::deque<Element> held_;  ///< may still be cancelled
    std::size_t unseen_ = 0;    ///< P0 elements that may still be cancelled, and came before this began
    Contexts contexts_;
};

template <class Out>
void Etm4Flow::lose(std::uint64_t offset, std::uint64_t length, StepGapKind kind, const char* reason, Out& out) {
    if (!waiting_ || kind != StepGapKind::stopped)
        out.gap(contexts_.gap(*code_, waiting_ ? Code::kNowhere : pc_, offset, length, kind, reason));
    waiting_ = true;
    need_address_ = may_pop_ = exception_open_ = returned_ = false;
    returns_.clear();
    below_ = false;
    held_.clear();
    unseen_ = 0;
}

// One P0 element: to the next instruction that counts as a branch, and from it on or to its target. False: lost.
template <class Out>
bool Etm4Flow::atom(bool taken, std::uint64_t offset, Out& out) {
    const Code& code = *code_;
    if (need_address_) {
        if (!may_pop_ || !parameters_.return_stack || returns_.empty()) {
            asked_below_ = asked_below_ || below_;
            lose(offset, 0, StepGapKind::contradiction, "an indirect branch without the address it goes to", out);
            return false;
        }
        pc_ = returns_.back();
        returns_.pop_back();
        need_address_ = false;
    }
    returned_ = fresh_ = false;
    const ArmAtom walked = walk_arm_atom(code, pc_, taken, parameters_.return_stack ? &returns_ : nullptr, kMostReturns, out,
                                         [&](StepGapKind kind, const char* reason) { lose(offset, 0, kind, reason, out); });
    highest_ = std::max(highest_, returns_.size());
    need_address_ = may_pop_ = walked == ArmAtom::indirect;
    return walked != ArmAtom::lost;
}

// Packets of atoms. True if it went to where the packet behind them says, too.
template <class Out>
bool Etm4Flow::atoms(const Etm4Packet& p, const Etm4Packet* next, Out& out) {
    std::uint64_t bits = p.atoms;
    std::uint32_t left = p.count;
    constexpr bool hops = requires(ReturnStack stack) { out.hop(pc_, bits, left, stack); };
    [[maybe_unused]] ReturnStack stack;
    if constexpr (hops) {
        stack.calls = true;
        if (parameters_.return_stack) {
            stack.returns = &returns_;
            stack.most = kMostReturns;
        } else if (next != nullptr && next->kind == Etm4Kind::address && !next->has_context && !synced_ && !exception_open_) {
            const std::uint32_t to = contexts_.slot_of(*code_, next->address);
            if (to != Code::kNowhere && (*code_)[to].flow != Flow::none) stack.address = to;
        }
    }
    while (left > 0 && !waiting_) {
        std::uint32_t used = 0;
        if constexpr (hops) {
            if (!need_address_) {
                if (const Hop* hop = out.hop(pc_, bits, left, stack)) {
                    pc_ = hop->end;
                    used = hop->used;
                    returned_ = fresh_ = false;
                    if (stack.returns != nullptr) {
                        highest_ = std::max(highest_, returns_.size() + hop->height);
                        ReturnStack::follow(*hop, returns_, kMostReturns);
                    }
                    if (hop->address) {
                        may_pop_ = false;
                        return true;
                    }
                }
            }
        }
        if (used == 0) {
            used = 1;
            (void)atom((bits & 1) != 0, p.offset_of(p.count - left), out);
        }
        left -= used;
        bits = used < 64 ? bits >> used : 0;
    }
    return false;
}

// A Q element: so many instructions were executed, and nothing else is told of them (IHI 0064, 5.3, 6.4.14). As far as only
// one way leads on from where the program was, they are known all the same. False: there are some of which nobody knows.
template <class Out>
bool Etm4Flow::counted(const Etm4Packet& p, Out& out) {
    if (!p.known || waiting_ || need_address_) return false;
    const Code& code = *code_;
    returned_ = fresh_ = false;
    for (std::uint64_t left = p.value; left > 0;) {
        const Code::Slot& from = code[pc_];
        const Code::Slot& s = code[from.last];
        if (s.flow == Flow::none || left < from.count || (left == from.count && s.flow == Flow::next)) {
            if (left > from.count || from.flow == Flow::none) return false;
            std::uint32_t end = pc_;
            for (std::uint64_t i = 1; i < left; ++i) end = code.next(end);
            out.run({pc_, end, static_cast<std::uint32_t>(left)});
            pc_ = code.next(end);
            return true;
        }
        if (s.flow == Flow::next) return false;
        out.run({pc_, from.last, from.count});
        left -= from.count;
        const bool one_way = (s.flags & FlowInsn::kConditional) == 0 && (s.target != Code::kNowhere || s.flow == Flow::barrier);
        if (!one_way) {  // which way it went, an address tells
            pc_ = from.last;
            need_address_ = left == 0;
            may_pop_ = false;
            return left == 0;
        }
        if ((s.flags & FlowInsn::kPush) != 0 && parameters_.return_stack) {
            if (returns_.size() == kMostReturns) returns_.erase(returns_.begin());
            returns_.push_back(from.last + s.size);
            highest_ = std::max(highest_, returns_.size());
        }
        pc_ = s.target != Code::kNowhere ? s.target : from.last + s.size;
    }
    return true;
}

template <class Out>
void Etm4Flow::address(const Etm4Packet& p, Out& out) {
    const std::uint32_t to = contexts_.slot_of(*code_, p.address);
    const bool known = !waiting_ && !need_address_;
    // Where a synchronisation comes behind a return that the stack told, the address is its own.
    if (synced_ && !known && !waiting_ && may_pop_ && parameters_.return_stack) {
        asked_below_ = asked_below_ || (below_ && returns_.empty());
        if (!returns_.empty() && returns_.back() == to) returns_.pop_back();
    }
    if (known && to != pc_) {
        lose(p.offset, 0, StepGapKind::contradiction, "the address is not where the program was", out);
    } else if (known) {
        if (synced_) out.sync(sync_at_);
        synced_ = false;
        return;
    }
    if (synced_ || waiting_) {
        out.sync(synced_ ? sync_at_ : p.offset);
        if (waiting_) {
            returns_.clear();
            below_ = false;
        }
        synced_ = false;
    }
    pc_ = to;
    if (to == Code::kNowhere || (*code_)[to].flow == Flow::none) {
        waiting_ = false;
        lose(p.offset, 0, StepGapKind::not_in_image, "the program went where the image has no code", out);
        any_ = true;
        return;
    }
    waiting_ = need_address_ = may_pop_ = false;
    any_ = true;
}

// The exception packet and its address are there: what ran until then, and the exception.
template <class Out>
void Etm4Flow::except(const Etm4Packet& p, Out& out) {
    const Code& code = *code_;
    StepTrap trap;
    trap.offset = p.offset;
    trap.process = contexts_.process(*code_);
    trap.epc = p.address;
    trap.epc_known = true;
    const bool m_profile = code.isa() == Isa::thumb;
    const int number = m_profile ? etm4_exception_number(p.exception)
                       : p.exception == kEtm4HaltType ? -1
                                                      : ExceptionId::kEtm4Types + std::min<int>(p.exception, 0xFF);
    trap.interrupt = m_profile ? number == 15 || number >= 16 : number > 0 && ExceptionId::make(ExceptionId::Space::arm, static_cast<unsigned>(number)).is_interrupt();
    trap.number = static_cast<std::uint32_t>(std::max(0, number));
    const bool magic = (p.address >> 24 & 0xFF) == 0xFF && m_profile;  // EXC_RETURN: nothing ran in between
    trap.tail_chained = magic || (returned_ && p.ends == 2);
    asked_fresh_ = asked_fresh_ || (fresh_ && p.ends == 2);
    fresh_ = false;
    if (!waiting_ && p.ends == 1 && !magic) {
        if (need_address_ && may_pop_ && parameters_.return_stack && returns_.empty()) asked_below_ |= below_;
        if (need_address_ && may_pop_ && parameters_.return_stack && !returns_.empty()) {
            pc_ = returns_.back();
            returns_.pop_back();
            need_address_ = false;
        }
        const std::uint32_t until = contexts_.slot_of(code, p.address);
        if (need_address_) {
            // An exception straight after another: nothing of the handler ran.
        } else if (until != pc_) {
            const Code::Slot& from = code[pc_];
            const std::uint32_t last = from.last;
            // Only instructions that are no branches may lie before it: it must be reached in a straight run.
            bool reached = until != Code::kNowhere && until > pc_ && until <= last && code[until].last == last;
            std::uint32_t end = pc_;
            if (reached)
                while (end < until && code.next(end) < until) end = code.next(end);
            if (!reached && until == last + code[last].size && code[last].flow == Flow::next) {
                reached = true;
                end = last;
            }
            if (!reached) {
                lose(p.offset, 0, StepGapKind::contradiction, "the exception came from where the program was not", out);
            } else {
                std::uint32_t count = 1;
                for (std::uint32_t i = pc_; i != end; i = code.next(i)) ++count;
                out.run({pc_, end, count});
            }
        }
    }
    if (number >= 0) {
        out.trap(trap);
        waiting_ = waiting_ && !any_;
        need_address_ = !waiting_;
    } else if (p.exception == (m_profile ? kEtm4DebugHalt : kEtm4HaltType)) {
        if (const std::uint32_t stands = contexts_.slot_of(code, p.address); !waiting_ && stands != Code::kNowhere) pc_ = stands;
        lose(p.offset, p.length, StepGapKind::stopped, kCoreHalted, out);
    } else {
        need_address_ = !waiting_;
    }
    may_pop_ = false;
    returned_ = false;
}

template <class Out>
void Etm4Flow::act(const Element& e, Out& out) {
    switch (e.kind) {
        case Element::Kind::atom:
            if (!waiting_) (void)atom(e.taken, e.packet.offset, out);
            break;
        case Element::Kind::exception:
            except(e.packet, out);
            break;
        case Element::Kind::address:
            address(e.packet, out);
            break;
        case Element::Kind::exception_return:
            returned_ = true;
            if (!waiting_) out.trap_return();
            may_pop_ = false;
            break;
        case Element::Kind::q:
            if (!counted(e.packet, out))
                lose(e.packet.offset, e.packet.length, StepGapKind::lost, "instructions that were only counted", out);
            if (e.packet.has_address) address(e.packet, out);
            break;
        case Element::Kind::context:
            if (parameters_.context_id_bytes > 0) contexts_.context(e.packet.context_id, e.packet.offset, out);
            if (e.packet.has_virtual) contexts_.virtual_machine(e.packet.virtual_id, e.packet.offset, out);
            if (code_->isa() != Isa::thumb) contexts_.level(e.packet.level, e.packet.offset, out);
            break;
        case Element::Kind::time:
            out.time({e.packet.offset, e.packet.value, e.packet.assumed,
                      e.packet.kind == Etm4Kind::cycles ? StepTime::Kind::cycles : StepTime::Kind::timestamp,
                      e.packet.sent});
            break;
    }
}

template <class Out>
void Etm4Flow::put(Element e, Out& out) {
    if (parameters_.max_speculation == 0) {
        act(e, out);
        return;
    }
    held_.push_back(std::move(e));
    std::size_t open = 0;
    for (const Element& h : held_) open += h.is_p0() ? 1 : 0;
    if (open > parameters_.max_speculation + 1) commit(1, out);  // deeper than it can be: it was resolved
}

// So many P0 elements, and what follows each of them, are certain now.
template <class Out>
void Etm4Flow::commit(std::size_t count, Out& out) {
    const std::size_t before = std::min(count, unseen_);
    unseen_ -= before;
    count -= before;
    while (!held_.empty() && (count > 0 || !held_.front().is_p0())) {
        const Element e = std::move(held_.front());
        held_.pop_front();
        if (e.is_p0()) --count;
        act(e, out);
    }
}

template <class Out>
void Etm4Flow::take(const Etm4Packet& p, Out& out) {
    if (p.has_context) {
        Element e;
        e.kind = Element::Kind::context;
        e.packet = p;
        put(std::move(e), out);
    }
    if (exception_open_ && p.kind == Etm4Kind::address) {
        // The address belongs to the exception before it (6.4.7).
        exception_open_ = false;
        Element e;
        e.kind = Element::Kind::exception;
        e.packet = exception_;
        e.packet.address = p.address;
        put(std::move(e), out);
        return;
    }
    const auto simple = [&](Element::Kind kind) {
        Element e;
        e.kind = kind;
        e.packet = p;
        put(std::move(e), out);
    };
    const auto some_atoms = [&](std::uint64_t count) {
        for (std::uint64_t i = 0; i < count; ++i) {
            Element e;
            e.taken = (p.atoms >> i & 1) != 0;
            e.packet.offset = p.kind == Etm4Kind::atoms ? p.offset_of(static_cast<std::uint32_t>(i)) : p.offset;
            put(std::move(e), out);
        }
    };
    switch (p.kind) {
        case Etm4Kind::damage:
            lose(p.offset, p.length, any_ ? StepGapKind::damaged : StepGapKind::lead_in, "bytes that are no packet",
                 out);
            break;
        case Etm4Kind::overflow:
            lose(p.offset, p.length, StepGapKind::lost, "the trace unit's buffer overflowed", out);
            break;
        case Etm4Kind::discard:
            lose(p.offset, p.length, StepGapKind::lost, "the trace unit threw away what it held", out);
            break;
        case Etm4Kind::trace_on:
            lose(p.offset, p.length, StepGapKind::stopped, "tracing was off", out);
            break;
        case Etm4Kind::trace_info: {
            // 6.4.2: so many may be cancelled at this place; those that came before this began are not held here.
            std::size_t open = 0;
            for (const Element& h : held_) open += h.is_p0() ? 1 : 0;
            unseen_ = p.count > open && parameters_.max_speculation > 0 ? std::min<std::size_t>(p.count - open, parameters_.max_speculation) : 0;
            break;
        }
        case Etm4Kind::async:
            synced_ = true;
            sync_at_ = p.offset;
            break;
        case Etm4Kind::exception:
            exception_open_ = p.ends != 0;
            exception_ = p;
            if (!exception_open_) simple(Element::Kind::exception);
            break;
        case Etm4Kind::exception_return:
            simple(Element::Kind::exception_return);
            break;
        case Etm4Kind::address:
            simple(Element::Kind::address);
            break;
        case Etm4Kind::atoms:
            some_atoms(p.count);
            break;
        case Etm4Kind::q:
            simple(Element::Kind::q);
            break;
        case Etm4Kind::commit:
            commit(p.count, out);
            break;
        case Etm4Kind::cancel:
        case Etm4Kind::mispredict:
            cancel(p.kind == Etm4Kind::cancel ? p.count : 0);
            if (p.mispredicted)
                for (std::size_t i = held_.size(); i-- > 0;)
                    if (held_[i].kind == Element::Kind::atom) {
                        held_[i].taken = !held_[i].taken;
                        break;
                    }
            some_atoms(p.value);
            break;
        case Etm4Kind::cycles:
            if (p.count > 0) commit(p.count, out);
            if (p.known) out.time({p.offset, p.value, 0, StepTime::Kind::cycles});
            break;
        case Etm4Kind::timestamp:
            out.time({p.offset, p.value, p.assumed, StepTime::Kind::timestamp, p.sent});
            break;
        default:
            break;
    }
}

}  // namespace mt
