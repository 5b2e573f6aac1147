// Calls and returns, told by instructions, become spans in time and figures of functions.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <unordered_map>
#include <vector>

#include "flow/exception_nest.h"
#include "model/step_trail.h"

namespace mt {

/// What happened on the stack between moments that are known, in order.
struct CallBatch {
    static constexpr unsigned kSyncsToTrust = 2;  ///< synchronisations behind a gap until all is sure again
    struct Event {
        std::uint64_t step = 0;
        std::uint32_t function = 0;
        std::uint32_t number = 0;  ///< of a handler's exception; of gaps and traps: index into the lists below, of data too; of a
                                   ///< leaf: its instructions
        std::uint8_t flags = 0;    ///< CallFrame::Flag
        /// sync: of the first two synchronisations behind a gap; go_on: behind a gap all is as it was.
        enum class Kind : std::uint8_t { enter, leave, leaf, gap, trap, sync, data, go_on } kind = Kind::enter;
    };
    /// From one known moment to the next: it begins where the one before ends, also in the lists.
    struct Stretch {
        StepMoment to;
        std::uint32_t events = 0, sleeps = 0, gaps = 0, traps = 0, data = 0;  ///< where it ends in the lists
        bool last = false;                                          ///< of all
        bool unsure = false;                                        ///< see StepTiming::Stretch
    };
    StepMoment from;                    ///< where the first stretch begins
    std::vector<Event> events;          ///< as many of them as the last stretch says
    std::vector<std::uint64_t> sleeps;  ///< steps behind instructions that waited, ascending
    std::vector<StepGap> gaps;
    std::vector<std::uint64_t> sure_until;  ///< for each gap: the step of the last synchronisation before it
    std::vector<StepTrap> traps;
    std::vector<StepData> data;
    std::vector<Stretch> stretches;

    void clear() {
        sleeps.clear();
        gaps.clear();
        sure_until.clear();
        traps.clear();
        data.clear();
        stretches.clear();
    }
};

/// One stream. Writes levels, figures, tree, gaps, traps, moments and the end of a trail; what else stands there is
/// others' business, at the same time perhaps. One thread at a time.
class CallBook {
  public:
    /// `core`: the clock of the core.
    CallBook(StepTrail& trail, QuickClock core);

    void take(const CallBatch& batch);
    void finish();
    /// Own time and instructions of functions, which are kept by call path until then.
    void add_up();
    /// Appends what is on the stack, up to the last known moment, to a copy of the trail.
    void add_open(StepTrail& copy) const;
    /// Exceptions seen since it was cleared, for the lanes of interrupts.
    ExceptionNest& nest() { return nest_; }

  private:
    using Event = CallBatch::Event;
    struct Open {
        std::uint32_t function = 0, node = 0;
        std::uint64_t step = 0, steps_inside = 0;
        Time begin, inside, taken;  ///< inside: callees; taken: handlers
        std::uint32_t number = 0;   ///< of the exception, for a handler
        bool recursive = false, handler = false, entered = false;
    };
    void keep_sleeps(const StepSpan& span, std::span<const std::uint64_t> sleeps);
    /// Instructions are missing.
    void miss(const StepGap& gap, std::uint64_t step, Time t);
    void close_gap();
    void enter_unbegun(std::uint64_t step);
    /// A known moment at `step` or before it.
    Time time_before(std::uint64_t step) const;
    /// A call that called nothing, from its begin to its end.
    void pass(const Event& e, Time begin, Time end);
    /// A whole call's work and duration into the figures of its function.
    void count(FunctionTally& f, Time work, Time length, std::size_t level, std::size_t index);
    void open(const Event& e, Time t);
    void close(const Event& e, Time t);
    void end_handler(std::uint32_t number, Time t);
    std::uint32_t find_node(std::uint32_t parent, std::uint32_t function);
    std::uint32_t node(std::uint32_t parent, std::uint32_t function);
    CallLevel& level_at(std::size_t level) {
        while (levels_ <= level) {
            trail_.levels.emplace_back();
            levels_ = trail_.levels.size();
        }
        return trail_.levels[level];
    }

    static constexpr std::size_t kMomentEach = 4096, kLongSleep = 64;
    StepTrail& trail_;
    QuickClock core_;
    std::vector<Open> open_;               ///< the first depth_ of them
    std::size_t depth_ = 0, levels_ = 0;   ///< levels_: how many the trail has
    std::vector<std::uint32_t> on_stack_;  ///< per function: how often
    std::unordered_map<std::uint64_t, std::uint32_t> nodes_;
    struct KnownNode {
        std::uint64_t key = ~std::uint64_t{0};
        std::uint32_t node = 0;
    };
    static constexpr unsigned kKnownBits = 12;
    std::vector<KnownNode> known_nodes_;  ///< some of nodes_, found without a search
    ExceptionNest nest_;
    std::optional<StepGapAt> gap_;  ///< the last; it may reach further
    std::size_t unbegun_ = 0;       ///< exceptions when one was found whose handler executed nothing
    std::optional<Time> doubt_;     ///< since then what runs may be wrong
    unsigned syncs_ = 0;            ///< since the last gap
    Time before_;                   ///< where the stretch before the last began
    Time last_{};
};

}  // namespace mt
