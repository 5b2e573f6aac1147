// Takes what a pipe tells of executed instructions and builds a StepTrail from it.
#pragma once

#include <memory>
#include <span>
#include <unordered_map>
#include <vector>

#include "flow/exception_nest.h"
#include "flow/step_log.h"
#include "trail/step_trail.h"

namespace mt {

/// If the core waited in this run, which begins with `step`: adds the step behind.
inline void note_sleep(const Code& code, const StepRun& r, std::uint64_t step, std::vector<std::uint64_t>& sleeps) {
    if ((code[r.first].flags & FlowInsn::kSleepAhead) == 0) return;
    std::uint32_t nth = 0;
    if (code.sleep_in(r.first, r.last, nth) != Code::kNowhere) sleeps.push_back(step + nth + 1);
}

/// One stream. Takes blocks of what the flow told; one thread at a time.
class StepReader {
  public:
    StepReader(StepTrail& trail, StepTimer timer);

    void take(const StepBlock& block);

    // What the stack tells.
    void enter(const CallFrame& f, std::uint64_t step) {
        note({step, f.function, f.number, f.flags, Event::Kind::enter});
    }
    void leave(const CallFrame& f, std::uint64_t step) {
        note({step, f.function, f.number, f.flags, Event::Kind::leave});
    }

    void leaf(std::uint32_t function, std::uint64_t step, std::uint64_t inside) {
        note({step, function, static_cast<std::uint32_t>(inside), 0, Event::Kind::leaf});
    }

    void finish();
    /// Own time and instructions of functions, which are kept by call path until then.
    void add_up();
    /// Appends what is on the stack, up to the last known moment, to a copy of the trail.
    void add_open(StepTrail& copy) const;
    const CallStack& stack() const { return stack_; }
    const StepMoment& moment() const { return moment_; }
    const StepTimer& timer() const { return timer_; }
    /// Exceptions seen since the last call, for the lanes of interrupts.
    ExceptionNest& nest() { return nest_; }

  private:
    void run(const StepRun& r) {
        note_sleep(*trail_.code, r, stack_.step(), sleeps_);
        stack_.run(r, *this);
    }
    void hop(const Hop& h);
    /// The same run by run; `arrived`: where the first begins is known to the stack already.
    void by_runs(const Hop& h, bool arrived);
    void trap(const StepTrap& t);
    void gap(const StepGap& g);
    void time(const StepTime& t);
    void checkpoint(const StepBlock::Mark& mark);
    /// After a piece of the stream: what needs no later moment goes into the trail.
    void settle();

    struct Event {
        std::uint64_t step = 0;
        std::uint32_t function = 0;
        std::uint32_t number = 0;  ///< of a handler's exception; of gaps and traps: index into gaps_ and traps_; of a
                                   ///< leaf: its instructions
        std::uint8_t flags = 0;    ///< CallFrame::Flag
        enum class Kind : std::uint8_t { enter, leave, leaf, gap, trap } kind = Kind::enter;
    };
    struct Open {
        std::uint32_t function = 0, node = 0;
        std::uint64_t step = 0, steps_inside = 0;
        Time begin, inside, taken;  ///< inside: callees; taken: handlers
        std::uint32_t number = 0;   ///< of the exception, for a handler
        bool recursive = false, handler = false, entered = false;
    };
    [[gnu::always_inline]] void note(const Event& e) {
        if (noted_ == events_.size()) more_events();
        events_[noted_++] = e;
    }
    [[gnu::noinline]] void more_events();
    void flush(const StepMoment& until, bool all);
    void keep_sleeps(const StepSpan& span);
    /// Instructions are missing.
    void miss(const StepGap& gap, std::uint64_t step, Time t);
    /// A call that called nothing, from its begin to its end.
    void pass(const Event& e, Time begin, Time end);
    /// A whole call's length into the figures of its function.
    void count(FunctionTally& f, Time net, std::size_t level, std::size_t index);
    void open(const Event& e, Time t);
    void close(const Event& e, Time t);
    void end_handler(std::uint32_t number, Time t);
    std::uint32_t find_node(std::uint32_t parent, std::uint32_t function);
    std::uint32_t node(std::uint32_t parent, std::uint32_t function);

    static constexpr std::size_t kMostWaiting = 1 << 20, kMomentEach = 4096, kLongSleep = 64;
    StepTrail& trail_;
    StepTimer timer_;
    CallStack stack_;
    std::vector<Event> events_;  ///< the first noted_ of them wait for their times
    std::size_t noted_ = 0;
    std::vector<std::uint64_t> sleeps_;
    std::vector<StepGap> gaps_;
    std::vector<StepTrap> traps_;
    StepMoment moment_;
    bool have_moment_ = false;
    CallLevel& level_at(std::size_t level) {
        while (levels_ <= level) {
            trail_.levels.emplace_back();
            levels_ = trail_.levels.size();
        }
        return trail_.levels[level];
    }

    std::vector<Open> open_;               ///< the first depth_ of them
    std::size_t depth_ = 0, levels_ = 0;   ///< levels_: how many the trail has
    std::vector<std::uint32_t> on_stack_;  ///< per function: how often
    std::unordered_map<std::uint64_t, std::uint32_t> nodes_;
    struct KnownNode {
        std::uint64_t key = ~std::uint64_t{0};
        std::uint32_t node = 0;
    };
    static constexpr unsigned kKnownBits = 12;
    std::vector<KnownNode> known_nodes_;          ///< some of nodes_, found without a search
    std::optional<std::uint64_t> syncs_at_loss_;  ///< how many there were when bytes were last missing or damaged
    ExceptionNest nest_;
    std::vector<std::uint32_t> handlers_;  ///< numbers of handlers on the stack
    Time last_{};
};

}  // namespace mt
