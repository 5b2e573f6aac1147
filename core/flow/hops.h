// Stretches of program between branches that were walked before: many branches at the cost of one look-up.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <memory>
#include <vector>

#include "target/functions.h"

namespace mt {

/// Where some branches lead from a place, as long as nothing else happens than branches, jumps, calls, and returns to
/// where the return stack says.
struct Hop {
    /// A call or a return on the way.
    struct Move {
        std::uint32_t back = 0;      ///< slot that is returned to
        std::uint32_t function = 0;  ///< that is called, or returned to
        std::uint32_t steps = 0;     ///< instructions from the hop's begin up to and with the call or return
        bool enters = false;
    };
    static constexpr std::size_t kMostMoves = 6, kMostPops = 2;

    std::uint32_t from = Code::kNowhere, key = 0;
    std::uint32_t end = 0;                       ///< where the walk stands then
    std::uint32_t steps = 0;                     ///< instructions executed on the way
    std::uint32_t last = 0;                      ///< the last instruction executed on the way
    std::uint32_t function = 0;                  ///< that it begins in …
    std::uint32_t ends_in = 0;                   ///< … and ends in
    std::uint8_t used = 0;                       ///< branches on the way; 0: the very first leads elsewhere
    std::uint8_t moves = 0;                      ///< how many of `move` there are
    std::uint8_t pops = 0;                       ///< returns to calls from before the hop
    std::uint8_t height = 0;                     ///< calls open at once at the most, above those from before
    std::array<std::uint32_t, kMostPops> top{};  ///< what the return stack held, from the top; kNowhere: nothing
    std::uint64_t count = 0;                     ///< how often it was taken since it was made
    std::array<Move, kMostMoves> move{};
};

/// What a walk knows of where returns go.
struct ReturnStack {
    const std::vector<std::uint32_t>* returns = nullptr;  ///< the innermost last; null: the trace tells of each return
    std::size_t most = 0;                                 ///< the oldest makes room beyond this
    bool calls = false;                                   ///< hops may go over calls
    std::uint32_t top(std::size_t i) const {
        return returns != nullptr && i < returns->size() ? (*returns)[returns->size() - 1 - i] : Code::kNowhere;
    }
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
    Hop& look_up(std::uint32_t slot, std::uint64_t bits, std::uint32_t available, const ReturnStack& stack,
                 Retire retire) {
        const std::uint32_t length = arm_ ? (available >= 8   ? 8
                                             : available >= 4 ? 4
                                             : available >= 2 ? 2
                                                              : 1)
                                          : std::min(available, kMostBits);
        const std::uint32_t key = (stack.calls ? 1u << 16 : 0) | (stack.returns != nullptr ? 1u << 17 : 0) |
                                  length << 8 | static_cast<std::uint32_t>(bits & ((1u << length) - 1));
        const std::uint32_t top = stack.top(0);
        Hop& h = hops_[(slot * 0x9E37'79B1u ^ key * 0x85EB'CA6Bu ^ top * 0xC2B2'AE35u) >> (32 - kBits)];
        if (h.from == slot && h.key == key && h.top[0] == top && (h.pops < 2 || h.top[1] == stack.top(1))) return h;
        if (h.count > 0) retire(h);
        make(h, slot, key, {top, stack.top(1)});
        return h;
    }
    /// Walks a hop again and tells run(first, last) of each straight run. `h` needs from, key, used and top only.
    template <class Run>
    void each_run(const Hop& h, Run run) const;
    template <class Each>
    void each(Each each) {
        for (Hop& h : hops_)
            if (h.count > 0) each(h);
    }

  private:
    static constexpr unsigned kBits = 15;
    static constexpr std::uint32_t kMostBits = 8;

    // Where a walk stands on its way, and what it would tell of itself.
    struct Walk {
        std::uint32_t at = 0, function = 0;
        Hop* hop = nullptr;  ///< counts and moves go here; null: nobody asks
        std::array<std::uint32_t, Hop::kMostPops> top{};
        std::uint8_t pops = 0;
        std::uint8_t open = 0;  ///< calls on the way that have not returned
        struct Call {
            std::uint32_t back = 0, function = 0;
        };
        std::array<Call, Hop::kMostMoves> call{};
    };

    void make(Hop& h, std::uint32_t slot, std::uint32_t key, std::array<std::uint32_t, Hop::kMostPops> top) const;
    /// One branch further: tells `run` of each straight run. False, and nothing told, if that is none for a hop.
    /// `more`: the walk may go on from there.
    template <class Run>
    bool further(Walk& w, std::uint32_t key, bool bit, bool& more, Run run) const;
    template <class Run>
    bool further_arm(Walk& w, bool bit, bool& more, Run run) const;
    bool fits(std::uint32_t begin, std::uint32_t function) const {
        const Code& code = *code_;
        return begin != Code::kNowhere && code[begin].flow != Flow::none && functions_->at(begin) == function &&
               (code[begin].flags & FlowInsn::kSleepAhead) == 0;
    }

    std::shared_ptr<const Code> code_;
    std::shared_ptr<const FunctionTable> functions_;
    std::vector<Hop> hops_;
    bool arm_;
};

template <class Run>
bool HopTable::further_arm(Walk& w, bool bit, bool& more, Run run) const {
    const Code& code = *code_;
    if (!fits(w.at, w.function)) return false;
    const std::uint32_t last = code[w.at].last;
    const Code::Slot& s = code[last];
    const bool conditional = (s.flags & FlowInsn::kConditional) != 0;
    // Only where it leads is told by the program itself, and nothing goes onto a return stack.
    if ((s.flow != Flow::branch && s.flow != Flow::jump) || (!bit && !conditional) ||
        (s.flags & (FlowInsn::kPush | FlowInsn::kPop)) != 0)
        return false;
    const std::uint32_t to = bit ? s.target : last + s.size;
    if (to == Code::kNowhere) return false;
    run(w.at, last);
    w.at = to;
    more = fits(to, w.function);
    return true;
}

template <class Run>
bool HopTable::further(Walk& w, std::uint32_t key, bool bit, bool& more, Run run) const {
    more = false;
    if (arm_) return further_arm(w, bit, more, run);
    const Code& code = *code_;
    const bool calls = (key >> 16 & 1) != 0, returns = (key >> 17 & 1) != 0;
    const Code::Slot& branch = code[w.at];
    if (branch.flow != Flow::branch) return false;
    std::uint32_t begin = bit ? code.next(w.at) : branch.target;
    // To the next branch through jumps, calls and returns; loops of jumps alone are for others to judge.
    Walk to = w;
    std::array<Hop::Move, Hop::kMostMoves> moved;
    std::uint32_t begins[10];
    std::size_t n = 0, moves = 0, before = w.hop != nullptr ? w.hop->moves : 0;
    std::uint32_t steps = w.hop != nullptr ? w.hop->steps : 0;
    std::uint8_t height = 0;
    for (;;) {
        if (!fits(begin, to.function) || n == std::size(begins)) return false;
        begins[n++] = begin;
        steps += code[begin].count;
        const std::uint32_t last = code[begin].last;
        const Code::Slot& s = code[last];
        if (s.flow == Flow::branch) {
            to.at = last;
            break;
        }
        if (s.flow == Flow::jump) {
            begin = s.target;
            continue;
        }
        if (before + moves == Hop::kMostMoves) return false;
        if (s.flow == Flow::call && calls && (s.flags & FlowInsn::kPush) != 0 && s.target != Code::kNowhere) {
            const std::uint32_t back = code.next(last);
            if (functions_->at(back) != to.function || to.open == to.call.size()) return false;
            to.call[to.open++] = {back, to.function};
            height = std::max(height, to.open);
            to.function = functions_->at(s.target);
            begin = s.target;
            moved[moves++] = {back, to.function, steps, true};
        } else if (s.flow == Flow::ret && returns && (s.flags & FlowInsn::kPush) == 0) {
            std::uint32_t back = Code::kNowhere;
            if (to.open > 0) {
                back = to.call[--to.open].back;
                to.function = to.call[to.open].function;
            } else if (to.pops < Hop::kMostPops) {
                back = to.top[to.pops++];
                to.function = functions_->at(back);
            }
            if (back == Code::kNowhere) return false;
            begin = back;
            moved[moves++] = {back, to.function, steps, false};
        } else {
            return false;
        }
    }
    for (std::size_t i = 0; i < n; ++i) run(begins[i], code[begins[i]].last);
    w = to;
    if (w.hop != nullptr) {
        for (std::size_t i = 0; i < moves; ++i) w.hop->move[w.hop->moves++] = moved[i];
        w.hop->height = std::max(w.hop->height, height);
        w.hop->pops = w.pops;
    }
    more = true;
    return true;
}

template <class Run>
void HopTable::each_run(const Hop& h, Run run) const {
    Walk w;
    w.at = h.from;
    w.function = functions_->at(h.from);
    w.top = h.top;
    bool more = true;
    for (std::uint32_t i = 0; i < h.used; ++i) further(w, h.key, (h.key >> i & 1) != 0, more, run);
}

}  // namespace mt
