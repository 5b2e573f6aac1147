// Takes what a pipe tells of executed instructions, and makes a call stack of it: who was entered and left, and at
// which instruction.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <utility>
#include <vector>

#include "flow/call_stack.h"
#include "flow/step_log.h"
#include "flow/step_timing.h"
#include "pass/call_book.h"

namespace mt {

/// One stream. Takes blocks of what the flow told; one thread at a time. Writes checkpoints, counts and the begin of a
/// trail; the rest is made of the batches that it hands on.
class StepReader {
  public:
    /// Takes a full batch, and gives one to be filled: the same, or another.
    using Book = std::function<std::unique_ptr<CallBatch>(std::unique_ptr<CallBatch>)>;

    /// A batch is full once it has so many events or stretches.
    StepReader(StepTrail& trail, StepTimer timer, Book book, std::size_t batch_events);

    void take(const StepBlock& block);
    /// Hands on what can get its time.
    void hand_on();
    void finish();
    /// The counts that the blocks' makers have, with what lies between the items of blocks: which way branches went.
    StepCounters with_branches(RunCounts runs) const;

    // What the stack tells.
    void enter(const CallFrame& f, std::uint64_t step) {
        timing_.entered();
        note({step, f.function, f.number, f.flags, Event::Kind::enter});
    }
    void leave(const CallFrame& f, std::uint64_t step) {
        if (f.flags == 0 && noted_ > timed_) {
            Event& before = batch_->events[noted_ - 1];
            if (before.kind == Event::Kind::enter && before.flags == 0 && (step - before.step) >> 32 == 0) {
                before.kind = Event::Kind::leaf;  // entered, called nothing, left
                before.number = static_cast<std::uint32_t>(step - before.step);
                return;
            }
        }
        note({step, f.function, f.number, f.flags, Event::Kind::leave});
    }
    void go_on(std::uint64_t step) { note({step, 0, 0, 0, Event::Kind::go_on}); }
    void leaf(std::uint32_t function, std::uint64_t step, std::uint64_t inside) {
        timing_.entered();
        note({step, function, static_cast<std::uint32_t>(inside), 0, Event::Kind::leaf});
    }

  private:
    using Event = CallBatch::Event;

    void run(const StepRun& r) {
        note_sleep(*trail_.code, r, stack_.step(), batch_->sleeps);
        stack_.run(r, *this);
    }
    void hop(const Hop& h);
    /// The next instruction executed: it shows where the last branch led.
    void came(std::uint32_t slot) {
        if (behind_ != Code::kNowhere && behind_ != slot) ++taken_[open_branch()];
    }
    /// Where the branch led that is open: goes on at `slot`; nothing if nobody knows.
    void end_branch(std::optional<std::uint32_t> slot);
    std::uint32_t open_branch() const { return branch_in_ != nullptr ? branch_in_->runs.back().last : branch_; }
    /// The same run by run; `arrived`: where the first begins is known to the stack already.
    void by_runs(const Hop& h, bool arrived);
    void trap(const StepTrap& t);
    void data(const StepData& d) {
        timing_.entered();
        note({stack_.step(), 0, static_cast<std::uint32_t>(batch_->data.size()), 0, Event::Kind::data});
        batch_->data.push_back(d);
    }
    void gap(const StepGap& g);
    void time(const StepTime& t);
    void checkpoint(const StepBlock::Mark& mark);
    /// After a piece of the stream: what needs no later moment can get its time.
    void settle();
    [[gnu::always_inline]] void note(const Event& e) {
        if (noted_ == batch_->events.size()) more_events();
        batch_->events[noted_++] = e;
    }
    [[gnu::noinline]] void more_events();
    void flush(const StepTiming::Stretch& stretch, bool last);

    StepTrail& trail_;
    StepTiming timing_;
    CallStack stack_;
    Book book_;
    std::size_t batch_events_;
    std::unique_ptr<CallBatch> batch_;
    std::size_t noted_ = 0, timed_ = 0;  ///< events in batch_, and those of them that have a moment behind them
    // A branch that was executed, and of which the next instruction tells whether it was taken.
    std::uint32_t behind_ = Code::kNowhere;  ///< where it leads if it was not; kNowhere: there is none
    const Hop* branch_in_ = nullptr;         ///< the hop that ends with it, or …
    std::uint32_t branch_ = Code::kNowhere;  ///< … its slot
    std::vector<std::uint64_t> taken_, undecided_;
    std::uint64_t sure_until_ = 0;       ///< step of the last synchronisation
    unsigned syncs_wanted_ = 0;          ///< that are told on behind a gap
    bool begun_ = false;                 ///< something has its time
};

}  // namespace mt
