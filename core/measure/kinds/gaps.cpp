#include <array>

#include "measure/kinds/kinds.h"

namespace mt {
namespace {

constexpr FigureInfo kFigures[] = {
    {"name", "gap", "what happened, and on which core"},
    {"core", "core", "core of which something is missing"},
    {"count", "count", "places where it happened"},
    {"left_out", "", "none"},
    {"total", "total", "time that is not known"},
    {"own", "", "the same"},
    {"min", "least", "shortest gap"},
    {"mean", "mean", "mean gap"},
    {"max", "greatest", "longest gap"},
    {"stddev", "", "standard deviation"},
    {"p95", "", "95 % of the gaps are no longer"},
    {"p99", "", "99 % of the gaps are no longer"},
    {"share", "share", "of the recording"},
};
constexpr std::string_view kInstances[] = {"index", "begin_ns", "end_ns", "duration_ns", "bytes", "offset"};

std::string name_of(const Trail& trail, std::size_t core, GapKind kind) {
    return std::string(kind == GapKind::overflow ? "overflow" : "damage") + " on " + trail.cores[core].name;
}

class Gaps final : public ActivityKind {
  public:
    std::string_view id() const override { return "gaps"; }
    std::string_view one() const override { return "a gap"; }
    std::span<const FigureInfo> figures() const override { return kFigures; }
    // That there is none is an answer.
    bool told(const Trail&) const override { return true; }
    std::string_view advice() const override { return ""; }

    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
        for (const Name& name : names(of.trail)) {
            std::vector<Time> lengths;
            each_of(of.trail, name.index, [&](const Gap& g) {
                lengths.push_back(g.end - g.begin);
                return true;
            });
            const Figures f = figures_of(std::move(lengths));
            std::vector<Cell> row = {name.name, of.trail.cores[name.index >> 1].name, f.count, std::uint64_t{0}, f.sum,
                                     f.sum};
            add_lengths(row, f, true);
            row.push_back(of.trail.end.ps > 0
                              ? Cell(Share{static_cast<double>(f.sum.ps) / static_cast<double>(of.trail.end.ps)})
                              : Cell());
            all.push_back(std::move(row));
        }
        return all;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t c = 0; c < trail.cores.size(); ++c)
            for (const GapKind kind : {GapKind::overflow, GapKind::damage}) {
                const std::size_t index = c << 1 | (kind == GapKind::damage ? 1u : 0u);
                bool any = false;
                each_of(trail, index, [&any](const Gap&) {
                    any = true;
                    return false;
                });
                if (any) all.push_back({name_of(trail, c, kind), "", index});
            }
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kInstances; }
    void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const override {
        std::uint64_t n = 0;
        each_of(trail, index, [&](const Gap& g) {
            const std::array<Cell, std::size(kInstances)> row = {n++,      g.begin, g.end, g.end - g.begin,
                                                                 g.length, g.offset};
            return each(row);
        });
    }

  private:
    // Instruction trace keeps its own.
    template <class Each>
    static void each_of(const Trail& trail, std::size_t index, Each each) {
        const std::size_t core = index >> 1;
        const GapKind kind = (index & 1) != 0 ? GapKind::damage : GapKind::overflow;
        for (std::size_t i = 0; i < trail.gaps.size(); ++i)
            if (trail.gaps[i].core == core && trail.gaps[i].kind == kind && !each(trail.gaps[i])) return;
        for (const StepTrail& steps : trail.steps) {
            if (steps.core_index != core) continue;
            for (std::size_t i = 0; i < steps.gaps.size(); ++i) {
                const StepGapAt& s = steps.gaps[i];
                if (!is_missing(s.gap.kind) || (s.gap.kind == StepGapKind::lost) != (kind == GapKind::overflow))
                    continue;
                Gap g;
                g.begin = s.begin;
                g.end = s.end;
                g.offset = s.gap.offset;
                if (!each(g)) return;
            }
        }
    }
};

}  // namespace

const ActivityKind& gaps_kind() {
    static const Gaps kind;
    return kind;
}

}  // namespace mt
