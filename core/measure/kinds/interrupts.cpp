#include "measure/interrupts.h"

#include <algorithm>
#include <array>

#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kInterruptFigures[] = {
    {"name", "interrupt", "exception or interrupt"},
    {"number", "exception", "exception number (16 + interrupt), or the cause"},
    {"core", "", "core that took it", "core"},
    {"count", "count", "whole executions"},
    {"left_out", "excluded", "executions whose begin or end was not seen"},
    {"total", "", "time of all whole executions, with what preempted them"},
    {"own", "", "the same without what preempted them"},
    {"min", "min", "shortest execution"},
    {"mean", "mean", "mean execution"},
    {"max", "max", "longest execution"},
    {"stddev", "", "standard deviation", "deviation"},
    {"p95", "", "95 % are no longer", "P95"},
    {"p99", "", "99 % are no longer", "P99"},
    {"own_min", "", "least own time", "own min"},
    {"own_mean", "", "mean own time", "own mean"},
    {"own_max", "", "greatest own time", "own max"},
    {"period_min", "", "shortest time from entry to entry", "period min"},
    {"period_mean", "period mean", "mean time from entry to entry"},
    {"period_max", "", "longest time from entry to entry", "period max"},
    {"response_min", "", "not known of interrupts"},
    {"response_mean", "", "not known of interrupts"},
    {"response_max", "", "not known of interrupts"},
    {"share", "share", "own time by the time of the recording outside gaps"},
    {"deepest_nest", "", "greatest depth at which it was seen", "deepest"},
    {"bounded", "", "executions whose begin or end is known only within bounds", "within bounds"},
    {"widest_bound", "", "the widest of these bounds", "widest bound"},
    {"min_bounds", "", "what min may be within all bounds"},
    {"mean_bounds", "", "what mean may be within all bounds"},
    {"max_bounds", "", "what max may be within all bounds"},
};
constexpr std::string_view kInterruptInstances[] = {"index",           "begin_ns",     "end_ns",   "duration_ns",
                                                    "own_ns",          "depth",        "left_out", "begin_earliest_ns",
                                                    "end_earliest_ns", "tail_chained", "offset"};

class InterruptLane final : public PlainLane {
  public:
    InterruptLane(const Trail& trail, std::size_t core, const ExceptionLane& lane)
        : PlainLane(trail, {lane.name(), note_of(lane.id()), core, Shape::bars, Ink::interrupt}),
          core_(trail.cores[core]),
          lane_(lane) {}

    std::size_t size(std::size_t) const override { return lane_.size(); }
    Span span(std::size_t, std::size_t i) const override {
        const ExceptionInstance x = lane_.instance(i);
        Span s{x.begin, x.end, x.begin_slack, x.end_slack};
        if ((x.flags & ExceptionInstance::kCutBegin) != 0) s.flags |= Span::kCutBegin;
        if ((x.flags & ExceptionInstance::kCutEnd) != 0) s.flags |= Span::kCutEnd;
        if (x.whole() && x.own < x.end - x.begin) s.flags |= Span::kCutInto;
        s.flags |= Span::kHandler;
        return s;
    }
    Range touching(std::size_t, Time from, Time to) const override { return lane_.touching(from, to); }
    std::size_t longest(std::size_t, std::size_t first, std::size_t last) const override {
        return lane_.longest(first, last);
    }
    std::size_t first_from(std::size_t, Time t) const override { return lane_.first_from(t); }
    bool stirs(Time from, Time to) const override {
        const auto [first, last] = lane_.touching(from, to);
        return first != last;
    }
    std::string label(std::size_t, std::size_t i) const override { return duration_text(lane_.length(i)); }
    std::optional<Time> busy(Time from, Time to) const override { return lane_.busy(from, to); }
    std::vector<std::string> lengths() const override { return {"duration", "own time"}; }
    Time length(std::size_t, std::size_t i, std::size_t which) const override {
        return which == 1 ? lane_.own(i) : lane_.length(i);
    }
    void each_part(std::size_t, std::size_t i, const EachPart& each) const override {
        const Time begin = lane_.begin(i), end = lane_.end(i);
        for (std::size_t k = core_.change_time.lower_bound(begin);
             k < core_.change_time.size() && core_.change_time[k] < end; ++k) {
            if (core_.change_running[k] != lane_.code()) continue;
            each(core_.change_time[k],
                 k + 1 < core_.change_time.size() ? std::min(core_.change_time[k + 1], end) : end);
        }
    }
    Told told(Time t, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return nothing_at(t, "does not run");
        const ExceptionInstance x = lane_.instance(span->second);
        const Time length = x.end - x.begin;
        Told told{lane_.name(),
                  {"execution " + count_text(span->second + 1) + " of " + count_text(lane_.size()),
                   "entered " + moment_text(x.begin),
                   "duration " + duration_text(length) + " (" + ns_text(length) + " ns, " +
                       count_text(static_cast<std::uint64_t>(core_.clock.cycles(length))) + " cycles), own " +
                       duration_text(x.own),
                   "nest depth " + std::to_string(x.depth)}};
        if ((x.flags & ExceptionInstance::kTailChained) != 0)
            told.lines.push_back("tail-chained from the handler before");
        if (x.begin_slack.ps > 0)
            told.lines.push_back("entered up to " + duration_text(x.begin_slack) +
                                 " earlier (its timestamp came late)");
        if (x.end_slack.ps > 0) told.lines.push_back("left up to " + duration_text(x.end_slack) + " earlier");
        if (!x.whole())
            told.lines.push_back(
                std::string((x.flags & ExceptionInstance::kCutBegin) != 0 ? "its entry was" : "its exit was") +
                " not seen: excluded from the figures");
        return told;
    }

  private:
    static std::string note_of(ExceptionId id) {
        const std::string number = std::to_string(id.is_typed() ? id.type() : id.number);
        if (id.is_typed()) return "exception type " + number;
        switch (id.space) {
            case ExceptionId::Space::riscv_interrupt:
                return "interrupt, cause " + number;
            case ExceptionId::Space::riscv_exception:
                return "exception, cause " + number;
            case ExceptionId::Space::system:
                return "interrupt " + number;
            default:
                return (id.is_interrupt() ? "interrupt " + std::to_string(id.number - 16) + " · " : std::string()) +
                       "exception " + number;
        }
    }
    const CoreTrail& core_;
    const ExceptionLane& lane_;
};

// Whether the core is known to be, or was, within handlers at a moment, and which: the innermost first.
struct Nested {
    std::size_t lane = 0, instance = 0;
    unsigned depth = 0;
};
std::vector<Nested> nest_at(const CoreTrail& core, Time t) {
    std::vector<Nested> nest;
    // Those that reach beyond this moment; else the one that the recording ends in. Executions without length (their
    // times are bounded alike) had the core at no moment.
    const auto gather = [&](auto wanted) {
        for (std::size_t l = 0; l < core.lanes.size(); ++l)
            if (const auto i = core.lanes[l].at(t); i && wanted(core.lanes[l], *i))
                nest.push_back({l, *i, core.lanes[l].depth(*i)});
    };
    gather([&](const ExceptionLane& lane, std::size_t i) { return lane.end(i) > t; });
    if (nest.empty())
        gather([&](const ExceptionLane& lane, std::size_t i) { return lane.begin(i) == t && !lane.whole(i); });
    std::sort(nest.begin(), nest.end(), [](const Nested& a, const Nested& b) { return a.depth > b.depth; });
    return nest;
}

class Interrupts final : public LaneKind {
  public:
    std::string_view id() const override { return "interrupts"; }
    int order() const override { return 10; }
    int rank() const override { return 20; }
    std::string_view one() const override { return "an interrupt"; }
    std::span<const FigureInfo> figures() const override { return kInterruptFigures; }
    // A recording without interrupts says so with an empty table.
    bool told(const Trail&) const override { return true; }
    std::string_view advice() const override { return ""; }

    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (const InterruptRow& r : interrupt_rows(of.trail)) {
            const auto time = [&r](const std::optional<Time>& t) { return r.timed ? Cell(t) : Cell(); };
            const auto range = [&r](const InterruptRow::Range& x) {
                return r.count == 0 || !r.timed ? Cell() : Cell(std::pair(x.low, x.high));
            };
            std::vector<Cell> row = {r.name, std::uint64_t{r.number}, r.core_name, r.count, r.left_out};
            for (const std::optional<Time>& t :
                 {std::optional(r.total), std::optional(r.own), r.least, r.mean, r.greatest, r.deviation, r.p95, r.p99,
                  r.own_least, r.own_mean, r.own_greatest, r.period_least, r.period_mean, r.period_greatest})
                row.push_back(time(t));
            row.resize(row.size() + 3);  // responses
            row.insert(row.end(),
                       {Cell(Share{r.share}), Cell(std::uint64_t{r.deepest}), Cell(r.bounded), Cell(r.widest_bound),
                        range(r.least_range), range(r.mean_range), range(r.greatest_range)});
            all.push_back({std::uint64_t{r.core} << 32 | r.lane, std::move(row)});
        }
        return all;
    }

    std::string summary(const Trail&, const MeasuredRow& row) const override {
        std::string text = "duration, " + cell_text(*cell_of(*this, row, "count")) + " executions, " +
                           cell_text(*cell_of(*this, row, "left_out")) + " excluded";
        const Cell& bounded = *cell_of(*this, row, "bounded");
        if (cell_number(bounded).value_or(0) > 0)
            text += "; " + cell_text(bounded) + " known within ≤ " + cell_text(*cell_of(*this, row, "widest_bound"));
        return text;
    }
    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (std::size_t c = 0; c < trail.cores.size(); ++c)
            for (const std::size_t l : trail.cores[c].by_priority) all.push_back(std::uint64_t{c} << 32 | l);
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        const std::size_t c = index >> 32, l = index & 0xFFFF'FFFF;
        if (c >= trail.cores.size() || l >= trail.cores[c].lanes.size()) return nullptr;
        return std::make_unique<InterruptLane>(trail, c, trail.cores[c].lanes[l]);
    }

    // The nest of handlers, or thread mode.
    std::vector<Phrase> moment(const Trail& trail, std::size_t c, Time t) const override {
        const CoreTrail& core = trail.cores[c];
        const bool has_tasks = c < trail.tasks.cores.size() && trail.tasks.cores[c].present;
        const auto nest = nest_at(core, t);
        const auto link = [&](const Nested& n) {
            return Said{core.lanes[n.lane].name(), SpanRef{{this, std::uint64_t{c} << 32 | n.lane}, 0, n.instance}};
        };
        const std::uint16_t running = core.running_at(t);
        const auto change = core.change_at(t);
        if (!nest.empty()) {
            const Nested& top = nest.front();
            const ExceptionLane& lane = core.lanes[top.lane];
            Phrase now;
            if (running == ContextChange::kBetween)
                now = {{"returning to "}, link(top)};
            else if (t == lane.begin(top.instance))
                now = {link(top), {" entered"}};
            else
                now = {link(top), {" running for " + duration_text(t - lane.begin(top.instance))}};
            std::string more;
            if (const Time slack = lane.instance(top.instance).begin_slack; slack.ps > 0)
                more += " (or up to " + duration_text(slack) + " earlier)";
            if (lane.whole(top.instance)) more += ", left " + duration_text(lane.end(top.instance) - t) + " later";
            now.push_back({more});
            std::vector<Phrase> all = {now};
            if (nest.size() > 1) {
                Phrase waiting = {{"preempted and waiting: "}};
                for (std::size_t i = 1; i < nest.size(); ++i) {
                    waiting.push_back(link(nest[i]));
                    waiting.push_back({", "});
                }
                waiting.back().text = ", thread mode";
                all.push_back(waiting);
            } else if (!has_tasks) {
                all.push_back({{"waiting: " + core.running_name(0)}});
            }
            return all;
        }
        if (has_tasks) return {};  // whose thread mode it is, the tasks say
        const bool follows =
            std::any_of(trail.steps.begin(), trail.steps.end(), [c](const StepTrail& s) { return s.core_index == c; });
        if (running == ContextChange::kUnknown) {
            if (follows) return {};  // the calls say what is known
            return {
                {{change && core.change_time.size() > 0 ? "not known" : "not known yet: no exception packet so far"}}};
        }
        if (running == ContextChange::kBetween) return {{{"between two handlers (tail-chaining or returning)"}}};
        std::vector<Phrase> all = {{{core.running_name(0) + " for " + duration_text(t - core.change_time[*change])}}};
        // Who comes next, and who was last.
        std::size_t next = *change + 1;
        while (next < core.change_time.size() && core.change_running[next] >= ContextChange::kBetween) ++next;
        if (next < core.change_time.size() && core.change_running[next] != 0)
            all.push_back({{"next: " + core.running_name(core.change_running[next]) + " in " +
                            duration_text(core.change_time[next] - t)}});
        return all;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t c = 0; c < trail.cores.size(); ++c)
            for (std::size_t l = 0; l < trail.cores[c].lanes.size(); ++l) {
                const ExceptionLane& lane = trail.cores[c].lanes[l];
                all.push_back({lane.name(), std::to_string(lane.id().number), c << 32 | l});
            }
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kInterruptInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const CoreTrail& core = trail.cores[index >> 32];
        const ExceptionLane& lane = core.lanes[index & 0xFFFF'FFFF];
        const auto time = [&core](Time t) { return core.timed ? Cell(t) : Cell(); };
        for (std::size_t i = 0; i < lane.size(); ++i) {
            const ExceptionInstance x = lane.instance(i);
            const char* left_out = x.whole()                                       ? ""
                                   : (x.flags & ExceptionInstance::kCutBegin) == 0 ? "end not seen"
                                   : (x.flags & ExceptionInstance::kCutEnd) == 0   ? "begin not seen"
                                                                                   : "begin and end not seen";
            const std::array<Cell, std::size(kInterruptInstances)> row = {
                std::uint64_t{i},
                time(x.begin),
                time(x.end),
                time(x.end - x.begin),
                time(x.own),
                std::uint64_t{x.depth},
                left_out,
                time(x.begin - x.begin_slack),
                time(x.end - x.end_slack),
                std::uint64_t{(x.flags & ExceptionInstance::kTailChained) != 0 ? 1u : 0u},
                x.offset};
            if (!each(row)) return;
        }
    }
};

}  // namespace

const LaneKind& interrupts_kind() {
    static const Interrupts kind;
    return kind;
}

}  // namespace mt
