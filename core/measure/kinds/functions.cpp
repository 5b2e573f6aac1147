#include "measure/functions.h"

#include <algorithm>
#include <array>

#include "base/text.h"
#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kFunctionFigures[] = {
    {"core", "core", "core that ran it"},
    {"name", "function", "function"},
    {"address", "", "where it begins"},
    {"file", "", "source file", "file"},
    {"line", "", "line of its begin"},
    {"count", "calls", "whole calls"},
    {"left_out", "excluded", "calls whose end was not seen, or whose stack was switched meanwhile"},
    {"total", "", "time from begin to end of all calls, with callees and what preempted them"},
    {"own", "own", "time without callees and what preempted them"},
    {"min", "min", "shortest whole call"},
    {"mean", "mean", "mean whole call"},
    {"max", "max", "longest whole call"},
    {"stddev", "", "standard deviation", "deviation"},
    {"p95", "", "95 % of the whole calls are no longer", "P95"},
    {"p99", "", "99 % of the whole calls are no longer", "P99"},
    {"period_min", "", "shortest time from entry to entry, never across a gap", "period min"},
    {"period_mean", "", "mean time from entry to entry", "period mean"},
    {"period_max", "", "longest time from entry to entry", "period max"},
    {"preempted", "", "what handlers and other tasks took of total", "preempted"},
    {"recursive", "", "calls while it was on the stack already"},
    {"unwound", "", "calls left without returning"},
    {"instructions", "instructions", "of its own"},
    {"share", "share", "own time by the time of all functions of its core that are not excluded"},
    {"sampled", "", "own and share are estimated from program-counter samples"},
    {"own_traced", "", "then: own time within the stretch that was traced"},
    {"samples", "samples", "so many of them"},
    {"share_error", "", "95 % of such estimates are at most so far off"},
    {"clock", "", "how times are known"},
};
constexpr std::string_view kFunctionInstances[] = {"index", "begin_ns", "end_ns", "duration_ns", "step",
                                                   "depth", "left_out", "own_ns", "preempted_ns"};

std::string_view clock_text(StepClock clock) {
    return clock == StepClock::cycles ? "cycle counts" : clock == StepClock::timestamps ? "timestamps" : "none";
}

class CallStackLane final : public PlainLane {
  public:
    explicit CallStackLane(const Trail& trail, const StepTrail& steps)
        : PlainLane(trail,
                    {"calls",
                     trail.cores[steps.core_index].name + " core" + (steps.clock == StepClock::none ? ", no time" : ""),
                     steps.core_index, Shape::stack, Ink::running}),
          steps_(steps) {
        for (const ValueLane& v : trail.tasks.values)
            if (v.core == steps.core_index && (v.name == "exception level" || v.name == "privilege")) privilege_ = &v;
        if (privilege_ == nullptr || !trail.cores[steps.core_index].riscv) return;
        // Machine mode is darker only where there is one between it and the user's.
        machine_shade_ = 2;
        for (std::size_t i = 0; i < std::min<std::size_t>(privilege_->samples.size(), kLooked); ++i)
            if (privilege_->samples.bits(i) == 1) machine_shade_ = 4;
    }
    const StepTrail& steps() const { return steps_; }
    std::size_t levels() const override { return steps_.levels.size(); }
    std::size_t size(std::size_t level) const override { return steps_.levels[level].size(); }
    Span span(std::size_t level, std::size_t i) const override {
        const CallSpan& c = steps_.levels[level][i];
        Span s{c.begin, c.end(), {}, {}};
        if ((c.flags & CallFrame::kHandler) != 0) s.flags |= Span::kHandler;
        if ((c.flags & CallFrame::kCutBegin) != 0) s.flags |= Span::kCutBegin;
        if ((c.flags & CallFrame::kCutEnd) != 0) s.flags |= Span::kCutEnd;
        s.hue = static_cast<std::uint32_t>(c.function);
        if (const std::size_t told = privilege_ != nullptr ? privilege_->samples.up_to(s.begin) : 0; told > 0)
            s.shade = shade_of(static_cast<unsigned>(privilege_->samples.bits(told - 1) & 3));
        return s;
    }
    Range touching(std::size_t level, Time from, Time to) const override {
        return steps_.levels[level].touching(from, to);
    }
    std::size_t longest(std::size_t level, std::size_t first, std::size_t last) const override {
        return steps_.levels[level].longest(first, last);
    }
    bool stirs(Time from, Time to) const override {
        return !trail_.complete || (steps_.end >= from && steps_.begin <= to);
    }
    std::optional<std::pair<Time, Time>> known() const override { return std::pair(steps_.begin, steps_.end); }
    std::string empty_text() const override {
        if (!steps_.levels.empty()) return {};
        return trail_.complete ? "no instruction was executed" : "decoding: calls come as they end";
    }
    // Functions of one file have one colour.
    unsigned tint(std::uint32_t function) const override {
        const Function& f = (*steps_.functions)[function];
        return f.file.empty() ? 0 : 1 + static_cast<unsigned>(steps_.functions->file_index(f));
    }
    std::string label(std::size_t level, std::size_t i) const override {
        return function_of(steps_.levels[level][i]).name;
    }
    Told told(Time, const std::optional<std::pair<std::size_t, std::size_t>>& at) const override {
        if (!at) return {};
        const CallSpan& s = steps_.levels[at->first][at->second];
        const Function& f = function_of(s);
        const FunctionTally& tally = steps_.tallies[static_cast<std::size_t>(s.function)];
        Told told{f.name, {}};
        if (!f.file.empty()) told.lines.push_back(f.file + ":" + std::to_string(f.line));
        told.lines.push_back("entered " + moment_text(s.begin) + ", instruction " + count_text(s.step));
        if (const std::size_t n = privilege_ != nullptr ? privilege_->samples.up_to(s.begin) : 0; n > 0)
            told.lines.push_back((machine_shade_ != 0 ? "privilege: " : "at ") + privilege_->text(n - 1));
        told.lines.push_back((steps_.clock == StepClock::none ? "instructions as cycles: " : "duration ") +
                             duration_text(s.length) + ", depth " + std::to_string(at->first + 1));
        std::string peers = "of " + plural(tally.calls + tally.left_out, "call", "calls");
        if (tally.calls > 0) peers += ": min " + duration_text(tally.least) + ", max " + duration_text(tally.greatest);
        told.lines.push_back(peers);
        const std::pair<unsigned, const char*> notes[] = {
            {CallFrame::kHandler, "entered by an exception"},
            {CallFrame::kTail, "entered by a jump in place of its caller"},
            {CallFrame::kUnwound, "left without a return of its own"},
            {CallFrame::kContinued, "a part: the stack was switched, or tracing stopped, meanwhile"},
            {CallFrame::kCutBegin, "its entry was not seen"},
            {CallFrame::kCutEnd, "its end was not seen"}};
        for (const auto& [flag, text] : notes)
            if ((s.flags & flag) != 0) told.lines.emplace_back(text);
        return told;
    }

  private:
    const Function& function_of(const CallSpan& s) const {
        return (*steps_.functions)[static_cast<std::uint32_t>(s.function)];
    }
    const StepTrail& steps_;
    static constexpr std::size_t kLooked = 4096;  ///< changes of privilege, to see which there are
    const ValueLane* privilege_ = nullptr;        ///< EL0 to EL3; of RISC-V user, supervisor, machine
    std::uint8_t machine_shade_ = 0;              ///< of RISC-V
    std::uint8_t shade_of(unsigned privilege) const {
        return machine_shade_ != 0 && privilege == 3 ? machine_shade_ : static_cast<std::uint8_t>(1 + privilege);
    }
};

// The next (1) or previous (-1) call of a function, wherever on the stack, seen from a step at a moment.
std::optional<SpanRef> call_beside(const StepTrail& steps, LaneId lane, std::uint64_t function, Time t,
                                   std::int64_t step, int direction) {
    std::optional<SpanRef> best;
    std::int64_t best_step = 0;
    for (std::uint32_t level = 0; level < steps.levels.size(); ++level) {
        const CallLevel& calls = steps.levels[level];
        std::size_t i = calls.touching(t, t).first;
        const auto found = [&](std::size_t at) {
            best = SpanRef{lane, level, at};
            best_step = static_cast<std::int64_t>(calls[at].step);
        };
        const auto step_of = [&](std::size_t at) { return static_cast<std::int64_t>(calls[at].step); };
        if (direction > 0) {
            for (; i < calls.size() && !(best && step_of(i) >= best_step); ++i)
                if (step_of(i) > step && calls[i].begin >= t && calls[i].function == function) {
                    found(i);
                    break;
                }
        } else {
            i = std::min(calls.size(), i + 2);
            while (i-- > 0 && !(best && step_of(i) <= best_step))
                if (step_of(i) < step && calls[i].function == function) {
                    found(i);
                    break;
                }
        }
    }
    return best;
}

class Functions final : public LaneKind {
  public:
    bool takes_long() const override { return true; }
    std::string_view id() const override { return "functions"; }
    int order() const override { return 30; }
    int rank() const override { return 10; }
    std::string_view one() const override { return "a function"; }
    std::span<const FigureInfo> figures() const override { return kFunctionFigures; }
    bool told(const Trail& trail) const override {
        return !trail.steps.empty() || std::any_of(trail.cores.begin(), trail.cores.end(),
                                                   [](const CoreTrail& c) { return !c.samples.empty(); });
    }
    std::string_view advice() const override {
        return "they need an etm4, pft, etm3, etrace, ntrace or mtb stream, or samples of the program counter";
    }

    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        std::vector<std::vector<CallSpread>> spreads;
        for (const StepTrail& steps : of.trail.steps) spreads.push_back(call_spreads(steps));
        for (const FunctionRow& r : function_rows(of.trail, of.leave_out, of.functions)) {
            const CallSpread spread = !r.traced ? CallSpread{} : spreads[r.steps_index][r.function];
            // What was sampled has no calls to count, and without a clock there are no times.
            const auto counted = [&r](std::uint64_t n) { return r.traced ? Cell(n) : Cell(); };
            const auto time = [&r](const std::optional<Time>& t) { return r.timed ? Cell(t) : Cell(); };
            std::vector<Cell> row = {
                of.trail.cores[r.core].name,
                r.name,
                hex_text(r.address, 8),
                r.file,
                std::int64_t{r.line},
                counted(r.count),
                counted(r.left_out),
                r.traced ? time(r.total) : Cell(),
                r.sampled ? Cell(r.own) : time(r.own),
                time(r.least),
                time(r.mean),
                time(r.greatest),
                time(r.deviation),
                time(spread.p95),
                time(spread.p99),
                time(spread.period_least),
                time(spread.period_mean),
                time(spread.period_greatest),
                r.traced ? time(r.preempted) : Cell(),
                counted(r.recursive),
                counted(r.unwound),
                counted(r.instructions),
                Share{r.share},
                r.sampled,
                r.sampled && r.traced ? time(r.own_traced) : Cell(),
                r.sampled ? Cell(r.samples) : Cell(),
                r.sampled ? Cell(r.share_error) : Cell(),
                r.traced ? Cell(std::string(clock_text(of.trail.steps[r.steps_index].clock))) : Cell()};
            all.push_back({r.traced ? std::uint64_t{r.steps_index} << 32 | r.function : kNoActivity, std::move(row)});
        }
        return all;
    }

    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all(trail.steps.size());
        for (std::size_t i = 0; i < all.size(); ++i) all[i] = i;
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.steps.size()) return nullptr;
        return std::make_unique<CallStackLane>(trail, trail.steps[index]);
    }
    bool lanes_are_activities() const override { return false; }
    LaneId lane_of(const Trail&, std::uint64_t activity) const override {
        return activity == kNoActivity ? LaneId{} : LaneId{this, activity >> 32};
    }
    std::uint64_t activity_of(const Trail& trail, const SpanRef& span) const override {
        return span.lane.index << 32 | trail.steps[span.lane.index].levels[span.level][span.index].function;
    }
    std::optional<SpanRef> next(const Trail& trail, const SpanRef& from, int direction) const override {
        const StepTrail& steps = trail.steps[from.lane.index];
        const CallSpan now = steps.levels[from.level][from.index];
        return call_beside(steps, from.lane, now.function, now.begin, static_cast<std::int64_t>(now.step), direction);
    }
    std::optional<SpanRef> first_from(const Trail& trail, std::uint64_t activity, Time t, bool around) const override {
        if (activity >> 32 >= trail.steps.size()) return std::nullopt;
        const LaneId lane{this, activity >> 32};
        const auto found = call_beside(trail.steps[lane.index], lane, activity & 0xFFFF'FFFF, t, -1, 1);
        if (found || !around) return found;
        return call_beside(trail.steps[lane.index], lane, activity & 0xFFFF'FFFF, {}, -1, 1);
    }
    std::optional<SpanRef> worst(const Trail& trail, std::uint64_t activity) const override {
        if (activity >> 32 >= trail.steps.size()) return std::nullopt;
        const FunctionTally& tally = trail.steps[activity >> 32].tallies[activity & 0xFFFF'FFFF];
        if (tally.calls == 0) return std::nullopt;
        return SpanRef{{this, activity >> 32}, tally.longest.level, tally.longest.index};
    }
    // Who was on the stack, the innermost first.
    std::vector<Phrase> moment(const Trail& trail, std::size_t core, Time t) const override {
        constexpr std::size_t kMost = 5;
        std::vector<Phrase> all;
        for (std::size_t i = 0; i < trail.steps.size(); ++i) {
            const StepTrail& steps = trail.steps[i];
            if (steps.core_index != core || t < steps.begin || t > steps.end) continue;
            std::vector<Said> names;
            for (std::uint32_t level = 0; level < steps.levels.size(); ++level) {
                const auto at = steps.levels[level].at(t);
                if (!at) break;
                names.push_back({(*steps.functions)[static_cast<std::uint32_t>(steps.levels[level][*at].function)].name,
                                 SpanRef{{this, i}, level, *at}});
            }
            Phrase stack;
            for (std::size_t n = 0; n < names.size() && n < kMost; ++n) {
                if (n > 0) stack.push_back({" ◂ "});
                stack.push_back(names[names.size() - 1 - n]);
                stack.back().strong = n == 0;
            }
            if (names.size() > kMost) stack.push_back({" ◂ …"});
            if (names.empty()) stack.push_back({"no call is known here"});
            all.push_back(std::move(stack));
        }
        return all;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.steps.size(); ++i) {
            const StepTrail& steps = trail.steps[i];
            for (std::uint32_t f = 1; f < steps.tallies.size(); ++f)
                if (const FunctionTally& t = steps.tallies[f]; t.calls + t.left_out + t.unseen > 0)
                    all.push_back({(*steps.functions)[f].name, "", i << 32 | f});
        }
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kFunctionInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const StepTrail& steps = trail.steps[index >> 32];
        const auto function = static_cast<std::uint32_t>(index & 0xFFFF'FFFF);
        struct Found {
            std::uint64_t step = 0;
            std::size_t level = 0, index = 0;
        };
        std::vector<Found> found;
        for (std::size_t level = 0; level < steps.levels.size(); ++level)
            for (std::size_t i = 0; i < steps.levels[level].size(); ++i)
                if (steps.levels[level][i].function == function)
                    found.push_back({steps.levels[level][i].step, level, i});
        std::stable_sort(found.begin(), found.end(), [](const Found& a, const Found& b) { return a.step < b.step; });
        std::uint64_t n = 0;
        const auto time = [&steps](Time t) { return steps.clock == StepClock::none ? Cell() : Cell(t); };
        for (const Found& x : found) {
            const CallParts parts = parts_of_call(steps, x.level, x.index);
            const CallSpan& span = steps.levels[x.level][x.index];
            const std::array<Cell, std::size(kFunctionInstances)> row = {n++,
                                                                         time(span.begin),
                                                                         time(span.end()),
                                                                         time(span.length),
                                                                         std::uint64_t{span.step},
                                                                         std::uint64_t{x.level + 1},
                                                                         span.whole() ? "" : "cut",
                                                                         time(parts.own),
                                                                         time(parts.preempted)};
            if (!each(row)) return;
        }
    }
};

}  // namespace

const LaneKind& functions_kind() {
    static const Functions kind;
    return kind;
}

}  // namespace mt
