#include "flow/exception_nest.h"

#include <algorithm>

namespace mt {

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
