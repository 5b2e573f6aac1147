// Exception enter, exit and return packets of one core turned into a nest of instances.
// Armv7-M ARM B1.5 (exception model: preemption, tail-chaining), D4.3.2 (exception trace packets).
#pragma once

#include <algorithm>
#include <bitset>
#include <cstdint>
#include <map>
#include <utility>
#include <vector>

#include "base/time.h"

namespace mt {

/// One execution of a handler. Times are the stream's own (the later bound); the slack is how much
/// earlier the truth may lie.
struct ExceptionInstance {
    enum Flag : std::uint8_t {
        kCutBegin = 1,     ///< its entry was not seen: `begin` is where knowledge starts
        kCutEnd = 2,       ///< its exit was not seen: `end` is where knowledge ends
        kAfterGap = 4,     ///< something was lost since the entry before it
        kTailChained = 8,  ///< entered straight from the exit of another, without return
    };
    Time begin, end, own;
    Time begin_slack, end_slack;
    std::uint64_t offset = 0;  ///< of the entry packet; of the first packet that shows it if the entry is missing
    std::uint16_t number = 0;
    std::uint8_t depth = 0;  ///< 1 = straight above thread mode, as far as is known
    std::uint8_t flags = 0;

    bool whole() const { return (flags & (kCutBegin | kCutEnd)) == 0; }
};

/// From this moment on `running` has the core: an exception number, 0 for thread mode, or one of the
/// two special values.
struct ContextChange {
    static constexpr std::uint16_t kUnknown = 0xFFFF, kBetween = 0xFFFE;
    static bool is_handler(std::uint16_t running) { return running != 0 && running != kUnknown; }
    Time time;
    std::uint16_t running = kUnknown;
    std::uint8_t depth = 0;
};

/// Follows one core. Nothing is believed before it is proven: at the start and after loss the nest is
/// unknown, a return to thread mode proves it empty, an entry proves one level. What contradicts the
/// nest means that packets were lost: all open instances are then cut. Copyable; one thread at a time.
class ExceptionNest {
  public:
    void enter(unsigned number, BoundedTime when, std::uint64_t offset);
    void exit(unsigned number, BoundedTime when, std::uint64_t offset);
    /// `number` 0 is thread mode.
    void back_in(unsigned number, BoundedTime when, std::uint64_t offset);
    /// Packets are missing here.
    void lose(Time from, Time to);
    /// The recording ends: open instances are cut.
    void finish(Time end);

    /// What ended or changed since the last call of `clear`; instances of one number are in time order.
    const std::vector<ExceptionInstance>& closed() const { return closed_; }
    const std::vector<ContextChange>& changes() const { return changes_; }
    void clear() {
        closed_.clear();
        changes_.clear();
    }

    /// How often `first` cut into `second`: who is more urgent, as far as seen.
    const std::map<std::pair<std::uint16_t, std::uint16_t>, std::uint64_t>& cuts() const { return cuts_; }
    /// Packets that contradicted the nest without a loss being reported before.
    std::uint64_t contradictions() const { return contradictions_; }
    /// The instances open now, outermost first (their `end` is not yet known).
    const std::vector<ExceptionInstance>& open() const { return stack_; }

  private:
    void change(Time t, std::uint16_t running);
    void cut_all(Time t);
    void contradict(Time t);
    void push(unsigned number, BoundedTime when, std::uint64_t offset, std::uint8_t flags);

    std::vector<ExceptionInstance> stack_;  ///< `own` holds the inclusive time of direct children while open
    bool bottom_known_ = false;             ///< below stack_ lies thread mode
    bool leaving_ = false;                  ///< an exit was seen, and nothing after it yet
    Time known_from_{};
    std::vector<ExceptionInstance> closed_;
    std::vector<ContextChange> changes_;
    std::map<std::pair<std::uint16_t, std::uint16_t>, std::uint64_t> cuts_;
    std::bitset<512> seen_since_loss_;  ///< numbers entered since the last loss
    std::uint64_t contradictions_ = 0;
};

// Run for every exception packet: inlined where packets are taken.

inline void ExceptionNest::change(Time t, std::uint16_t running) {
    changes_.push_back({t, running, static_cast<std::uint8_t>(std::min<std::size_t>(stack_.size(), 255))});
}

inline void ExceptionNest::push(unsigned number, BoundedTime when, std::uint64_t offset, std::uint8_t flags) {
    const auto n = static_cast<std::uint16_t>(number);
    if (!seen_since_loss_[n & 0x1FF]) {
        seen_since_loss_[n & 0x1FF] = true;
        flags |= ExceptionInstance::kAfterGap;
    }
    ExceptionInstance instance;
    instance.begin = when.latest;
    instance.begin_slack = when.latest - when.earliest;
    instance.offset = offset;
    instance.number = n;
    instance.depth = static_cast<std::uint8_t>(std::min<std::size_t>(stack_.size() + 1, 255));
    instance.flags = flags;
    stack_.push_back(instance);
}

inline void ExceptionNest::enter(unsigned number, BoundedTime when, std::uint64_t offset) {
    const auto same = [&](const ExceptionInstance& i) { return i.number == number; };
    // An active exception cannot be entered again (B1.5.4).
    if (std::any_of(stack_.begin(), stack_.end(), same)) contradict(when.latest);
    if (!leaving_ && !stack_.empty()) ++cuts_[{static_cast<std::uint16_t>(number), stack_.back().number}];
    push(number, when, offset, static_cast<std::uint8_t>(leaving_ ? ExceptionInstance::kTailChained : 0));
    leaving_ = false;
    change(when.latest, static_cast<std::uint16_t>(number));
}

inline void ExceptionNest::exit(unsigned number, BoundedTime when, std::uint64_t offset) {
    if (!stack_.empty() && stack_.back().number != number)
        contradict(when.latest);
    else if (stack_.empty() && bottom_known_)
        contradict(when.latest);
    if (stack_.empty()) push(number, {known_from_, known_from_}, offset, ExceptionInstance::kCutBegin);
    ExceptionInstance done = stack_.back();
    stack_.pop_back();
    done.end = when.latest;
    done.end_slack = when.latest - when.earliest;
    const Time inclusive = done.end - done.begin;
    done.own = std::max(Time{}, inclusive - done.own);
    if (!stack_.empty()) stack_.back().own += inclusive;
    closed_.push_back(done);
    leaving_ = true;
    change(when.latest, ContextChange::kBetween);
}

inline void ExceptionNest::back_in(unsigned number, BoundedTime when, std::uint64_t offset) {
    leaving_ = false;
    if (number == 0) {
        if (!stack_.empty()) contradict(when.latest);
        bottom_known_ = true;
        change(when.latest, 0);
        return;
    }
    if (!stack_.empty() && stack_.back().number != number)
        contradict(when.latest);
    else if (stack_.empty() && bottom_known_)
        contradict(when.latest);
    if (stack_.empty()) push(number, {known_from_, known_from_}, offset, ExceptionInstance::kCutBegin);
    change(when.latest, static_cast<std::uint16_t>(number));
}

}  // namespace mt
