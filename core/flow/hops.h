// Stretches of program between branches that were walked before: many branches at the cost of one look-up.
#pragma once

#include <cstdint>
#include <memory>
#include <vector>

#include "target/functions.h"

namespace mt {

/// Where some branches lead from a place, as long as nothing else happens than branches and jumps within one function.
struct Hop {
    std::uint32_t from = Code::kNowhere, key = 0;
    std::uint32_t end = 0;       ///< where the walk stands then
    std::uint32_t steps = 0;     ///< instructions executed on the way
    std::uint32_t last = 0;      ///< the last instruction executed on the way
    std::uint32_t function = 0;  ///< that all of it lies in
    std::uint32_t used = 0;      ///< branches on the way; 0: the very first leads elsewhere
    std::uint64_t count = 0;     ///< how often it was taken since it was made
};

/// One thread at a time. A walk is either of the kind that RISC-V trace tells (only conditional branches count; it
/// stands on a branch that was executed, and leaves it by the next bit; a set bit means not taken), or of the kind that
/// Arm trace tells (each branch and jump counts; it stands before an instruction to be executed; a set bit means
/// taken).
class HopTable {
  public:
    HopTable(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions);

    /// The hop from `slot` by the first of `available` bits. REQUIRES: available > 0. Tells `retire(hop)` of one that
    /// makes room.
    template <class Retire>
    Hop& look_up(std::uint32_t slot, std::uint64_t bits, std::uint32_t available, Retire retire) {
        const std::uint32_t length = available >= 8 ? 8 : available >= 4 ? 4 : available >= 2 ? 2 : 1;
        const std::uint32_t key = length << 8 | static_cast<std::uint32_t>(bits & ((1u << length) - 1));
        Hop& h = hops_[(slot * 0x9E37'79B1u ^ key * 0x85EB'CA6Bu) >> (32 - kBits)];
        if (h.from == slot && h.key == key) return h;
        if (h.count > 0) retire(h);
        make(h, slot, key);
        return h;
    }
    /// Walks a hop again and tells run(first, last) of each straight run.
    template <class Run>
    void each_run(const Hop& h, Run run) const;
    template <class Each>
    void each(Each each) {
        for (Hop& h : hops_)
            if (h.count > 0) each(h);
    }

  private:
    static constexpr unsigned kBits = 15;
    void make(Hop& h, std::uint32_t slot, std::uint32_t key) const;
    /// One branch further: tells `run`, gives where the walk stands, or kNowhere if it is none for a hop. `more`: the
    /// walk may go on from there.
    template <class Run>
    std::uint32_t further(std::uint32_t at, bool bit, bool& more, Run run) const;

    std::shared_ptr<const Code> code_;
    std::shared_ptr<const FunctionTable> functions_;
    std::vector<Hop> hops_;
    bool arm_;
};

template <class Run>
std::uint32_t HopTable::further(std::uint32_t at, bool bit, bool& more, Run run) const {
    const Code& code = *code_;
    const std::uint32_t f = functions_->at(at);
    const auto fits = [&](std::uint32_t begin) {
        return begin != Code::kNowhere && code[begin].flow != Flow::none && functions_->at(begin) == f &&
               (code[begin].flags & FlowInsn::kSleepAhead) == 0;
    };
    more = false;
    if (arm_) {
        if (!fits(at)) return Code::kNowhere;
        const Code::Slot& s = code[code[at].last];
        const std::uint32_t behind = code[at].last + s.size;
        const bool conditional = (s.flags & FlowInsn::kConditional) != 0;
        // Only where it leads is told by the program itself, and nothing goes onto a return stack.
        if ((s.flow != Flow::branch && s.flow != Flow::jump) || (!bit && !conditional) ||
            (s.flags & (FlowInsn::kPush | FlowInsn::kPop)) != 0)
            return Code::kNowhere;
        const std::uint32_t to = bit ? s.target : behind;
        if (to == Code::kNowhere) return Code::kNowhere;
        run(at, code[at].last);
        more = fits(to);
        return to;
    }
    const Code::Slot& branch = code[at];
    if (branch.flow != Flow::branch) return Code::kNowhere;
    std::uint32_t begin = bit ? code.next(at) : branch.target;
    // Through jumps to the next branch; loops of jumps alone are for others to judge.
    std::uint32_t begins[8];
    std::size_t n = 0;
    for (;;) {
        if (!fits(begin) || n == std::size(begins)) return Code::kNowhere;
        begins[n++] = begin;
        if (code[code[begin].last].flow != Flow::jump) break;
        begin = code[code[begin].last].target;
    }
    for (std::size_t i = 0; i < n; ++i) run(begins[i], code[begins[i]].last);
    const std::uint32_t last = code[begin].last;
    more = code[last].flow == Flow::branch;
    return last;
}

template <class Run>
void HopTable::each_run(const Hop& h, Run run) const {
    std::uint32_t at = h.from;
    bool more = true;
    for (std::uint32_t i = 0; i < h.used; ++i) at = further(at, (h.key >> i & 1) != 0, more, run);
}

}  // namespace mt
