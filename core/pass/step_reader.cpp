#include "pass/step_reader.h"

#include <algorithm>
#include <utility>

namespace mt {

StepReader::StepReader(StepTrail& trail, StepTimer timer, Book book, std::size_t batch_events)
    : trail_(trail),
      timing_(timer),
      stack_(trail.code, trail.functions),
      book_(std::move(book)),
      batch_events_(batch_events),
      batch_(std::make_unique<CallBatch>()),
      taken_(trail.code ? trail.code->slot_count() : 0),
      undecided_(taken_.size()) {
    trail_.clock = timing_.kind();
}

void StepReader::end_branch(std::optional<std::uint32_t> slot) {
    if (behind_ == Code::kNowhere) return;
    const std::uint32_t branch = open_branch();
    const Code::Slot& s = (*trail_.code)[branch];
    if (slot && *slot != behind_ && (s.flow != Flow::branch || s.target == *slot))
        ++taken_[branch];
    else if (!slot || *slot != behind_)
        ++undecided_[branch];
    behind_ = Code::kNowhere;
}

StepCounters StepReader::with_branches(RunCounts runs) const {
    for (std::size_t s = 0; s < taken_.size(); ++s) runs.taken[s] += taken_[s];
    StepCounters all{std::move(runs), undecided_};
    if (behind_ != Code::kNowhere) ++all.undecided[open_branch()];
    return all;
}

[[gnu::always_inline]] inline void StepReader::hop(const Hop& h) {
    const bool arrived = !stack_.plainly_in(h.function);
    if (arrived) stack_.come(h.first, h.function, *this);
    // The stack may see it otherwise (it is too deep, say).
    if (!stack_.in(h.function) || !stack_.called_from(h.top.data(), h.pops) || !stack_.has_room(h.height)) {
        by_runs(h, arrived);
        return;
    }
    if (h.waits)
        for (const std::uint32_t s : h.sleeps) batch_->sleeps.push_back(stack_.step() + s);
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
    for (const StepBlock::Item& i : block.items()) {
        if (i.kind == Kind::hop) {
            const Hop& h = *i.hop;
            came(h.first);
            behind_ = h.decides ? h.behind : Code::kNowhere;
            branch_in_ = &h;
            hop(h);
            continue;
        }
        switch (i.kind) {
            case Kind::run: {
                came(i.first);
                const Code::Slot& last = (*trail_.code)[i.end.last];
                behind_ = decides(last.flow, last.flags) ? i.end.last + last.size : Code::kNowhere;
                branch_in_ = nullptr;
                branch_ = i.end.last;
                run({i.first, i.end.last, i.end.count});
                break;
            }
            case Kind::hop:
                break;
            case Kind::trap:
                trap(block.traps[i.first]);
                break;
            case Kind::data:
                data(block.data[i.first]);
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
                timing_.sync();
                sure_until_ = stack_.step();
                if (syncs_wanted_ > 0) {
                    --syncs_wanted_;
                    note({stack_.step(), 0, 0, 0, Event::Kind::sync});
                }
                trail_.syncs = timing_.syncs();
                break;
            case Kind::piece:
                settle();
                break;
            case Kind::checkpoint:
                checkpoint(block.marks[i.first]);
                break;
        }
    }
    if (behind_ != Code::kNowhere) branch_ = open_branch();  // hops may go with their block
    branch_in_ = nullptr;
}

void StepReader::by_runs(const Hop& h, bool arrived) {
    for (const StepRun& r : h.runs) {
        note_sleep(*trail_.code, r, stack_.step(), batch_->sleeps);
        if (std::exchange(arrived, false))
            stack_.go_on(r);
        else
            stack_.run(r, *this);
    }
}

void StepReader::checkpoint(const StepBlock::Mark& mark) {
    trail_.checkpoints.push_back({mark.raw_offset, stack_.step(), mark.pipe, std::make_shared<const CallStack>(stack_),
                                  std::make_shared<const StepTiming>(timing_)});
}

void StepReader::trap(const StepTrap& t) {
    end_branch(t.epc_known ? std::optional(t.slot(*trail_.code)) : std::nullopt);
    timing_.entered();
    note({stack_.step(), 0, static_cast<std::uint32_t>(batch_->traps.size()), 0, CallBatch::Event::Kind::trap});
    batch_->traps.push_back(t);
    stack_.trap(t, *this);
}

void StepReader::gap(const StepGap& told) {
    end_branch(std::nullopt);
    StepGap g = told;
    timing_.lose(g);
    if (g.kind == StepGapKind::stopped)
        stack_.pause(*this);
    else
        stack_.lose(*this);
    const std::uint64_t step = stack_.step();
    timing_.entered();
    if (is_missing(g.kind)) syncs_wanted_ = CallBatch::kSyncsToTrust;
    batch_->sleeps.push_back(step);  // the time that is missing is the gap's, not that of what ran around it
    note({step, 0, static_cast<std::uint32_t>(batch_->gaps.size()), 0, Event::Kind::gap});
    batch_->gaps.push_back(g);
    batch_->sure_until.push_back(sure_until_);
    if (g.kind != StepGapKind::stopped) return;
    if (const auto stretch = timing_.stop(step)) {
        flush(*stretch, false);
        batch_->sleeps.push_back(step);  // as long as it lasts
    }
}

void StepReader::time(const StepTime& t) {
    if (const auto stretch = timing_.tell(t, stack_.step())) flush(*stretch, false);
}

// Everything up to a known moment can get its time.
void StepReader::flush(const StepTiming::Stretch& stretch, bool last) {
    if (!begun_) {
        begun_ = true;
        trail_.begin = stretch.from.time;
    }
    if (timing_.kind() != StepClock::none && stretch.exact) ++trail_.exact;
    CallBatch& b = *batch_;
    if (b.stretches.empty()) b.from = stretch.from;
    b.stretches.push_back({stretch.to, static_cast<std::uint32_t>(noted_), static_cast<std::uint32_t>(b.sleeps.size()),
                           static_cast<std::uint32_t>(b.gaps.size()), static_cast<std::uint32_t>(b.traps.size()),
                           static_cast<std::uint32_t>(b.data.size()), last, stretch.unsure});
    timed_ = noted_;
    if (noted_ >= batch_events_ || b.stretches.size() >= batch_events_) hand_on();
}

void StepReader::hand_on() {
    if (batch_->stretches.empty()) return;
    // What waits for its moment stays here.
    const CallBatch::Stretch end = batch_->stretches.back();
    const auto tail = [](const auto& list, std::size_t from, std::size_t to) {
        return std::vector(list.begin() + static_cast<std::ptrdiff_t>(from),
                           list.begin() + static_cast<std::ptrdiff_t>(to));
    };
    auto events = tail(batch_->events, end.events, noted_);
    auto sleeps = tail(batch_->sleeps, end.sleeps, batch_->sleeps.size());
    auto gaps = tail(batch_->gaps, end.gaps, batch_->gaps.size());
    auto sure = tail(batch_->sure_until, end.gaps, batch_->sure_until.size());
    auto traps = tail(batch_->traps, end.traps, batch_->traps.size());
    auto data = tail(batch_->data, end.data, batch_->data.size());
    batch_ = book_(std::move(batch_));
    batch_->clear();
    noted_ = timed_ = 0;
    for (CallBatch::Event& e : events) {
        if (e.kind == CallBatch::Event::Kind::gap) e.number -= end.gaps;
        if (e.kind == CallBatch::Event::Kind::trap) e.number -= end.traps;
        if (e.kind == CallBatch::Event::Kind::data) e.number -= end.data;
        note(e);
    }
    batch_->sleeps.insert(batch_->sleeps.end(), sleeps.begin(), sleeps.end());
    batch_->gaps.insert(batch_->gaps.end(), gaps.begin(), gaps.end());
    batch_->sure_until.insert(batch_->sure_until.end(), sure.begin(), sure.end());
    batch_->traps.insert(batch_->traps.end(), traps.begin(), traps.end());
    batch_->data.insert(batch_->data.end(), data.begin(), data.end());
}

void StepReader::settle() {
    if (const auto stretch = timing_.settle(stack_.step())) flush(*stretch, false);
    trail_.steps = stack_.step();
    trail_.unmatched = stack_.unmatched();
}

void StepReader::finish() {
    stack_.finish(*this);
    flush(timing_.finish(stack_.step()), true);
    settle();
    hand_on();
    trail_.origin = timing_.origin();
}

void StepReader::more_events() { batch_->events.resize(std::max<std::size_t>(1024, 2 * batch_->events.size())); }

}  // namespace mt
