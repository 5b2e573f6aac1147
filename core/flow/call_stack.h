// Executed instructions turned into a call stack: which function was entered, and left, at which instruction.
// Calls and returns after the procedure call standards (Arm IHI 0042, RISC-V psABI); exceptions put a handler on
// top. What does not match is unwound as far as the stack itself tells, and marked.
#pragma once

#include <algorithm>
#include <cstdint>
#include <map>
#include <memory>
#include <utility>
#include <vector>

#include "flow/call_frame.h"
#include "flow/steps.h"
#include "target/functions.h"

namespace mt {

/// Follows one core. Copyable: a copy is a checkpoint. One thread at a time. `Out` has
/// enter(const CallFrame&, std::uint64_t step) and leave(const CallFrame&, std::uint64_t step), properly nested;
/// steps count instructions. Handlers are told as frames with kHandler.
class CallStack {
  public:
    static constexpr std::size_t kMostDepth = 1024;

    CallStack(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions)
        : code_(std::move(code)), functions_(std::move(functions)) {}

    template <class Out>
    void run(const StepRun& r, Out& out) {
        const std::uint32_t f = functions_->at(r.first);
        // Most runs go on in the function they are in.
        if (!(plain_ && f == top_)) arrive(r.first, f, out);
        step_ += r.count;
        end_with(r.last);
    }
    /// The last instruction stays in `function`, which is on top.
    bool plainly_in(std::uint32_t function) const { return plain_ && top_ == function; }
    /// The next instruction stands in `slot`, of `function`: for go_on, which runs it.
    template <class Out>
    [[gnu::always_inline]] void come(std::uint32_t slot, std::uint32_t function, Out& out) {
        // Most come back from a call to where it says.
        if (flow_ == Flow::ret && !trapped_ && !returning_ && !frames_.empty() && frames_.back().back == slot &&
            (frames_.back().flags & CallFrame::kHandler) == 0 &&
            !(slot == behind_ && (flags_ & FlowInsn::kConditional) != 0))
            pop(0, out);
        else
            arrive(slot, function, out);
    }
    bool in(std::uint32_t function) const { return top_ == function; }
    /// True if the function on top was called from where `back` is next, further down the same with the others,
    /// and below them lies what they return to: none of them is a handler.
    bool called_from(const std::uint32_t* back, std::size_t n) const {
        if (n != 0 && frames_.size() <= n) return false;
        for (std::size_t i = 0; i < n; ++i) {
            const CallFrame& f = frames_[frames_.size() - 1 - i];
            if (f.back != back[i] || (f.flags & CallFrame::kHandler) != 0 ||
                frames_[frames_.size() - 2 - i].function != functions_->at(back[i]))
                return false;
        }
        return true;
    }
    bool has_room(std::size_t frames) const { return frames_.size() + frames < kMostDepth; }
    /// `steps` instructions later a call. REQUIRES: the function on top makes it, and has_room(1).
    template <class Out>
    void call(std::uint64_t steps, std::uint32_t function, std::uint32_t back, Out& out) {
        step_ += steps;
        push(function, back, 0, out);
    }
    /// `steps` instructions later a call that returns `inside` instructions after that, having called nothing: as call
    /// and give_back_top, but `out` hears of it in one: leaf(function, step of its first instruction, inside).
    template <class Out>
    void leaf(std::uint64_t steps, std::uint64_t inside, std::uint32_t function, Out& out) {
        step_ += steps;
        out.leaf(function, step_, inside);
        step_ += inside;
    }
    /// `steps` instructions later a return of the function on top to its caller.
    template <class Out>
    void give_back_top(std::uint64_t steps, Out& out) {
        step_ += steps;
        pop(0, out);
    }
    /// A run of the function on top. REQUIRES: plainly_in(it), or come(it).
    void go_on(const StepRun& r) {
        step_ += r.count;
        end_with(r.last);
    }
    /// The same by the number of instructions, and the last one's flow, flags, the slot behind it, and whether
    /// goes_on(flow).
    void go_on(std::uint64_t steps, Flow flow, std::uint8_t flags, std::uint32_t behind, bool plain) {
        step_ += steps;
        flow_ = flow;
        flags_ = flags;
        behind_ = behind;
        plain_ = plain;
    }
    template <class Out>
    void trap(const StepTrap& t, Out& out);
    /// The program leaves a handler; where it goes on, the next run tells.
    void trap_return() {
        returning_ = true;
        plain_ = false;
    }
    /// Instructions are missing: nothing is known of the stack behind this.
    template <class Out>
    void lose(Out& out);
    /// Tracing stops. Where it goes on with what follows the last instruction, whoever was on the stack still is: they are
    /// left with kCutEnd and entered once more with kContinued, and `out` is told before, as go_on(step), if it hears that.
    /// Else nothing is known of the stack.
    template <class Out>
    void pause(Out& out);
    template <class Out>
    void finish(Out& out) {
        lose(out);
    }

    std::uint64_t step() const { return step_; }
    const std::vector<CallFrame>& frames() const { return frames_; }
    /// How often returns went where no caller waited.
    std::uint64_t unmatched() const { return unmatched_; }

  private:
    void end_with(std::uint32_t last) {
        const Code::Slot& s = (*code_)[last];
        flow_ = s.flow;
        flags_ = s.flags;
        behind_ = last + s.size;
        plain_ = goes_on(flow_);
    }
    template <class Out>
    void arrive(std::uint32_t slot, std::uint32_t f, Out& out);
    /// Whether the next instruction, in `slot`, follows the last one before a pause; kNowhere: an exception came, from a
    /// place that is not told.
    bool follows(std::uint32_t slot) const;
    template <class Out>
    void end_pause(std::uint32_t slot, Out& out);
    template <class Out>
    void push(std::uint32_t f, std::uint32_t back, std::uint8_t flags, Out& out, std::uint32_t number = 0) {
        if (frames_.size() >= kMostDepth) return;
        CallFrame frame;
        frame.function = f;
        frame.back = back;
        frame.flags = flags;
        frame.number = number;
        frames_.push_back(frame);
        top_ = f;
        out.enter(frame, step_);
    }
    // Nobody is known to have called it; at its first instruction its beginning was seen all the same.
    template <class Out>
    void push_base(std::uint32_t slot, std::uint32_t f, Out& out) {
        push(f, Code::kNowhere, functions_->is_entry(slot) ? 0 : CallFrame::kCutBegin, out);
    }
    template <class Out>
    [[gnu::always_inline]] void pop(std::uint8_t flags, Out& out) {
        CallFrame frame = frames_.back();
        frames_.pop_back();
        frame.flags |= flags;
        top_ = frames_.empty() ? kNone : frames_.back().function;
        out.leave(frame, step_);
    }
    // Down to the first frame that belongs to the handler that runs: 0, or the handler's own.
    std::size_t floor() const {
        for (std::size_t i = frames_.size(); i-- > 0;)
            if ((frames_[i].flags & CallFrame::kHandler) != 0) return i;
        return 0;
    }
    template <class Out>
    void tail(std::uint32_t slot, std::uint32_t f, Out& out);
    template <class Out>
    void give_back(std::uint32_t slot, std::uint32_t f, bool is_return, Out& out);
    template <class Out>
    void leave_handler(std::uint32_t slot, std::uint32_t f, Out& out);

    static constexpr std::uint32_t kNone = 0xFFFF'FFFF;
    static constexpr std::size_t kMostStashed = 64;
    std::shared_ptr<const Code> code_;
    std::shared_ptr<const FunctionTable> functions_;
    std::vector<CallFrame> frames_;
    std::uint64_t step_ = 0, unmatched_ = 0;
    std::uint32_t top_ = kNone;
    std::uint32_t behind_ = Code::kNowhere;  ///< slot behind the last instruction
    Flow flow_ = Flow::none;                 ///< of the last instruction
    std::uint8_t flags_ = 0;
    bool plain_ = false;  ///< the last instruction stays in its function, as a rule
    bool returning_ = false, trapped_ = false;
    StepTrap trap_;
    std::uint32_t trap_back_ = Code::kNowhere;
    std::map<std::uint32_t, std::vector<CallFrame>> stashed_;  ///< stacks switched away from, by where they go on
    std::vector<CallFrame> paused_;                            ///< the stack, while tracing is stopped
};

template <class Out>
void CallStack::tail(std::uint32_t slot, std::uint32_t f, Out& out) {
    const CallFrame was = frames_.back();
    pop(CallFrame::kReplaced, out);
    // Into the middle of a function (a part of it that stands elsewhere, or what a stack that is not known holds):
    // no entry was seen.
    const unsigned seen = functions_->is_entry(slot) ? 0 : CallFrame::kCutBegin;
    push(f, was.back, static_cast<std::uint8_t>((was.flags & CallFrame::kHandler) | CallFrame::kTail | seen), out,
         was.number);
}

// A jump to where a register says: back to a caller, or on in the same function, or to another in its place.
template <class Out>
void CallStack::give_back(std::uint32_t slot, std::uint32_t f, bool is_return, Out& out) {
    const std::size_t low = floor();
    for (std::size_t i = frames_.size(); i-- > low;) {
        if (frames_[i].back != slot || (frames_[i].flags & CallFrame::kHandler) != 0) continue;
        if (!is_return && i + 1 != frames_.size()) break;
        while (frames_.size() > i + 1) pop(CallFrame::kUnwound, out);
        pop(0, out);
        return;
    }
    if (!is_return) {
        if (f != top_ || (functions_->is_entry(slot) && f != functions_->nameless())) tail(slot, f, out);
        return;
    }
    ++unmatched_;
    // Nobody waits there: below the first frame that was seen, or to where something else put the program.
    for (std::size_t i = frames_.size(); i-- > low;)
        if (frames_[i].function == f && (frames_[i].flags & CallFrame::kHandler) == 0 && i + 1 < frames_.size()) {
            while (frames_.size() > i + 1) pop(CallFrame::kUnwound, out);
            return;
        }
    const bool handler = !frames_.empty() && (frames_[low].flags & CallFrame::kHandler) != 0;
    const std::size_t keep = handler ? low + 1 : low;
    while (frames_.size() > keep) pop(frames_.back().back == Code::kNowhere ? 0 : CallFrame::kUnwound, out);
    if (frames_.empty() || frames_.back().function != f) push_base(slot, f, out);
}

template <class Out>
void CallStack::leave_handler(std::uint32_t slot, std::uint32_t f, Out& out) {
    returning_ = false;
    const std::size_t low = floor();
    if (frames_.empty() || (frames_[low].flags & CallFrame::kHandler) == 0) {
        // The handler's entry was not seen.
        while (!frames_.empty()) pop(0, out);
        push_base(slot, f, out);
        return;
    }
    const std::uint32_t expected = frames_[low].back;
    while (frames_.size() > low + 1) pop(CallFrame::kUnwound, out);
    pop(0, out);
    if (!frames_.empty() && (slot == expected || top_ == f)) return;
    // It went on elsewhere: another stack.
    const std::size_t bottom = frames_.empty()                                       ? 0
                               : (frames_[floor()].flags & CallFrame::kHandler) != 0 ? floor() + 1
                                                                                     : 0;
    if (frames_.size() > bottom) {
        if (stashed_.size() >= kMostStashed) stashed_.erase(stashed_.begin());
        stashed_[expected].assign(frames_.begin() + static_cast<std::ptrdiff_t>(bottom), frames_.end());
        while (frames_.size() > bottom) pop(CallFrame::kCutEnd | CallFrame::kContinued, out);
    }
    const auto found = stashed_.find(slot);
    if (found == stashed_.end()) {
        push_base(slot, f, out);
        return;
    }
    const std::vector<CallFrame> back = std::move(found->second);
    stashed_.erase(found);
    for (const CallFrame& frame : back)
        push(frame.function, frame.back, static_cast<std::uint8_t>(frame.flags | CallFrame::kContinued), out,
             frame.number);
    if (top_ != f) push_base(slot, f, out);
}

inline bool CallStack::follows(std::uint32_t slot) const {
    const CallFrame& top = paused_.back();
    if (slot == Code::kNowhere) return true;
    if (trapped_) return functions_->is_entry(slot);
    if (returning_ || flow_ == Flow::trap_return) {
        const auto handler = std::find_if(paused_.rbegin(), paused_.rend(), [](const CallFrame& f) { return (f.flags & CallFrame::kHandler) != 0; });
        return handler != paused_.rend() && handler->back == slot;
    }
    if (slot == behind_ && (goes_on(flow_) || (flags_ & FlowInsn::kConditional) != 0)) return true;
    const bool within = functions_->at(slot) == top.function;
    switch (flow_) {
        case Flow::branch:
        case Flow::jump:
            return within || functions_->is_entry(slot);
        case Flow::call:
        case Flow::indirect_call:
            return functions_->is_entry(slot);
        case Flow::ret:
        case Flow::indirect:
            return top.back == slot || (flow_ == Flow::indirect && within);
        default:
            return false;
    }
}

template <class Out>
void CallStack::pause(Out& out) {
    if (frames_.empty()) {
        if (paused_.empty()) lose(out);
        return;
    }
    paused_ = frames_;
    while (!frames_.empty()) pop(CallFrame::kCutEnd, out);
    plain_ = false;
}

template <class Out>
void CallStack::end_pause(std::uint32_t slot, Out& out) {
    if (!follows(slot)) return lose(out);
    const std::vector<CallFrame> back = std::exchange(paused_, {});
    const auto unknown = [](const CallFrame& f) { return (f.flags & CallFrame::kHandler) != 0 && f.number == StepTrap::kUnknown; };
    if constexpr (requires { out.go_on(step_); })
        if (std::none_of(back.begin(), back.end(), unknown)) out.go_on(step_);
    for (const CallFrame& f : back) push(f.function, f.back, static_cast<std::uint8_t>(f.flags | CallFrame::kContinued), out, f.number);
}

template <class Out>
void CallStack::arrive(std::uint32_t slot, std::uint32_t f, Out& out) {
    if (frames_.empty() && !paused_.empty()) end_pause(slot, out);
    if (trapped_) {
        trapped_ = false;
        push(f, trap_back_, CallFrame::kHandler, out, trap_.number);
        return;
    }
    if (frames_.empty()) {
        returning_ = false;
        push_base(slot, f, out);
        return;
    }
    if (returning_ || flow_ == Flow::trap_return) {
        leave_handler(slot, f, out);
        return;
    }
    switch (flow_) {
        case Flow::call:
        case Flow::indirect_call:
            if (slot == behind_ && (flags_ & FlowInsn::kConditional) != 0) return;
            if ((flags_ & FlowInsn::kPop) != 0) {  // back to one, with the way back again: co-routines
                give_back(slot, f, true, out);
                return;
            }
            push(f, behind_, 0, out);
            return;
        case Flow::ret:
        case Flow::indirect:
            if (slot == behind_ && (flags_ & FlowInsn::kConditional) != 0) return;
            give_back(slot, f, flow_ == Flow::ret, out);
            return;
        default:
            if (f != top_) tail(slot, f, out);
            return;
    }
}

template <class Out>
void CallStack::trap(const StepTrap& t, Out& out) {
    std::uint32_t from = t.slot(*code_);
    if (frames_.empty() && !paused_.empty()) {
        end_pause(from, out);
        if (from == Code::kNowhere && (flow_ == Flow::next || flow_ == Flow::barrier)) from = behind_;
    }
    // A handler that was entered, but has not begun when the next exception comes, goes on later.
    const bool unbegun = trapped_ && !t.tail_chained && from != trap_back_ && functions_->is_entry(from);
    if (unbegun) arrive(from, functions_->at(from), out);
    bool chained = trapped_;  // an exception in place of one whose handler never ran
    // Where the trace does not say that a handler ended: it returned, and led nowhere but into this (Armv7-M B1.5.12).
    const bool ended = from == Code::kNowhere && (flow_ == Flow::ret || flow_ == Flow::indirect) && code_->isa() == Isa::thumb &&
                       !frames_.empty() && (frames_.back().flags & CallFrame::kHandler) != 0;
    if (!chained && (returning_ || ended || (t.tail_chained && !frames_.empty()))) {
        if (returning_ && from != Code::kNowhere) {
            // Where the handler would have gone back to is told: it may be another stack.
            leave_handler(from, functions_->at(from), out);
            trap_back_ = from;
            chained = true;
        } else {
            returning_ = false;
            const std::size_t low = floor();
            if (!frames_.empty() && (frames_[low].flags & CallFrame::kHandler) != 0) {
                trap_back_ = frames_[low].back;
                while (frames_.size() > low) pop(0, out);
                chained = true;
            }
        }
    }
    // What was on its way when the exception came arrived first.
    if (!chained && !unbegun && from != Code::kNowhere && !frames_.empty() && flow_ != Flow::trap &&
        !(plain_ && functions_->at(from) == top_))
        arrive(from, functions_->at(from), out);
    if (!chained) trap_back_ = from;
    trapped_ = true;
    plain_ = false;
    trap_ = t;
    if (const auto id = exception_of(t, *code_)) trap_.number = id->code();
}

template <class Out>
void CallStack::lose(Out& out) {
    while (!frames_.empty()) pop(CallFrame::kCutEnd, out);
    stashed_.clear();
    paused_.clear();
    trapped_ = returning_ = plain_ = false;
    flow_ = Flow::none;
}

}  // namespace mt
