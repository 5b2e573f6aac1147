#include "pass/call_book.h"

#include <algorithm>

namespace mt {

CallBook::CallBook(StepTrail& trail, QuickClock core)
    : trail_(trail),
      core_(core),
      open_(64),
      on_stack_(trail.functions->size()),
      known_nodes_(std::size_t{1} << kKnownBits) {
    trail_.tallies.resize(trail.functions->size());
    trail_.tree.emplace_back();
}

// What follows is done for each call: it stands in take, all of it.

[[gnu::always_inline]] inline std::uint32_t CallBook::node(std::uint32_t parent, std::uint32_t function) {
    const std::uint64_t key = std::uint64_t{parent} << 32 | function;
    KnownNode& known = known_nodes_[(parent * 0x9E37'79B1u ^ function * 0x85EB'CA6Bu) >> (32 - kKnownBits)];
    if (known.key == key) return known.node;
    known = {key, find_node(parent, function)};
    return known.node;
}

std::uint32_t CallBook::find_node(std::uint32_t parent, std::uint32_t function) {
    const std::uint64_t key = std::uint64_t{parent} << 32 | function;
    const auto [found, fresh] = nodes_.try_emplace(key, static_cast<std::uint32_t>(trail_.tree.size()));
    if (fresh) {
        CallNode n;
        n.parent = parent;
        n.function = function;
        trail_.tree.push_back(n);
    }
    return found->second;
}

[[gnu::always_inline]] inline void CallBook::open(const Event& e, Time t) {
    if (depth_ == open_.size()) open_.resize(2 * open_.size());
    Open& o = open_[depth_++];
    o = {};
    o.function = e.function;
    o.handler = (e.flags & CallFrame::kHandler) != 0;
    // Handlers are roots of their own: whom they interrupt did not call them.
    o.node = node(depth_ == 1 || o.handler ? 0 : open_[depth_ - 2].node, e.function);
    o.step = e.step;
    o.begin = t;
    o.number = e.number;
    o.entered = (e.flags & (CallFrame::kCutBegin | CallFrame::kContinued)) == 0;
    if (o.entered) trail_.tallies[e.function].rate.add(t);
    o.recursive = on_stack_[e.function]++ > 0;
    if (!o.handler || e.number == StepTrap::kUnknown) return;
    // Entered it was before the gap, if the core stood still before the handler's first instruction.
    const bool entered = unbegun_ != 0 && unbegun_ == trail_.traps.size() && (e.flags & CallFrame::kTail) == 0;
    if (entered || (e.flags & CallFrame::kContinued) != 0) return nest_.active(e.number, t);
    if ((e.flags & CallFrame::kTail) == 0) nest_.enter(e.number, {t, t}, 0);
}

[[gnu::always_inline]] inline void CallBook::count(FunctionTally& f, Time work, Time length, std::size_t level,
                                                   std::size_t index) {
    ++f.calls;
    f.work += work;
    f.least = std::min(f.least, length);
    const FunctionTally::Place place{static_cast<std::uint32_t>(level), index};
    if (f.calls == 1 || f.most_work < work) {
        f.most_work = work;
        f.worst = place;
    }
    if (f.calls == 1 || f.greatest < length) {
        f.greatest = length;
        f.longest = place;
    }
    const double ns = static_cast<double>(work.ps) * 1e-3;
    f.squares += ns * ns;
    if (work == length) return;
    const double all = static_cast<double>(length.ps) * 1e-3;
    f.whole_preempted += length - work;
    f.more_squares += all * all - ns * ns;
}

[[gnu::always_inline]] inline void CallBook::pass(const Event& e, Time begin, Time end) {
    const std::size_t level = depth_;
    const std::uint64_t steps = e.number;
    const Time length = end - begin;
    CallLevel& spans = level_at(level);
    const std::size_t index = spans.size();
    spans.append(begin, length, e.step, e.function, 0);
    FunctionTally& f = trail_.tallies[e.function];
    f.rate.add(begin);
    CallNode& n = trail_.tree[node(level == 0 ? 0 : open_[level - 1].node, e.function)];
    n.own += length;
    n.inclusive += length;
    n.steps += steps;
    ++n.calls;
    if (on_stack_[e.function] == 0)
        f.inclusive += length;
    else
        ++f.recursive;
    count(f, length, length, level, index);
    if (level == 0) return;
    open_[level - 1].steps_inside += steps;
    open_[level - 1].inside += length;
}

[[gnu::always_inline]] inline void CallBook::close(const Event& e, Time t) {
    if (depth_ == 0) return;
    const std::size_t level = depth_ - 1;
    const Open& o = open_[level];
    --on_stack_[o.function];
    const Time length = t - o.begin;
    const unsigned flags = e.flags & 63u;
    constexpr unsigned kUnseen = CallFrame::kCutBegin | CallFrame::kContinued;
    const bool whole = (flags & (kUnseen | CallFrame::kCutEnd)) == 0;
    CallLevel& spans = level_at(level);
    const std::size_t index = spans.size();
    spans.append(o.begin, length, o.step, o.function, e.flags);
    FunctionTally& f = trail_.tallies[o.function];
    const Time net = length - o.taken;  // without handlers that came in between
    const Time own = net - o.inside;
    const std::uint64_t steps = e.step - o.step;
    CallNode& n = trail_.tree[o.node];
    n.own += own;
    n.inclusive += net;
    n.steps += steps - o.steps_inside;
    if (!o.recursive) {
        f.inclusive += length;
        f.preempted += o.taken;
    }
    if (whole) {
        ++n.calls;
        if (o.recursive) ++f.recursive;
        if ((e.flags & CallFrame::kUnwound) != 0) ++f.unwound;
        count(f, net, length, level, index);
    } else if ((flags & kUnseen) != 0) {
        ++f.unseen;  // a piece of a call whose entry is counted elsewhere, or was not seen
    }
    if (o.entered && !whole) {
        ++f.left_out;
        ++n.left_out;
    }
    if (level > 0) {
        Open& under = open_[level - 1];
        under.steps_inside += steps;
        if (o.handler) {
            under.taken += length;
        } else {
            under.inside += net;
            under.taken += o.taken;
        }
    }
    const std::uint32_t number = o.number;
    const bool leaves =
        o.handler && number != StepTrap::kUnknown && (e.flags & (CallFrame::kCutEnd | CallFrame::kReplaced)) == 0;
    depth_ = level;
    if (leaves) end_handler(number, t);
}

void CallBook::end_handler(std::uint32_t number, Time t) {
    nest_.exit(number, {t, t}, 0);
    std::uint32_t below = 0;
    for (std::size_t i = depth_; i-- > 0 && below == 0;)
        if (open_[i].handler) below = open_[i].number;
    if (below != StepTrap::kUnknown) nest_.back_in(below, {t, t}, 0);
}

void CallBook::take(const CallBatch& batch) {
    CallBatch::Stretch done;
    done.to = batch.from;
    for (const CallBatch::Stretch& s : batch.stretches) {
        const auto sleeps = std::span(batch.sleeps).subspan(done.sleeps, s.sleeps - done.sleeps);
        const StepSpan span(core_, done.to, s.to, sleeps);
        std::size_t slept = 0;
        for (const Event& e : std::span(batch.events).subspan(done.events, s.events - done.events)) {
            const Time t = span.at(e.step, slept);
            if (e.kind == Event::Kind::sync) {
                ++syncs_;
                continue;
            }
            if (e.kind == Event::Kind::data) {
                trail_.data.push_back({t, batch.data[e.number], e.step});
                continue;
            }
            if (e.kind != Event::Kind::gap) {
                if (gap_ && gap_->gap.kind == StepGapKind::stopped) gap_->end = std::max(gap_->end, t);  // as long as it lasted
                close_gap();
            } else if (is_missing(batch.gaps[e.number].kind)) {
                // It may have gone wrong unnoticed since the last synchronisation.
                if (!doubt_) doubt_ = std::min(done.to.time, time_before(batch.sure_until[e.number]));
                syncs_ = 0;
            }
            if (e.kind == Event::Kind::leaf)
                pass(e, t, span.at(e.step + e.number, slept));
            else if (e.kind == Event::Kind::leave)
                close(e, t);
            else if (e.kind == Event::Kind::enter)
                open(e, t);
            else if (e.kind == Event::Kind::gap)
                miss(batch.gaps[e.number], e.step, t);
            else if (e.kind == Event::Kind::go_on)
                nest_.go_on(t);
            else
                trail_.traps.push_back({batch.traps[e.number], e.step, t});
        }
        if (doubt_ && syncs_ >= CallBatch::kSyncsToTrust) {
            const Time from = trail_.doubtful.empty() ? *doubt_ : std::max(*doubt_, trail_.doubtful.back().first);
            trail_.doubtful.push_back({from, std::max(s.to.time, from)});
            doubt_.reset();
        }
        if (s.unsure) {
            // A timestamp that was believed lies behind those that followed: neither what led to it nor this has its
            // time.
            if (trail_.times_back++ == 0) trail_.first_back = before_;
            const Time from = trail_.doubtful.empty() ? before_ : std::max(before_, trail_.doubtful.back().first);
            trail_.doubtful.push_back({from, std::max(s.to.time, from)});
        }
        before_ = done.to.time;
        keep_sleeps(span, sleeps);
        if (trail_.moments.empty() || s.to.step - trail_.moments.back().step >= kMomentEach || s.last)
            trail_.moments.push_back(s.to);
        last_ = std::max(last_, s.to.time);
        done = s;
    }
    trail_.end = last_;
}

// Where the core waited for long, steps and time go apart: both ends of it are kept.
void CallBook::keep_sleeps(const StepSpan& span, std::span<const std::uint64_t> sleeps) {
    if (sleeps.empty() || span.asleep() < core_.at(static_cast<std::int64_t>(kLongSleep * sleeps.size()))) return;
    const Time each = span.each_asleep();
    for (const std::uint64_t step : sleeps) {
        const Time woke = span.at(step);
        const StepMoment slept{step, woke - each};
        if (!trail_.moments.empty() &&
            (slept.step < trail_.moments.back().step || slept.time < trail_.moments.back().time))
            continue;
        trail_.moments.push_back(slept);
        trail_.moments.push_back({step, woke});
    }
}

void CallBook::add_up() {
    for (FunctionTally& f : trail_.tallies) {
        f.own = {};
        f.steps = 0;
    }
    for (const CallNode& n : std::span(trail_.tree).subspan(1)) {
        trail_.tallies[n.function].own += n.own;
        trail_.tallies[n.function].steps += n.steps;
    }
}

// The core stands still behind an exception, or the recording ends with it, before the first instruction of its handler:
// entered it was.
void CallBook::enter_unbegun(std::uint64_t step) {
    const std::size_t traps = trail_.traps.size();
    if (!trail_.code || traps == unbegun_) return;
    const StepTrapAt& last = trail_.traps[traps - 1];
    if (last.step < step) return;
    unbegun_ = traps;
    if (const auto id = exception_of(last.trap, *trail_.code)) nest_.enter(id->code(), {last.time, last.time}, 0);
}

void CallBook::finish() {
    const bool sure = !gap_;
    close_gap();
    if (doubt_) trail_.doubtful.push_back({*doubt_, last_});
    if (sure) enter_unbegun(trail_.steps);
    nest_.finish(last_);
    add_up();
}

// A stretch in which nothing is found again is one gap, however often the decoder stumbles in it.
void CallBook::miss(const StepGap& g, std::uint64_t step, Time t) {
    if (gap_ && gap_->step == step && gap_->gap.kind == g.kind) {
        gap_->gap.length =
            std::max(gap_->gap.length, g.offset + g.length - std::min(g.offset + g.length, gap_->gap.offset));
        gap_->end = t;
        return;
    }
    close_gap();
    if (g.kind == StepGapKind::stopped) enter_unbegun(step);
    gap_ = StepGapAt{g, step, t, t};
    nest_.lose(t, t);
}

Time CallBook::time_before(std::uint64_t step) const {
    const std::size_t n = trail_.moments.partition_point([step](const StepMoment& m) { return m.step <= step; });
    return n == 0 ? trail_.begin : trail_.moments[n - 1].time;
}

void CallBook::close_gap() {
    if (!gap_) return;
    if (gap_->gap.kind == StepGapKind::contradiction || gap_->gap.kind == StepGapKind::not_in_image) {
        ++trail_.contradictions;
        if (!trail_.contradiction) trail_.contradiction = gap_;
    }
    trail_.gaps.push_back(*gap_);
    gap_.reset();
}

void CallBook::add_open(StepTrail& copy) const {
    for (std::size_t level = 0; level < depth_; ++level) {
        const Open& o = open_[level];
        while (copy.levels.size() <= level) copy.levels.emplace_back();
        copy.levels[level].append(o.begin, std::max(last_, o.begin) - o.begin, o.step, o.function,
                                  static_cast<unsigned>(CallFrame::kCutEnd | (o.handler ? CallFrame::kHandler : 0)));
    }
    if (gap_) copy.gaps.push_back(*gap_);
}

}  // namespace mt
