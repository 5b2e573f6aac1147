#include "flow/etm4_flow.h"

namespace mt {

// Takes back the newest P0 elements, and what came with them.
void Etm4Flow::cancel(std::size_t count) {
    while (count > 0 && !held_.empty()) {
        if (held_.back().is_p0()) --count;
        held_.pop_back();
    }
    unseen_ -= std::min(count, unseen_);
}

bool Etm4Flow::agrees(const Etm4Flow& g, const Etm4Flow& end) const {
    return !waiting_ && !g.waiting_ && pc_ == g.pc_ && need_address_ == g.need_address_ &&
           (!need_address_ || may_pop_ == g.may_pop_) && any_ == g.any_ &&
           (returned_ == g.returned_ || !end.asked_fresh_) && synced_ == g.synced_ && unseen_ == g.unseen_ && contexts_ == g.contexts_ && !exception_open_ &&
           !g.exception_open_ && held_.empty() && g.held_.empty() && g.returns_.empty() &&
           (returns_.empty() || (parameters_.return_stack && !end.asked_below_));
}

void Etm4Flow::continue_from(const Etm4Flow& before) {
    asked_fresh_ = asked_below_ = false;
    if (!below_) return;
    // Beyond the deepest there is, the oldest made room.
    const std::size_t kept = std::min(before.returns_.size(), kMostReturns - std::min(kMostReturns, highest_));
    returns_.insert(returns_.begin(), before.returns_.end() - static_cast<std::ptrdiff_t>(kept), before.returns_.end());
    below_ = false;
}

}  // namespace mt
