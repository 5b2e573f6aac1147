#include "flow/exception_nest.h"

#include <algorithm>

namespace mt {

void ExceptionNest::change(Time t, std::uint16_t running) {
    changes_.push_back({t, running, static_cast<std::uint8_t>(std::min<std::size_t>(stack_.size(), 255))});
}

void ExceptionNest::push(unsigned number, BoundedTime when, std::uint64_t offset, std::uint8_t flags) {
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

void ExceptionNest::cut_all(Time t) {
    while (!stack_.empty()) {
        ExceptionInstance open = stack_.back();
        stack_.pop_back();
        open.end = std::max(t, open.begin);
        open.own = std::max(Time{}, open.end - open.begin - open.own);
        open.flags |= ExceptionInstance::kCutEnd;
        if (!stack_.empty()) stack_.back().own += open.end - open.begin;
        closed_.push_back(open);
    }
    bottom_known_ = false;
    leaving_ = false;
}

void ExceptionNest::contradict(Time t) {
    ++contradictions_;
    cut_all(t);
    known_from_ = t;
    seen_since_loss_.reset();
}

void ExceptionNest::enter(unsigned number, BoundedTime when, std::uint64_t offset) {
    const auto same = [&](const ExceptionInstance& i) { return i.number == number; };
    // An active exception cannot be entered again (B1.5.4).
    if (std::any_of(stack_.begin(), stack_.end(), same)) contradict(when.latest);
    if (!leaving_ && !stack_.empty()) ++cuts_[{static_cast<std::uint16_t>(number), stack_.back().number}];
    push(number, when, offset, static_cast<std::uint8_t>(leaving_ ? ExceptionInstance::kTailChained : 0));
    leaving_ = false;
    change(when.latest, static_cast<std::uint16_t>(number));
}

void ExceptionNest::exit(unsigned number, BoundedTime when, std::uint64_t offset) {
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

void ExceptionNest::back_in(unsigned number, BoundedTime when, std::uint64_t offset) {
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

void ExceptionNest::lose(Time from, Time to) {
    cut_all(from);
    known_from_ = to;
    seen_since_loss_.reset();
    if (!changes_.empty() && from < changes_.back().time) from = changes_.back().time;
    change(from, ContextChange::kUnknown);
}

void ExceptionNest::finish(Time end) {
    if (leaving_ || !stack_.empty()) change(end, ContextChange::kUnknown);
    cut_all(end);
}

}  // namespace mt
