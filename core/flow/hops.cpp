#include "flow/hops.h"

namespace mt {

HopTable::HopTable(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions)
    : code_(std::move(code)),
      functions_(std::move(functions)),
      entries_(std::size_t{1} << kBits),
      arm_(!code_->riscv()) {}

void HopTable::run(std::uint32_t first, std::uint32_t last) {
    const Code& code = *code_;
    Walk& w = walk_;
    const std::uint32_t count = code[first].count - code[last].count + 1;
    std::uint32_t nth = 0;
    if ((code[first].flags & FlowInsn::kSleepAhead) != 0 && code.sleep_in(first, last, nth) != Code::kNowhere)
        w.sleeps.push_back(w.steps + nth + 1);
    w.runs.push_back({first, last, count});
    w.steps += count;
    w.halfwords += last + code[last].size - first;
}

// The call that ends the last run.
bool HopTable::call(std::uint32_t last) {
    const Code& code = *code_;
    Walk& w = walk_;
    const Code::Slot& s = code[last];
    const std::uint32_t back = code.next(last);
    if ((s.flags & FlowInsn::kPush) == 0 || (s.flags & FlowInsn::kPop) != 0 || s.target == Code::kNowhere ||
        s.target == back || functions_->at(back) != w.function || w.open == w.call.size() ||
        w.moves.size() == Hop::kMostMoves)
        return false;
    w.call[w.open++] = {back, w.function};
    w.height = std::max(w.height, w.open);
    w.function = functions_->at(s.target);
    w.at = s.target;
    w.moves.push_back({back, w.function, w.steps, 0, true});
    return true;
}

// The return that ends the last run.
bool HopTable::give_back(bool from_stack) {
    Walk& w = walk_;
    if (w.moves.size() == Hop::kMostMoves) return false;
    std::uint32_t back = Code::kNowhere;
    if (w.open > 0) {
        back = w.call[--w.open].back;
        w.function = w.call[w.open].function;
    } else if (from_stack && w.reads < Hop::kMostPops) {
        back = w.top[w.reads++];
        w.function = functions_->at(back);
    }
    if (back == Code::kNowhere) return false;
    w.at = back;
    w.moves.push_back({back, w.function, w.steps, 0, false});
    return true;
}

// The next branch through jumps, calls and returns; kNowhere if there is none for a hop. Loops of jumps alone are for
// others to judge.
std::uint32_t HopTable::branch_ahead(std::uint32_t key) {
    const Code& code = *code_;
    Walk& w = walk_;
    for (std::size_t n = 0; n < 10; ++n) {
        if (!fits(w.at, w.function)) return Code::kNowhere;
        const std::uint32_t last = code[w.at].last;
        const Code::Slot& s = code[last];
        run(w.at, last);
        switch (s.flow) {
            case Flow::branch:
                return last;
            case Flow::jump:
                w.at = s.target;
                break;
            case Flow::call:
                if ((key & kCalls) == 0 || !call(last)) return Code::kNowhere;
                break;
            case Flow::ret:
                if ((key & kReturns) == 0 || (s.flags & FlowInsn::kPush) != 0 || !give_back(true))
                    return Code::kNowhere;
                break;
            default:
                return Code::kNowhere;
        }
    }
    return Code::kNowhere;
}

bool HopTable::further(std::uint32_t key, bool bit) {
    Walk& w = walk_;
    const Code::Slot& branch = (*code_)[w.at];
    if (branch.flow != Flow::branch) return false;
    w.at = bit ? code_->next(w.at) : branch.target;
    w.at = branch_ahead(key);
    return w.at != Code::kNowhere;
}

// `final`: no bits are known behind this one.
bool HopTable::further_arm(std::uint32_t key, bool bit, bool final) {
    const Code& code = *code_;
    Walk& w = walk_;
    if (!fits(w.at, w.function)) return false;
    const std::uint32_t last = code[w.at].last;
    const Code::Slot& s = code[last];
    if (s.flow == Flow::none || s.flow == Flow::next || s.flow == Flow::trap_return) return false;
    run(w.at, last);
    const std::uint32_t next = last + s.size;
    if (!bit) {
        w.at = next;
        return (s.flags & FlowInsn::kConditional) != 0;
    }
    switch (s.flow) {
        case Flow::branch:
        case Flow::jump:
            w.at = s.target;
            return s.target != Code::kNowhere && (s.flags & (FlowInsn::kPush | FlowInsn::kPop)) == 0;
        case Flow::barrier:
            w.at = next;
            return true;
        case Flow::call:
            return call(last);
        default:
            break;
    }
    if (final && (key & kToAddress) != 0) {
        w.at = w.top[0];
        w.reads = 1;
        return w.address = true;
    }
    // From the return stack only if no address can follow.
    return s.flow == Flow::ret && (key & kReturns) != 0 && (!final || (key & kMoreBehind) != 0) &&
           (s.flags & FlowInsn::kPush) == 0 && give_back(true) && w.at != next;
}

bool HopTable::further_ahead(std::uint32_t key, bool bit) {
    const std::uint32_t branch = branch_ahead(key);
    if (branch == Code::kNowhere) return false;
    walk_.at = bit ? (*code_)[branch].target : code_->next(branch);
    return walk_.at != Code::kNowhere;
}

bool HopTable::further_each(std::uint32_t key, std::uint32_t atoms, std::uint32_t& told, std::uint32_t length) {
    const Code& code = *code_;
    Walk& w = walk_;
    if (!fits(w.at, w.function)) return false;
    const std::uint32_t end = told + code[w.at].count;
    const Flow flow = code[code[w.at].last].flow;
    if (end > length || flow == Flow::trap) return false;
    const bool final = end == length && (key & kToAddress) != 0;
    if (!further_arm(key, (atoms >> (end - 1) & 1) != 0, final) || (final && !w.address)) return false;
    told = end;
    return true;
}

const Hop* HopTable::keep(std::uint32_t used, std::uint32_t before) {
    Walk& w = walk_;
    Hop& h = store_->add();
    h.end = w.at;
    h.before = before;
    h.steps = w.steps;
    h.first = w.runs.front().first;
    h.function = functions_->at(h.first);
    h.used = static_cast<std::uint8_t>(used);
    const std::uint32_t last_insn = w.runs.back().last;
    h.behind = code_->next(last_insn);
    h.flow = (*code_)[last_insn].flow;
    h.flags = (*code_)[last_insn].flags;
    h.plain = goes_on(h.flow);
    h.decides = decides(h.flow, h.flags);
    h.height = w.height;
    h.address = w.address;
    h.halfwords = w.halfwords;
    h.top = w.top;
    h.runs = store_->keep(w.runs);
    for (std::size_t i = 0; i + 1 < w.moves.size(); ++i) {
        const Hop::Move &call = w.moves[i], &back = w.moves[i + 1];
        if (call.enters && !back.enters && back.steps != w.steps) w.moves[i].inside = back.steps - call.steps;
    }
    h.moves = store_->keep(w.moves);
    h.sleeps = store_->keep(w.sleeps);
    std::vector<std::uint32_t> leaves;
    for (const Hop::Move& m : h.moves) {
        const bool last = m.steps == h.steps;
        if (m.enters) {
            leaves.push_back(m.back);
        } else if (!leaves.empty()) {
            leaves.pop_back();
        } else {
            ++h.takes;
            if (!last) ++h.pops;
        }
        if (last) h.moves = h.moves.first(h.moves.size() - 1);
    }
    h.leaves = store_->keep(leaves);
    h.stacks = h.takes != 0 || !h.leaves.empty();
    h.waits = !h.sleeps.empty();
    return &h;
}

const Hop* HopTable::make(std::uint32_t slot, std::uint32_t key, std::array<std::uint32_t, Hop::kMostPops> top) {
    Walk& w = walk_;
    const auto begin = [&] {
        w.runs.clear();
        w.moves.clear();
        w.sleeps.clear();
        w.at = slot;
        w.function = functions_->at(slot);
        w.top = top;
        w.open = w.reads = w.height = 0;
        w.address = false;
        w.steps = w.halfwords = 0;
    };
    const std::uint32_t length = key >> 8 & 63;
    const auto walk = [&](std::uint32_t bits) {
        begin();
        if ((key & kEach) != 0) {
            std::uint32_t told = 0;
            while (told < bits && further_each(key, top[1], told, length)) {
            }
            return told;
        }
        for (std::uint32_t i = 0; i < bits; ++i) {
            const bool bit = (key >> i & 1) != 0;
            if (!(arm_                  ? further_arm(key, bit, i + 1 == length)
                  : (key & kAhead) != 0 ? further_ahead(key, bit)
                                        : further(key, bit)))
                return i;
        }
        return bits;
    };
    const std::uint32_t used = walk(length);
    if (used == 0) return nullptr;
    if (used < length) (void)walk(used);  // again, without what spoilt it
    return keep(used, w.at);
}

const Hop* HopTable::make_of(const std::vector<StepRun>& runs, std::uint32_t used, std::uint32_t before) {
    constexpr std::size_t kMostRuns = 64;
    const Code& code = *code_;
    Walk& w = walk_;
    if (runs.empty() || runs.size() > kMostRuns) return nullptr;
    w = {};
    w.function = functions_->at(runs.front().first);
    for (std::size_t i = 0; i < runs.size(); ++i) {
        const Code::Slot& s = code[runs[i].last];
        if (functions_->at(runs[i].first) != w.function) return nullptr;
        if (i + 1 < runs.size() && (!goes_on(s.flow) || (s.flags & FlowInsn::kPush) != 0)) return nullptr;
        run(runs[i].first, runs[i].last);
    }
    w.at = runs.back().last;
    return keep(used, before);
}

}  // namespace mt
