#include "trail/step_reader.h"

#include <algorithm>
#include <utility>

namespace mt {

std::pair<std::size_t, std::size_t> CallLevel::touching(Time from, Time to) const {
    std::size_t first = spans_.partition_point([from](const CallSpan& s) { return !(from < s.begin); });
    while (first > 0 && (spans_[first - 1].end() > from || spans_[first - 1].begin == from)) --first;
    const std::size_t last = spans_.partition_point([to](const CallSpan& s) { return s.begin < to; });
    return {first, std::max(first, last)};
}

std::optional<std::size_t> CallLevel::at(Time t) const {
    const std::size_t next = spans_.partition_point([t](const CallSpan& s) { return !(t < s.begin); });
    if (next == 0 || !(t < spans_[next - 1].end() || t == spans_[next - 1].begin)) return std::nullopt;
    return next - 1;
}

// A run that begins at a slot and ends at another went through all in between: what begins or flows in, minus what
// ended before.
std::vector<std::uint64_t> StepCounters::executions(const Code& code) const {
    std::vector<std::uint64_t> all(begins.size());
    for (std::uint32_t s = 1; s < all.size(); ++s) {
        if (code[s].flow == Flow::none && begins[s] == 0) continue;
        all[s] += begins[s];
        const std::uint32_t next = code.next(s);
        if (all[s] > ends[s] && next < all.size()) all[next] += all[s] - ends[s];
    }
    return all;
}

std::optional<StepMoment> StepTimer::tell(const StepTime& t, std::uint64_t step) {
    if (kind_ == StepClock::none) return std::nullopt;
    if (kind_ == StepClock::cycles) {
        if (t.kind == StepTime::Kind::cycles) {
            ticks_ += t.ticks;
            return StepMoment{step, core_.at(static_cast<std::int64_t>(ticks_))};
        }
        if (!have_origin_) {
            have_origin_ = true;
            origin_ = zero_ && *zero_ <= t.ticks ? *zero_ : t.ticks;
            if (zero_ && stamps_.hz != 0) {
                ticks_ +=
                    static_cast<std::uint64_t>(core_.cycles(stamps_.at(static_cast<std::int64_t>(t.ticks - origin_))));
                return StepMoment{step, core_.at(static_cast<std::int64_t>(ticks_))};
            }
        }
        if (stamps_.hz == 0 || t.ticks < origin_) return std::nullopt;
        if (!have_stamp_) {
            have_stamp_ = true;
            stamp_ticks_ = ticks_;
        }
        if (!lost_) return std::nullopt;
        // Cycles were lost: the timestamp tells how many at least.
        lost_ = false;
        const Time since = stamps_.at(static_cast<std::int64_t>(t.ticks - origin_));
        const auto cycles = stamp_ticks_ + static_cast<std::uint64_t>(core_.cycles(since));
        if (cycles <= ticks_) return std::nullopt;
        ticks_ = cycles;
        return StepMoment{step, core_.at(static_cast<std::int64_t>(ticks_))};
    }
    if (t.kind == StepTime::Kind::cycles) return std::nullopt;
    if (!have_origin_) {
        have_origin_ = true;
        if (zero_ && *zero_ <= t.ticks) {
            origin_ = *zero_;
            ticks_ = t.ticks;
        } else {
            origin_ = t.ticks;
            // What ran before the first timestamp takes a cycle each.
            base_ = core_.at(static_cast<std::int64_t>(step));
        }
    }
    if (!believe(t.ticks)) return std::nullopt;
    return StepMoment{step, base_ + stamps_.at(static_cast<std::int64_t>(ticks_ - origin_))};
}

bool StepTimer::believe(std::uint64_t ticks) {
    constexpr unsigned kMostBehind = 8;
    if (ticks_ == 0) ticks_ = origin_;
    if (ticks < ticks_) {
        suspect_.reset();
        between_ = (behind_ == 0 || between_) && ticks >= before_;
        if (++behind_ < kMostBehind) return false;
        // All go on from the one before the last: that was the wrong one. Else the counter was set back, and time goes
        // on from there.
        if (!between_) {
            base_ += stamps_.at(static_cast<std::int64_t>(ticks_ - origin_));
            origin_ = ticks;
        }
        before_ = ticks_ = ticks;
        behind_ = 0;
        return true;
    }
    // A core may sleep for long: in a stream without damage only what is very far ahead is doubted.
    const std::uint64_t step = ticks - ticks_;
    const std::uint64_t far = std::max(8 * widest_, damaged_ ? stamps_.hz / 1000 : 10 * stamps_.hz);
    if (step > far && (!suspect_ || ticks < *suspect_ || ticks - *suspect_ > far)) {
        suspect_ = ticks;
        return false;
    }
    suspect_.reset();
    behind_ = 0;
    // How far timestamps stand apart is told by those with nothing missing between them.
    if (!std::exchange(lost_, false) && step <= far) widest_ = std::max(widest_, step);
    before_ = ticks_;
    ticks_ = ticks;
    return true;
}

StepSpan::StepSpan(const StepTimer& timer, const StepMoment& from, const StepMoment& to,
                   const std::vector<std::uint64_t>& sleeps)
    : from_(from), to_(to), sleeps_(sleeps.data()), sleep_count_(sleeps.size()) {
    if (to_.step <= from_.step) return;
    steps_ = to_.step - from_.step;
    std::int64_t busy = std::max<std::int64_t>(0, to_.time.ps - from_.time.ps);
    if (sleep_count_ != 0) {
        asleep_ = std::max<std::int64_t>(0, busy - timer.cycles(steps_).ps);
        busy -= asleep_;
        each_asleep_ = static_cast<std::uint64_t>(asleep_) / sleep_count_;
        left_asleep_ = static_cast<std::uint64_t>(asleep_) % sleep_count_;
    }
    each_ = static_cast<std::uint64_t>(busy) / steps_;
    left_ = static_cast<std::uint64_t>(busy) % steps_;
    if (left_ != 0)
        part_ = static_cast<std::uint64_t>(((static_cast<unsigned __int128>(left_) << 64) + steps_ - 1) / steps_);
}

StepReader::StepReader(StepTrail& trail, StepTimer timer)
    : trail_(trail),
      timer_(timer),
      stack_(trail.code, trail.functions),
      events_(4096),
      open_(64),
      on_stack_(trail.functions->size()),
      known_nodes_(std::size_t{1} << kKnownBits) {
    trail_.tallies.resize(trail.functions->size());
    trail_.tree.emplace_back();
    trail_.clock = timer.kind();
}

[[gnu::always_inline]] inline void StepReader::hop(const Hop& h) {
    const bool arrived = !stack_.plainly_in(h.function);
    if (arrived) stack_.come(h.runs.front().first, h.function, *this);
    // The stack may see it otherwise (it is too deep, say).
    if (!stack_.in(h.function) || !stack_.called_from(h.top.data(), h.pops) || !stack_.has_room(h.height)) {
        by_runs(h, arrived);
        return;
    }
    for (const std::uint32_t s : h.sleeps) sleeps_.push_back(stack_.step() + s);
    std::uint32_t at = 0;
    for (const Hop::Move *m = h.moves.data(), *end = m + h.moves.size(); m != end; ++m) {
        if (m->inside != 0) {
            stack_.leaf(m->steps - at, m->inside, m->function, *this);
            at = (++m)->steps;
            continue;
        }
        if (m->enters)
            stack_.call(m->steps - at, m->function, m->back, *this);
        else
            stack_.give_back_top(m->steps - at, *this);
        at = m->steps;
    }
    stack_.go_on(h.steps - at, h.flow, h.flags, h.behind, h.plain);
}

void StepReader::take(const StepBlock& block) {
    using Kind = StepBlock::Item::Kind;
    for (const StepBlock::Item& i : block.items()) switch (i.kind) {
            case Kind::run:
                run({i.first, i.end.last, i.end.count});
                break;
            case Kind::hop:
                hop(*i.hop);
                break;
            case Kind::trap:
                trap(block.traps[i.first]);
                break;
            case Kind::trap_return:
                stack_.trap_return();
                break;
            case Kind::gap:
                gap(block.gaps[i.first]);
                break;
            case Kind::time:
                time(block.times[i.first]);
                break;
            case Kind::sync:
                ++trail_.syncs;
                break;
            case Kind::piece:
                settle();
                break;
            case Kind::checkpoint:
                checkpoint(block.marks[i.first]);
                break;
        }
}

void StepReader::by_runs(const Hop& h, bool arrived) {
    for (const StepRun& r : h.runs) {
        note_sleep(*trail_.code, r, stack_.step(), sleeps_);
        if (std::exchange(arrived, false))
            stack_.go_on(r);
        else
            stack_.run(r, *this);
    }
}

void StepReader::checkpoint(const StepBlock::Mark& mark) {
    trail_.checkpoints.push_back({mark.raw_offset, stack_.step(), moment_, mark.pipe,
                                  std::make_shared<const CallStack>(stack_),
                                  std::make_shared<const StepTimer>(timer_)});
}

void StepReader::trap(const StepTrap& t) {
    note({stack_.step(), 0, static_cast<std::uint32_t>(traps_.size()), 0, Event::Kind::trap});
    traps_.push_back(t);
    stack_.trap(t, *this);
}

void StepReader::gap(const StepGap& g) {
    stack_.lose(*this);
    timer_.lost(g.kind);
    sleeps_.push_back(stack_.step());  // the time that is missing is the gap's, not that of what ran around it
    note({stack_.step(), 0, static_cast<std::uint32_t>(gaps_.size()), 0, Event::Kind::gap});
    gaps_.push_back(g);
    if (g.kind == StepGapKind::damaged || g.kind == StepGapKind::lost)
        syncs_at_loss_ = trail_.syncs;
    else if (g.kind != StepGapKind::stopped && syncs_at_loss_ && trail_.syncs < *syncs_at_loss_ + 2)
        gaps_.back().kind = StepGapKind::damaged;  // it found the packets again at a wrong place: no fault of the image
}

void StepReader::time(const StepTime& t) {
    if (const auto moment = timer_.tell(t, stack_.step())) flush(*moment, false);
}

// What follows is done for each call: it stands in flush, all of it.

[[gnu::always_inline]] inline std::uint32_t StepReader::node(std::uint32_t parent, std::uint32_t function) {
    const std::uint64_t key = std::uint64_t{parent} << 32 | function;
    KnownNode& known = known_nodes_[(parent * 0x9E37'79B1u ^ function * 0x85EB'CA6Bu) >> (32 - kKnownBits)];
    if (known.key == key) return known.node;
    known = {key, find_node(parent, function)};
    return known.node;
}

std::uint32_t StepReader::find_node(std::uint32_t parent, std::uint32_t function) {
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

[[gnu::always_inline]] inline void StepReader::open(const Event& e, Time t) {
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
    if (!o.handler || e.number == StepTrap::kUnknown || (e.flags & CallFrame::kTail) != 0) return;
    nest_.enter(e.number, {t, t}, 0);
}

[[gnu::always_inline]] inline void StepReader::count(FunctionTally& f, Time net, std::size_t level, std::size_t index) {
    ++f.calls;
    f.whole += net;
    f.least = std::min(f.least, net);
    if (f.calls == 1 || f.greatest < net) {
        f.greatest = net;
        f.worst = {static_cast<std::uint32_t>(level), index};
    }
    const double ns = static_cast<double>(net.ps) * 1e-3;
    f.squares += ns * ns;
}

[[gnu::always_inline]] inline void StepReader::pass(const Event& e, Time begin, Time end) {
    const std::size_t level = depth_;
    const std::uint64_t steps = e.number;
    const CallSpan span = CallSpan::of(begin, end - begin, e.step, e.function, 0);
    CallLevel& spans = level_at(level);
    const std::size_t index = spans.size();
    spans.append(span);
    FunctionTally& f = trail_.tallies[e.function];
    f.rate.add(begin);
    CallNode& n = trail_.tree[node(level == 0 ? 0 : open_[level - 1].node, e.function)];
    n.own += span.length;
    n.inclusive += span.length;
    n.steps += steps;
    ++n.calls;
    if (on_stack_[e.function] == 0)
        f.inclusive += span.length;
    else
        ++f.recursive;
    count(f, span.length, level, index);
    if (level == 0) return;
    open_[level - 1].steps_inside += steps;
    open_[level - 1].inside += span.length;
}

[[gnu::always_inline]] inline void StepReader::close(const Event& e, Time t) {
    if (depth_ == 0) return;
    const std::size_t level = depth_ - 1;
    const Open& o = open_[level];
    --on_stack_[o.function];
    const CallSpan span = CallSpan::of(o.begin, t - o.begin, o.step, o.function, e.flags);
    const unsigned flags = e.flags & 63u;
    constexpr unsigned kUnseen = CallFrame::kCutBegin | CallFrame::kContinued;
    const bool whole = (flags & (kUnseen | CallFrame::kCutEnd)) == 0;
    CallLevel& spans = level_at(level);
    const std::size_t index = spans.size();
    spans.append(span);
    FunctionTally& f = trail_.tallies[o.function];
    const Time net = span.length - o.taken;  // without handlers that came in between
    const Time own = net - o.inside;
    const std::uint64_t steps = e.step - o.step;
    CallNode& n = trail_.tree[o.node];
    n.own += own;
    n.inclusive += net;
    n.steps += steps - o.steps_inside;
    if (!o.recursive) f.inclusive += net;
    if (whole) {
        ++n.calls;
        if (o.recursive) ++f.recursive;
        if ((e.flags & CallFrame::kUnwound) != 0) ++f.unwound;
        count(f, net, level, index);
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
            under.taken += span.length;
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

void StepReader::end_handler(std::uint32_t number, Time t) {
    nest_.exit(number, {t, t}, 0);
    std::uint32_t below = 0;
    for (std::size_t i = depth_; i-- > 0 && below == 0;)
        if (open_[i].handler) below = open_[i].number;
    if (below != StepTrap::kUnknown) nest_.back_in(below, {t, t}, 0);
}

// Everything up to a known moment gets its time.
void StepReader::flush(const StepMoment& until, bool all) {
    if (!have_moment_) {
        have_moment_ = true;
        moment_ = timer_.before(until);
        trail_.begin = moment_.time;
    }
    StepMoment to = until;
    to.time = std::max(to.time, moment_.time);
    if (timer_.kind() != StepClock::none) ++trail_.exact;
    const StepSpan span(timer_, moment_, to, sleeps_);
    std::size_t slept = 0;
    for (const Event& e : std::span(events_).first(noted_)) {
        const Time t = span.at(e.step, slept);
        if (e.kind == Event::Kind::leaf)
            pass(e, t, span.at(e.step + e.number, slept));
        else if (e.kind == Event::Kind::leave)
            close(e, t);
        else if (e.kind == Event::Kind::enter)
            open(e, t);
        else if (e.kind == Event::Kind::gap)
            miss(gaps_[e.number], e.step, t);
        else
            trail_.traps.push_back({traps_[e.number], e.step, t});
    }
    noted_ = 0;
    keep_sleeps(span);
    sleeps_.clear();
    gaps_.clear();
    traps_.clear();
    if (trail_.moments.empty() || to.step - trail_.moments.back().step >= kMomentEach || all)
        trail_.moments.push_back(to);
    moment_ = to;
    last_ = std::max(last_, to.time);
}

// Where the core waited for long, steps and time go apart: both ends of it are kept.
void StepReader::keep_sleeps(const StepSpan& span) {
    if (span.asleep() < timer_.cycles(kLongSleep * sleeps_.size())) return;
    const Time each = span.each_asleep();
    for (const std::uint64_t step : sleeps_) {
        const Time woke = span.at(step);
        const StepMoment slept{step, woke - each};
        if (!trail_.moments.empty() &&
            (slept.step < trail_.moments.back().step || slept.time < trail_.moments.back().time))
            continue;
        trail_.moments.push_back(slept);
        trail_.moments.push_back({step, woke});
    }
}

void StepReader::settle() {
    if (timer_.kind() == StepClock::none)
        flush({stack_.step(), timer_.nominal(stack_.step())}, false);
    else if (noted_ >= kMostWaiting)  // no moment for very long: one instruction a cycle since the last
        flush({stack_.step(), moment_.time + (timer_.nominal(stack_.step()) - timer_.nominal(moment_.step))}, false);
    trail_.steps = stack_.step();
    trail_.unmatched = stack_.unmatched();
    trail_.end = last_;
}

void StepReader::add_up() {
    for (FunctionTally& f : trail_.tallies) {
        f.own = {};
        f.steps = 0;
    }
    for (const CallNode& n : std::span(trail_.tree).subspan(1)) {
        trail_.tallies[n.function].own += n.own;
        trail_.tallies[n.function].steps += n.steps;
    }
}

void StepReader::finish() {
    stack_.finish(*this);
    const std::uint64_t step = stack_.step();
    flush({step, moment_.time + (timer_.nominal(step) - timer_.nominal(moment_.step))}, true);
    nest_.finish(last_);
    settle();
    add_up();
    trail_.origin = timer_.origin();
}

void StepReader::more_events() { events_.resize(2 * events_.size()); }

void StepReader::miss(const StepGap& g, std::uint64_t step, Time t) {
    StepGapAt gap{g, step, t, t};
    if (gap.gap.kind == StepGapKind::contradiction || gap.gap.kind == StepGapKind::not_in_image) {
        ++trail_.contradictions;
        if (!trail_.contradiction) trail_.contradiction = gap;
    }
    trail_.gaps.push_back(gap);
    nest_.lose(t, t);
}

void StepReader::add_open(StepTrail& copy) const {
    for (std::size_t level = 0; level < depth_; ++level) {
        const Open& o = open_[level];
        while (copy.levels.size() <= level) copy.levels.emplace_back();
        copy.levels[level].append(
            CallSpan::of(o.begin, std::max(last_, o.begin) - o.begin, o.step, o.function,
                         static_cast<unsigned>(CallFrame::kCutEnd | (o.handler ? CallFrame::kHandler : 0))));
    }
}

}  // namespace mt
