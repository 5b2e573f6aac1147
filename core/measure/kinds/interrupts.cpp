#include "measure/interrupts.h"

#include <array>

#include "measure/kinds/kinds.h"

namespace mt {
namespace {

constexpr FigureInfo kFigures[] = {
    {"name", "interrupt", "exception or interrupt"},
    {"number", "no", "exception number (16 + interrupt), or the cause"},
    {"core", "", "core that took it"},
    {"count", "count", "whole executions"},
    {"left_out", "left out", "executions whose begin or end was not seen"},
    {"total", "", "time of all whole executions, with what cut in"},
    {"own", "", "the same without what cut in"},
    {"min", "least", "shortest execution"},
    {"mean", "mean", "mean execution"},
    {"max", "greatest", "longest execution"},
    {"stddev", "", "standard deviation"},
    {"p95", "", "95 % are no longer"},
    {"p99", "", "99 % are no longer"},
    {"own_min", "", "least own time"},
    {"own_mean", "", "mean own time"},
    {"own_max", "", "greatest own time"},
    {"period_min", "", "shortest time from entry to entry"},
    {"period_mean", "period mean", "mean time from entry to entry"},
    {"period_max", "", "longest time from entry to entry"},
    {"response_min", "", "not known of interrupts"},
    {"response_mean", "", "not known of interrupts"},
    {"response_max", "", "not known of interrupts"},
    {"share", "share", "own time by the time of the recording outside gaps"},
    {"deepest_nest", "", "greatest depth at which it was seen"},
    {"bounded", "", "executions whose begin or end is known only within bounds"},
    {"widest_bound", "", "the widest of these bounds"},
    {"min_bounds", "", "what min may be within all bounds"},
    {"mean_bounds", "", "what mean may be within all bounds"},
    {"max_bounds", "", "what max may be within all bounds"},
};
constexpr std::string_view kInstances[] = {"index",           "begin_ns",     "end_ns",   "duration_ns",
                                           "own_ns",          "depth",        "left_out", "begin_earliest_ns",
                                           "end_earliest_ns", "tail_chained", "offset"};

class Interrupts final : public ActivityKind {
  public:
    std::string_view id() const override { return "interrupts"; }
    std::string_view one() const override { return "an interrupt"; }
    std::span<const FigureInfo> figures() const override { return kFigures; }
    // A recording without interrupts says so with an empty table.
    bool told(const Trail&) const override { return true; }
    std::string_view advice() const override { return ""; }

    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
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
            all.push_back(std::move(row));
        }
        return all;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t c = 0; c < trail.cores.size(); ++c)
            for (std::size_t l = 0; l < trail.cores[c].lanes.size(); ++l) {
                const ExceptionLane& lane = trail.cores[c].lanes[l];
                all.push_back({lane.name(), std::to_string(trail.cores[c].architectural(lane.number())), c << 32 | l});
            }
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kInstances; }
    void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const override {
        const CoreTrail& core = trail.cores[index >> 32];
        const ExceptionLane& lane = core.lanes[index & 0xFFFF'FFFF];
        const auto time = [&core](Time t) { return core.timed ? Cell(t) : Cell(); };
        for (std::size_t i = 0; i < lane.size(); ++i) {
            const ExceptionInstance x = lane.instance(i);
            const char* left_out = x.whole()                                       ? ""
                                   : (x.flags & ExceptionInstance::kCutBegin) == 0 ? "end not seen"
                                   : (x.flags & ExceptionInstance::kCutEnd) == 0   ? "begin not seen"
                                                                                   : "begin and end not seen";
            const std::array<Cell, std::size(kInstances)> row = {
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

const ActivityKind& interrupts_kind() {
    static const Interrupts kind;
    return kind;
}

}  // namespace mt
