#include <algorithm>
#include <array>

#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kGapFigures[] = {
    {"name", "gap", "what happened, and on which core"},
    {"core", "core", "core of which something is missing"},
    {"count", "count", "places where it happened"},
    {"left_out", "", "none"},
    {"total", "total", "time that is not known"},
    {"own", "", "the same"},
    {"min", "min", "shortest gap"},
    {"mean", "mean", "mean gap"},
    {"max", "max", "longest gap"},
    {"stddev", "", "standard deviation"},
    {"p95", "", "95 % of the gaps are no longer"},
    {"p99", "", "99 % of the gaps are no longer"},
    {"share", "share", "of the recording"},
};
constexpr std::string_view kGapInstances[] = {"index", "begin_ns", "end_ns", "duration_ns", "bytes", "offset"};

std::string name_of(const Trail& trail, std::size_t core, GapKind kind) {
    return std::string(kind == GapKind::overflow ? "overflow" : "damage") + " on " + trail.cores[core].name;
}

// Gaps of a core and sort; instruction trace keeps its own. `each` returns false to stop.
template <class Each>
void each_of(const Trail& trail, std::uint64_t index, Each each) {
    const std::size_t core = index >> 1;
    const GapKind kind = (index & 1) != 0 ? GapKind::damage : GapKind::overflow;
    for (std::size_t i = 0; i < trail.gaps.size(); ++i)
        if (trail.gaps[i].core == core && trail.gaps[i].kind == kind && !each(trail.gaps[i])) return;
    for (const StepTrail& steps : trail.steps) {
        if (steps.core_index != core) continue;
        for (std::size_t i = 0; i < steps.gaps.size(); ++i) {
            const StepGapAt& s = steps.gaps[i];
            if (!is_missing(s.gap.kind) || (s.gap.kind == StepGapKind::lost) != (kind == GapKind::overflow)) continue;
            Gap g;
            g.begin = s.begin;
            g.end = s.end;
            g.offset = s.gap.offset;
            if (!each(g)) return;
        }
    }
}

class GapBars final : public PlainLane {
  public:
    GapBars(const Trail& trail, std::uint64_t index)
        : PlainLane(trail, {name_of(trail, index >> 1, (index & 1) != 0 ? GapKind::damage : GapKind::overflow),
                            "what is not known", index >> 1, Shape::bars, Ink::gap}) {
        each_of(trail, index, [this](const Gap& g) {
            gaps_.push_back({g.begin, std::max(g.begin, g.end), {}, g.offset, g.length});
            return true;
        });
        std::stable_sort(gaps_.begin(), gaps_.end(), [](const Row& a, const Row& b) { return a.begin < b.begin; });
        Time latest = Time::min();
        for (Row& r : gaps_) {
            ordered_ = ordered_ && r.end >= latest;
            r.latest = latest = std::max(latest, r.end);
        }
    }
    std::size_t size(std::size_t) const override { return gaps_.size(); }
    Span span(std::size_t, std::size_t i) const override { return {gaps_[i].begin, gaps_[i].end, {}, {}}; }
    Range touching(std::size_t, Time from, Time to) const override {
        return touching_of(
            gaps_.size(), from, to, [this](std::size_t i) { return gaps_[i].begin; },
            [this](std::size_t i) { return gaps_[i].latest; });
    }
    bool ordered() const override { return ordered_; }
    Told told(Time t, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return nothing_at(t, "nothing is missing");
        const Row& g = gaps_[span->second];
        Told told{name(), {stretch_text(this->span(0, span->second))}};
        if (g.length > 0) told.lines.push_back(bytes_text(g.length) + " from byte " + count_text(g.offset));
        return told;
    }

  private:
    struct Row {
        Time begin, end, latest;
        std::uint64_t offset = 0, length = 0;
    };
    std::vector<Row> gaps_;
    bool ordered_ = true;
};

class Gaps final : public LaneKind {
  public:
    std::string_view id() const override { return "gaps"; }
    int order() const override { return 130; }
    int rank() const override { return 90; }
    std::string_view one() const override { return "a gap"; }
    std::span<const FigureInfo> figures() const override { return kGapFigures; }
    // That there is none is an answer.
    bool told(const Trail&) const override { return true; }
    std::string_view advice() const override { return ""; }

    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
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
            all.push_back({name.index, std::move(row)});
        }
        return all;
    }

    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (const Name& name : names(trail)) all.push_back(name.index);
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >> 1 >= trail.cores.size()) return nullptr;
        return std::make_unique<GapBars>(trail, index);
    }
    std::vector<Phrase> moment(const Trail& trail, std::size_t core, Time t) const override {
        if (!trail.gaps.touch(core, t, t)) return {};
        return {{{"not known, the trace has a gap here"}}};
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
    std::span<const std::string_view> instance_columns() const override { return kGapInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        std::uint64_t n = 0;
        each_of(trail, index, [&](const Gap& g) {
            const std::array<Cell, std::size(kGapInstances)> row = {n++,      g.begin, g.end, g.end - g.begin,
                                                                    g.length, g.offset};
            return each(row);
        });
    }
};

}  // namespace

const LaneKind& gaps_kind() {
    static const Gaps kind;
    return kind;
}

}  // namespace mt
