#include "judge/rule_instances.h"

#include <algorithm>
#include <cmath>
#include <initializer_list>

#include "base/near_names.h"
#include "measure/functions.h"
#include "measure/interrupts.h"
#include "measure/moments.h"
#include "measure/tasks.h"

namespace mt {
namespace {

constexpr std::string_view kMasked = "masked interrupts";

double ps(Time t) { return static_cast<double>(t.ps); }

// The kinds that have such a quantity, the likeliest first.
std::vector<std::string_view> kinds_of(RuleWhat what) {
    switch (what) {
        case RuleWhat::response:
        case RuleWhat::running:
            return {"tasks"};
        case RuleWhat::duration:
            return {"interrupts", "functions", "stopwatches", "critical", "resources", "states"};
        case RuleWhat::own:
            return {"interrupts", "functions"};
        case RuleWhat::period:
        case RuleWhat::jitter:
        case RuleWhat::rate:
            return {"interrupts", "tasks", "functions", "marks", "stopwatches", "resources"};
        case RuleWhat::hold:
        case RuleWhat::wait:
            return {"locks"};
        case RuleWhat::depth:
            return {"queues"};
        case RuleWhat::value:
            return {"values"};
        case RuleWhat::overlap:
            return {"resources", "locks", "tasks", "interrupts", "functions", "stopwatches", "states"};
        case RuleWhat::load:
            return {"tasks"};
        default:
            break;
    }
    std::vector<std::string_view> all;
    for (const LaneKind* kind : LaneKinds::all())
        if (kind->id() != "charge") all.push_back(kind->id());
    return all;
}

class Walk {
  public:
    Walk(const Trail& trail, const Rule& rule, const RuleSubject& subject,
         const std::function<void(const RuleInstance&)>& each, const Progress* progress)
        : trail_(trail), rule_(rule), subject_(subject), each_(each), progress_(progress) {
        if (subject.core < trail.cores.size() && trail.cores[subject.core].clock.hz > 0)
            counts_.per_cycle = 1e12 / static_cast<double>(trail.cores[subject.core].clock.hz);
    }

    RuleCounts go() {
        switch (rule_.what) {
            case RuleWhat::response:
            case RuleWhat::running:
                jobs();
                break;
            case RuleWhat::duration:
            case RuleWhat::own:
                lengths();
                break;
            case RuleWhat::period:
                periods([this](const RuleInstance& i) { each_(i); });
                break;
            case RuleWhat::jitter:
                jitter();
                break;
            case RuleWhat::hold:
                holds();
                break;
            case RuleWhat::wait:
                waits();
                break;
            case RuleWhat::depth:
                depths();
                break;
            case RuleWhat::value:
                values();
                break;
            case RuleWhat::count:
                count();
                break;
            default:
                break;
        }
        return counts_;
    }

  private:
    bool stopped() const { return progress_ != nullptr && progress_->cancelled(); }
    void tell(Time begin, Time end, double value, std::optional<SpanRef> span = {}) {
        each_({begin, end, value, value, value, span});
    }

    void jobs() {
        const TaskLane& lane = trail_.tasks.tasks[subject_.activity];
        for (std::size_t i = 0; i < lane.jobs.size() && !stopped(); ++i) {
            const TaskJob& j = lane.jobs[i];
            if (!j.whole()) {
                ++counts_.excluded;
                continue;
            }
            tell(j.ready, j.end, ps(rule_.what == RuleWhat::running ? j.run : j.response()),
                 SpanRef{{subject_.kind, subject_.activity}, 0, i});
        }
    }

    // Calls `take(ref, span)` for each span of the activity.
    template <class Take>
    void spans(Take take) {
        spans_of(subject_.activity, take);
        for (const std::uint64_t more : subject_.more) spans_of(more, take);
    }
    template <class Take>
    void spans_of(std::uint64_t activity, Take take) {
        const LaneId id = subject_.kind->lane_of(trail_, activity);
        const auto lane = id ? subject_.kind->lane(trail_, id.index) : nullptr;
        if (lane == nullptr) return;
        const bool all = subject_.kind->lanes_are_activities();
        for (std::size_t level = 0; level < lane->levels(); ++level)
            for (std::size_t i = 0; i < lane->size(level); ++i) {
                if (i % 4096 == 0 && stopped()) return;
                const SpanRef ref{id, static_cast<std::uint32_t>(level), i};
                if (all || subject_.kind->activity_of(trail_, ref) == activity) take(ref, lane->span(level, i));
            }
    }
    const StepTrail* steps() const {
        if (subject_.kind->id() != "functions") return nullptr;
        const LaneId id = subject_.kind->lane_of(trail_, subject_.activity);
        return id && id.index < trail_.steps.size() ? &trail_.steps[id.index] : nullptr;
    }

    void lengths() {
        const bool own = rule_.what == RuleWhat::own;
        const StepTrail* calls = steps();
        spans([&](const SpanRef& ref, const Span& s) {
            if (calls != nullptr) {
                const CallSpan& call = calls->levels[ref.level][ref.index];
                if ((call.flags & CallFrame::kContinued) != 0) return;  // a piece of a call that is counted elsewhere
                if (!call.whole()) {
                    ++counts_.excluded;
                    return;
                }
                tell(s.begin, s.end,
                     ps(own ? s.length() - parts_of_call(*calls, ref.level, ref.index).preempted : s.length()), ref);
                return;
            }
            if (!s.whole()) {
                ++counts_.excluded;
                return;
            }
            Time length = s.length();
            if (own) length = trail_.cores[subject_.core].lanes[subject_.activity & 0xFFFF'FFFF].own(ref.index);
            each_({s.begin, s.end, ps(length), std::max(0.0, ps(length - s.end_slack)), ps(length + s.begin_slack),
                   ref});
        });
    }

    template <class Take>
    void periods(Take take) {
        const std::string_view id = subject_.kind->id();
        if (id == "tasks") {
            const TaskLane& lane = trail_.tasks.tasks[subject_.activity];
            for (std::size_t i = 1; i < lane.jobs.size(); ++i) {
                const auto period = ready_period(lane, i);
                if (!period) {
                    ++counts_.excluded;
                    continue;
                }
                const double v = ps(*period);
                take({lane.jobs[i - 1].ready, lane.jobs[i].ready, v, v, v,
                      SpanRef{{subject_.kind, subject_.activity}, 0, i}});
            }
            return;
        }
        if (id == "interrupts") {
            const ExceptionLane& lane = trail_.cores[subject_.core].lanes[subject_.activity & 0xFFFF'FFFF];
            for (std::size_t i = 1; i < lane.size(); ++i) {
                const auto period = period_of(trail_, lane, i);
                if (!period) {
                    ++counts_.excluded;
                    continue;
                }
                const double v = ps(*period);
                take({lane.begin(i - 1), lane.begin(i), v, v - ps(lane.instance(i).begin_slack),
                      v + ps(lane.instance(i - 1).begin_slack),
                      SpanRef{{subject_.kind, subject_.activity}, 0, i}});
            }
            return;
        }
        struct Begin {
            Time at, slack;
            SpanRef ref;
        };
        std::vector<Begin> begins;
        const StepTrail* calls = steps();
        spans([&](const SpanRef& ref, const Span& s) {
            if ((s.flags & Span::kCutBegin) != 0) return;
            if (calls != nullptr &&
                (calls->levels[ref.level][ref.index].flags & (CallFrame::kCutBegin | CallFrame::kContinued)) != 0)
                return;
            begins.push_back({s.begin, s.begin_slack, ref});
        });
        std::stable_sort(begins.begin(), begins.end(), [](const Begin& a, const Begin& b) { return a.at < b.at; });
        std::size_t gap = 0;
        for (std::size_t i = 1; i < begins.size(); ++i) {
            const Time from = begins[i - 1].at, to = begins[i].at;
            bool lost = trail_.gaps.touch(subject_.core, from, to);
            if (calls != nullptr) {
                while (gap < calls->gaps.size() &&
                       (calls->gaps[gap].end < from || !is_missing(calls->gaps[gap].gap.kind)))
                    ++gap;
                lost = lost || (gap < calls->gaps.size() && calls->gaps[gap].begin <= to);
            }
            if (lost) {
                ++counts_.excluded;
                continue;
            }
            const double v = ps(to - from);
            take({from, to, v, v - ps(begins[i].slack), v + ps(begins[i - 1].slack), begins[i].ref});
        }
    }

    void jitter() {
        double nominal = 0;
        if (rule_.nominal) {
            nominal = rule_.nominal->value * (rule_.nominal->cycles ? counts_.per_cycle : 1);
        } else {
            std::vector<double> all;
            periods([&](const RuleInstance& i) { all.push_back(i.value); });
            if (all.empty()) return;
            const auto middle = all.begin() + static_cast<std::ptrdiff_t>((all.size() - 1) / 2);
            std::nth_element(all.begin(), middle, all.end());
            nominal = *middle;
        }
        counts_.excluded = 0;
        periods([&](RuleInstance i) {
            i.value = std::fabs(i.value - nominal);
            const double low = std::fabs(i.low - nominal), high = std::fabs(i.high - nominal);
            const bool across = i.low <= nominal && nominal <= i.high && i.low < i.high;
            i.low = across ? 0 : std::min(low, high);
            i.high = std::max({low, high, i.value});
            each_(i);
        });
    }

    void holds() {
        const LockLane& lane = trail_.tasks.locks[subject_.activity];
        for (std::size_t i = 0; i < lane.holds.size(); ++i) {
            const LockHold& h = lane.holds[i];
            if ((h.flags & LockHold::kCut) != 0)
                ++counts_.excluded;
            else
                tell(h.begin, h.end, ps(h.end - h.begin), SpanRef{{subject_.kind, subject_.activity}, 0, i});
        }
    }
    void waits() {
        const LockLane& lane = trail_.tasks.locks[subject_.activity];
        for (std::size_t i = 0; i < lane.waits.size(); ++i) {
            const LockWait& w = lane.waits[i];
            if (w.whole())
                tell(w.begin, w.end, ps(w.end - w.begin));
            else
                ++counts_.excluded;
        }
    }
    void depths() {
        const QueueLane& lane = trail_.tasks.queues[subject_.activity];
        for (std::size_t i = 0; i < lane.ops.size(); ++i)
            if (lane.ops[i].kind == QueueOp::send)
                tell(lane.ops[i].time, lane.ops[i].time, static_cast<double>(lane.ops[i].fill),
                     SpanRef{{subject_.kind, subject_.activity}, 0, i});
    }
    void values() {
        const ValueLane& lane = trail_.tasks.values[subject_.activity];
        const bool whole = lane.sort == ValueSort::whole || lane.sort == ValueSort::signed_whole ||
                           lane.sort == ValueSort::truth;
        for (std::size_t i = 0; i < lane.samples.size(); ++i) {
            if (i % 65536 == 0 && stopped()) return;
            if (!lane.known(i)) {
                ++counts_.excluded;
                continue;
            }
            const ValueSample s = lane.samples[i];
            double v = rule_.mask && whole ? static_cast<double>(s.bits & *rule_.mask) : lane.value_of(s.bits).number();
            if (rule_.magnitude) v = std::fabs(v);
            if (std::isnan(v)) {
                ++counts_.excluded;
                continue;
            }
            tell(s.time, s.time, v, SpanRef{{subject_.kind, subject_.activity}, 0, i});
        }
    }
    void count() {
        double n = 0;
        if (subject_.kind->id() == "queues") {
            n = static_cast<double>(trail_.tasks.queues[subject_.activity].sent);
        } else {
            spans([&](const SpanRef&, const Span&) { ++n; });
        }
        const StepTrail* calls = steps();
        counts_.incomplete = trail_.gaps.touch(subject_.core, Time{}, trail_.end);
        for (std::size_t i = 0; calls != nullptr && i < calls->gaps.size(); ++i)
            counts_.incomplete = counts_.incomplete || is_missing(calls->gaps[i].gap.kind);
        const double most = counts_.incomplete ? HUGE_VAL : n;
        each_({Time{}, trail_.end, n, n, most, std::nullopt});
    }

    const Trail& trail_;
    const Rule& rule_;
    const RuleSubject& subject_;
    const std::function<void(const RuleInstance&)>& each_;
    const Progress* progress_;
    RuleCounts counts_;
};

// From each event to the first answer after it.
Result<RuleCounts> latencies(const Trail& trail, const Rule& rule,
                             const std::function<void(const RuleInstance&)>& each) {
    const auto from = moments_of(trail, *rule.from), to = moments_of(trail, *rule.to);
    if (!from) return tl::make_unexpected(from.error());
    if (!to) return tl::make_unexpected(to.error());
    RuleCounts counts;
    if (!trail.cores.empty() && trail.cores[0].clock.hz > 0)
        counts.per_cycle = 1e12 / static_cast<double>(trail.cores[0].clock.hz);
    std::size_t next = 0;
    for (const Time begin : *from) {
        while (next < to->size() && !(begin < (*to)[next])) ++next;
        if (next >= to->size() || trail.gaps.touch(begin, (*to)[next])) {
            ++counts.unpaired;
            continue;
        }
        const double v = ps((*to)[next] - begin);
        each({begin, (*to)[next], v, v, v, std::nullopt});
    }
    return counts;
}

// How many in each stretch of so long, from the recording's start; whole ones without a gap.
Result<RuleCounts> rates(const Trail& trail, const Rule& rule, const RuleSubject& subject,
                         const std::function<void(const RuleInstance&)>& each) {
    EventSpec event;
    event.of = rule.of;
    event.core = rule.core;
    if (subject.kind->id() == "tasks") event.at = "ready";
    const auto moments = moments_of(trail, event);
    if (!moments) return tl::make_unexpected(moments.error());
    RuleCounts counts;
    const std::int64_t within = rule.within.value_or(Time{1'000'000'000'000}).ps;
    if (trail.end.ps / within > 100'000'000)
        return failure("'within' is so short that the recording has " + std::to_string(trail.end.ps / within) +
                           " stretches of it",
                       "", "give a longer one");
    std::size_t at = 0;
    for (std::int64_t begin = 0; begin + within <= trail.end.ps; begin += within) {
        const std::size_t first = at;
        while (at < moments->size() && (*moments)[at].ps < begin + within) ++at;
        if (trail.gaps.touch(subject.core, Time{begin}, Time{begin + within})) {
            ++counts.excluded;
            continue;
        }
        const auto n = static_cast<double>(at - first);
        each({Time{begin}, Time{begin + within}, n, n, n, std::nullopt});
    }
    return counts;
}

}  // namespace

Result<RuleSubject> subject_of(const Trail& trail, const Rule& rule, const std::string& name) {
    std::vector<std::string> known;
    std::string other;
    for (const std::string_view id : kinds_of(rule.what)) {
        const LaneKind& kind = *LaneKinds::find(id);
        std::vector<RuleSubject> found;
        for (const LaneKind::Name& n : kind.names(trail)) {
            known.push_back(n.name);
            if (n.name != name && !(name == kMasked && id == "critical")) continue;
            const LaneId lane = kind.lane_of(trail, n.index);
            const auto drawn = lane ? kind.lane(trail, lane.index) : nullptr;
            const std::size_t core = drawn != nullptr ? drawn->core() : 0;
            if (!rule.core.empty() && core < trail.cores.size() && trail.cores[core].name != rule.core) continue;
            found.push_back({&kind, n.index, core});
        }
        if (name == kMasked && found.size() > 1) {
            for (std::size_t i = 1; i < found.size(); ++i) found[0].more.push_back(found[i].activity);
            return found[0];
        }
        if (found.size() > 1 && found[0].core != found[1].core)
            return failure("'" + name + "' is on more than one core", "",
                           "say which: core = \"" + trail.cores[found[0].core].name + "\"");
        if (!found.empty()) return found[0];
    }
    for (const LaneKind* kind : LaneKinds::all())
        for (const LaneKind::Name& n : kind->names(trail))
            if (n.name == name && other.empty()) other = kind->one();
    if (!other.empty())
        return failure("'" + name + "' is " + other + ", which has no " + std::string(rule_what_name(rule.what)), "",
                       near_names_text(name, known, "nothing in this recording has one"));
    return failure("nothing is called '" + name + "'", "",
                   near_names_text(name, known, "nothing in this recording has such a quantity"));
}

std::vector<RuleWhat> limitable_of(const LaneKind& kind) {
    std::vector<RuleWhat> all;
    for (const RuleWhat what : {RuleWhat::response, RuleWhat::duration, RuleWhat::hold, RuleWhat::value, RuleWhat::depth,
                                RuleWhat::running, RuleWhat::own, RuleWhat::wait, RuleWhat::period, RuleWhat::jitter}) {
        const auto kinds = kinds_of(what);
        if (std::find(kinds.begin(), kinds.end(), kind.id()) != kinds.end()) all.push_back(what);
    }
    return all;
}

Result<RuleCounts> each_rule_instance(const Trail& trail, const Rule& rule,
                                      const std::function<void(const RuleInstance&)>& each, const Progress* progress) {
    if (rule.what == RuleWhat::latency) return latencies(trail, rule, each);
    const auto subject = subject_of(trail, rule, rule.of);
    if (!subject) return tl::make_unexpected(subject.error());
    if (rule.what == RuleWhat::rate) return rates(trail, rule, *subject, each);
    return Walk(trail, rule, *subject, each, progress).go();
}

}  // namespace mt
