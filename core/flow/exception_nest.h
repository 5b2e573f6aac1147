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
#include "target/exception_id.h"

namespace mt {

/// One execution of a handler. Times are the stream's own (the later bound); the slack is how much
/// earlier the truth may lie.
struct ExceptionInstance {
    enum Flag : std::uint8_t {
        kCutBegin = 1,     ///< its entry was not seen: `begin` is where knowledge starts
        kCutEnd = 2,       ///< its exit was not seen: `end` is where knowledge ends
        kAfterGap = 4,     ///< something was lost since the entry before it
        kTailChained = 8,  ///< entered straight from the exit of another, without return
        kInner = 16,       ///< entered while the same was active, as A profile can: it is a part of that, not told by itself
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
};

/// Follows one core. Nothing is believed before it is proven: at the start and after loss the nest is
/// unknown, a return to thread mode proves it empty, an entry proves one level. What contradicts the
/// nest means that packets were lost: all open instances are then cut. Copyable; one thread at a time.
/// `out` takes what ended with close(const ExceptionInstance&) (instances of one number in time order), and what runs
/// from now on with change(Time, std::uint16_t running): see ContextChange.
class HandlerStack {
  public:
    template <class Out>
    void enter(unsigned number, BoundedTime when, std::uint64_t offset, Out& out);
    template <class Out>
    void exit(unsigned number, BoundedTime when, std::uint64_t offset, Out& out);
    /// `number` 0 is thread mode.
    template <class Out>
    void back_in(unsigned number, BoundedTime when, std::uint64_t offset, Out& out);
    /// True while thread mode runs and is known to.
    bool in_thread() const { return stack_.empty() && bottom_known_ && !leaving_; }
    /// The same as enter, exit and back_in(0), told with close(const ExceptionInstance&) and visit(std::uint16_t
    /// number, Time begin, Time end, Time back). REQUIRES: in_thread(), times in order.
    template <class Out>
    void visit(unsigned number, BoundedTime entry, BoundedTime exit, Time back, std::uint64_t offset, Out& out);
    /// Packets are missing here.
    template <class Out>
    void lose(Time from, Time to, Out& out);
    /// Nothing happened since the loss: what was known of thread mode is known again, and, the outermost first, `active` tells
    /// what was active.
    template <class Out>
    void go_on(Time t, Out& out);
    template <class Out>
    void active(unsigned number, Time t, Out& out);
    /// The recording ends: open instances are cut.
    template <class Out>
    void finish(Time end, Out& out);

    using Cuts = std::map<std::pair<std::uint16_t, std::uint16_t>, std::uint64_t>;
    /// How often `first` cut into `second`: who is more urgent, as far as seen.
    const Cuts& cuts() const { return cuts_; }
    /// Packets that contradicted the nest without a loss being reported before.
    std::uint64_t contradictions() const { return contradictions_; }
    /// The instances open now, outermost first (their `end` is not yet known).
    const std::vector<ExceptionInstance>& open() const { return stack_; }

  private:
    template <class Out>
    void change(Time t, unsigned running, Out& out) {
        changed_ = t;
        out.change(t, static_cast<std::uint16_t>(running));
    }
    template <class Out>
    void cut_all(Time t, Out& out);
    template <class Out>
    void contradict(Time t, Out& out);
    void push(unsigned number, BoundedTime when, std::uint64_t offset, unsigned flags);
    /// kAfterGap for the first entry of this number since something was lost.
    std::uint8_t first_since_loss(std::uint16_t number) {
        if (seen_since_loss_[number]) return 0;
        seen_since_loss_[number] = true;
        return ExceptionInstance::kAfterGap;
    }

    std::vector<ExceptionInstance> stack_;  ///< `own` holds the inclusive time of direct children while open
    bool bottom_known_ = false;             ///< below stack_ lies thread mode
    bool bottom_was_known_ = false;         ///< before the last loss
    bool leaving_ = false;                  ///< an exit was seen, and nothing after it yet
    Time known_from_{}, changed_{};
    Cuts cuts_;
    std::bitset<65536> seen_since_loss_;  ///< numbers entered since the last loss
    std::uint64_t contradictions_ = 0;
};

/// A HandlerStack that keeps what it tells.
class ExceptionNest {
  public:
    void enter(unsigned number, BoundedTime when, std::uint64_t offset) { stack_.enter(number, when, offset, log_); }
    void exit(unsigned number, BoundedTime when, std::uint64_t offset) { stack_.exit(number, when, offset, log_); }
    void back_in(unsigned number, BoundedTime when, std::uint64_t offset) {
        stack_.back_in(number, when, offset, log_);
    }
    void lose(Time from, Time to) { stack_.lose(from, to, log_); }
    void go_on(Time t) { stack_.go_on(t, log_); }
    void active(unsigned number, Time t) { stack_.active(number, t, log_); }
    void finish(Time end) { stack_.finish(end, log_); }

    /// What ended or changed since the last call of `clear`.
    const std::vector<ExceptionInstance>& closed() const { return log_.closed; }
    const std::vector<ContextChange>& changes() const { return log_.changes; }
    void clear() {
        log_.closed.clear();
        log_.changes.clear();
    }
    const HandlerStack& stack() const { return stack_; }
    const HandlerStack::Cuts& cuts() const { return stack_.cuts(); }
    std::uint64_t contradictions() const { return stack_.contradictions(); }
    const std::vector<ExceptionInstance>& open() const { return stack_.open(); }

  private:
    struct Log {
        std::vector<ExceptionInstance> closed;
        std::vector<ContextChange> changes;
        void close(const ExceptionInstance& x) { closed.push_back(x); }
        void change(Time t, std::uint16_t running) { changes.push_back({t, running}); }
    };
    HandlerStack stack_;
    Log log_;
};

inline void HandlerStack::push(unsigned number, BoundedTime when, std::uint64_t offset, unsigned flags) {
    const auto n = static_cast<std::uint16_t>(number);
    flags |= first_since_loss(n);
    const auto depth = static_cast<std::uint8_t>(std::min<std::size_t>(stack_.size() + 1, 255));
    ExceptionInstance& x = stack_.emplace_back();
    x.begin = when.latest;
    x.begin_slack = when.latest - when.earliest;
    x.offset = offset;
    x.number = n;
    x.depth = depth;
    x.flags = static_cast<std::uint8_t>(flags);
}

template <class Out>
void HandlerStack::cut_all(Time t, Out& out) {
    while (!stack_.empty()) {
        ExceptionInstance open = stack_.back();
        stack_.pop_back();
        open.end = std::max(t, open.begin);
        open.own = std::max(Time{}, open.end - open.begin - open.own);
        open.flags |= ExceptionInstance::kCutEnd;
        if (!stack_.empty()) stack_.back().own += open.end - open.begin;
        if ((open.flags & ExceptionInstance::kInner) == 0) out.close(open);
    }
    bottom_known_ = false;
    leaving_ = false;
}

template <class Out>
void HandlerStack::contradict(Time t, Out& out) {
    ++contradictions_;
    cut_all(t, out);
    known_from_ = t;
    seen_since_loss_.reset();
}

template <class Out>
void HandlerStack::lose(Time from, Time to, Out& out) {
    bottom_was_known_ = bottom_known_;
    cut_all(from, out);
    known_from_ = to;
    seen_since_loss_.reset();
    change(std::max(from, changed_), ContextChange::kUnknown, out);
}

template <class Out>
void HandlerStack::go_on(Time t, Out& out) {
    if (bottom_was_known_) back_in(0, {t, t}, 0, out);
}

template <class Out>
void HandlerStack::active(unsigned number, Time t, Out& out) {
    push(number, {t, t}, 0, ExceptionInstance::kCutBegin);
    change(t, number, out);
}

template <class Out>
void HandlerStack::finish(Time end, Out& out) {
    if (leaving_ || !stack_.empty()) change(end, ContextChange::kUnknown, out);
    cut_all(end, out);
}

template <class Out>
void HandlerStack::enter(unsigned number, BoundedTime when, std::uint64_t offset, Out& out) {
    const auto same = [&](const ExceptionInstance& i) { return i.number == number; };
    // An active exception cannot be entered again (B1.5.4). In A and R profile software may allow it.
    const bool again = std::any_of(stack_.begin(), stack_.end(), same);
    const bool may = number >= ExceptionId::kPftTypes && number < ExceptionId::kTypesEnd;
    if (again && !may) contradict(when.latest, out);
    if (!leaving_ && !stack_.empty()) ++cuts_[{static_cast<std::uint16_t>(number), stack_.back().number}];
    push(number, when, offset, (leaving_ ? unsigned{ExceptionInstance::kTailChained} : 0u) | (again && may ? unsigned{ExceptionInstance::kInner} : 0u));
    leaving_ = false;
    change(when.latest, number, out);
}

template <class Out>
void HandlerStack::exit(unsigned number, BoundedTime when, std::uint64_t offset, Out& out) {
    if (!stack_.empty() ? stack_.back().number != number : bottom_known_) contradict(when.latest, out);
    if (stack_.empty()) push(number, {known_from_, known_from_}, offset, ExceptionInstance::kCutBegin);
    ExceptionInstance& done = stack_.back();
    done.end = when.latest;
    done.end_slack = when.latest - when.earliest;
    const Time inclusive = done.end - done.begin;
    done.own = std::max(Time{}, inclusive - done.own);
    if ((done.flags & ExceptionInstance::kInner) == 0) out.close(done);
    stack_.pop_back();
    if (!stack_.empty()) stack_.back().own += inclusive;
    leaving_ = true;
    change(when.latest, ContextChange::kBetween, out);
}

template <class Out>
void HandlerStack::visit(unsigned number, BoundedTime entry, BoundedTime exit, Time back, std::uint64_t offset,
                         Out& out) {
    ExceptionInstance x;
    x.begin = entry.latest;
    x.end = exit.latest;
    x.own = x.end - x.begin;
    x.begin_slack = entry.latest - entry.earliest;
    x.end_slack = exit.latest - exit.earliest;
    x.offset = offset;
    x.number = static_cast<std::uint16_t>(number);
    x.depth = 1;
    x.flags = first_since_loss(x.number);
    out.close(x);
    changed_ = back;
    out.visit(x.number, x.begin, x.end, back);
}

template <class Out>
void HandlerStack::back_in(unsigned number, BoundedTime when, std::uint64_t offset, Out& out) {
    leaving_ = false;
    if (number == 0) {
        if (!stack_.empty()) contradict(when.latest, out);
        bottom_known_ = true;
        change(when.latest, 0, out);
        return;
    }
    if (!stack_.empty() ? stack_.back().number != number : bottom_known_) contradict(when.latest, out);
    if (stack_.empty()) push(number, {known_from_, known_from_}, offset, ExceptionInstance::kCutBegin);
    change(when.latest, number, out);
}

}  // namespace mt
