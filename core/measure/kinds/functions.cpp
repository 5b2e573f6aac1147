#include "measure/functions.h"

#include <algorithm>
#include <array>

#include "base/text.h"
#include "measure/kinds/kinds.h"

namespace mt {
namespace {

constexpr FigureInfo kFigures[] = {
    {"name", "function", "function"},
    {"core", "", "core that ran it"},
    {"address", "", "where it begins"},
    {"file", "", "source file"},
    {"line", "", "line of its begin"},
    {"count", "calls", "whole calls"},
    {"left_out", "left out", "calls whose end was not seen, or whose stack was switched meanwhile"},
    {"total", "", "time from begin to end of all calls, with callees and what cut in"},
    {"own", "own", "time without callees and what cut in"},
    {"min", "least", "shortest whole call"},
    {"mean", "mean", "mean whole call"},
    {"max", "greatest", "longest whole call"},
    {"stddev", "", "standard deviation"},
    {"preempted", "", "what handlers and other tasks took of total"},
    {"recursive", "", "calls while it was on the stack already"},
    {"unwound", "", "calls left without returning"},
    {"instructions", "instructions", "of its own"},
    {"share", "share", "own time by the time of all functions that are not left out"},
    {"sampled", "", "estimated from program-counter samples"},
    {"samples", "samples", "so many of them"},
    {"share_error", "", "95 % of such estimates are at most so far off"},
    {"clock", "", "how times are known"},
};
constexpr std::string_view kInstances[] = {"index", "begin_ns", "end_ns", "duration_ns", "step",
                                           "depth", "left_out", "own_ns", "preempted_ns"};

std::string_view clock_text(StepClock clock) {
    return clock == StepClock::cycles ? "cycle counts" : clock == StepClock::timestamps ? "timestamps" : "none";
}

class Functions final : public ActivityKind {
  public:
    std::string_view id() const override { return "functions"; }
    std::string_view one() const override { return "a function"; }
    std::span<const FigureInfo> figures() const override { return kFigures; }
    bool told(const Trail& trail) const override {
        return !trail.steps.empty() || std::any_of(trail.cores.begin(), trail.cores.end(),
                                                   [](const CoreTrail& c) { return !c.samples.empty(); });
    }
    std::string_view advice() const override {
        return "they need an etm4, etrace, ntrace or mtb stream, or samples of the program counter";
    }

    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
        for (const FunctionRow& r : function_rows(of.trail, of.leave_out, of.functions)) {
            // What was sampled has no calls to count, and without a clock there are no times.
            const auto counted = [&r](std::uint64_t n) { return r.sampled ? Cell() : Cell(n); };
            const auto time = [&r](const std::optional<Time>& t) { return r.timed ? Cell(t) : Cell(); };
            std::vector<Cell> row = {
                r.name,
                of.trail.cores[r.core].name,
                hex_text(r.address, 8),
                r.file,
                std::int64_t{r.line},
                counted(r.count),
                counted(r.left_out),
                r.sampled ? Cell() : time(r.total),
                time(r.own),
                time(r.least),
                time(r.mean),
                time(r.greatest),
                time(r.deviation),
                r.sampled ? Cell() : time(r.preempted),
                counted(r.recursive),
                counted(r.unwound),
                counted(r.instructions),
                Share{r.share},
                r.sampled,
                r.sampled ? Cell(r.samples) : Cell(),
                r.sampled ? Cell(r.share_error) : Cell(),
                r.sampled ? Cell() : Cell(std::string(clock_text(of.trail.steps[r.steps_index].clock)))};
            all.push_back(std::move(row));
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
    std::span<const std::string_view> instance_columns() const override { return kInstances; }
    void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const override {
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
            const std::array<Cell, std::size(kInstances)> row = {n++,
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

const ActivityKind& functions_kind() {
    static const Functions kind;
    return kind;
}

}  // namespace mt
