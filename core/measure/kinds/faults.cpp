#include <algorithm>
#include <array>

#include "base/text.h"
#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kFaultFigures[] = {
    {"name", "fault", "sort of fault, as the operating system tells it"},
    {"count", "count", "how often it was told"},
    {"first_ns", "first at", "when it was told first"},
    {"last_ns", "last at", "when it was told last"},
};
constexpr std::string_view kFaultColumns[] = {"name", "count", "first_ns", "last_ns"};
constexpr std::string_view kFaultInstances[] = {"index", "time_ns", "core", "task", "pc", "address", "offset"};

std::vector<std::string> sorts(const Trail& trail) {
    std::vector<std::string> all;
    for (const TaskFault& f : trail.tasks.faults)
        if (std::find(all.begin(), all.end(), f.what.kind) == all.end()) all.push_back(f.what.kind);
    return all;
}

// A lane for each core; its index is the core.
class FaultTicks final : public PlainLane {
  public:
    FaultTicks(const Trail& trail, std::size_t core)
        : PlainLane(trail, {"faults", "told by the operating system", core, Shape::ticks, Ink::fault}) {
        for (std::size_t i = 0; i < trail.tasks.faults.size(); ++i)
            if (trail.tasks.faults[i].core == core) at_.push_back(i);
    }
    const TaskFault& fault(std::size_t i) const { return trail_.tasks.faults[at_[i]]; }
    std::size_t size(std::size_t) const override { return at_.size(); }
    Span span(std::size_t, std::size_t i) const override { return {fault(i).time, fault(i).time, {}, {}}; }
    Range touching(std::size_t, Time from, Time to) const override {
        const auto time = [this](std::size_t i) { return fault(i).time; };
        return touching_of(at_.size(), from, to, time, time);
    }
    std::string label(std::size_t, std::size_t i) const override { return fault(i).what.kind; }
    Told told(Time t, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return nothing_at(t, "none");
        const TaskFault& f = fault(span->second);
        return {f.what.kind,
                {"at " + moment_text(f.time) + ", in " + trail_.tasks.task_name(f.task),
                 "instruction " + hex_text(f.what.pc, 8) + ", address " + hex_text(f.what.address, 8)}};
    }

  private:
    std::vector<std::size_t> at_;
};

class Faults final : public LaneKind {
  public:
    std::string_view id() const override { return "faults"; }
    int order() const override { return 120; }
    int rank() const override { return 60; }
    std::string_view one() const override { return "a fault"; }
    std::span<const FigureInfo> figures() const override { return kFaultFigures; }
    std::span<const std::string_view> columns() const override { return kFaultColumns; }
    bool told(const Trail& trail) const override { return !trail.tasks.faults.empty(); }
    std::string_view advice() const override {
        return "they are fault events of an operating system; fault exceptions are among the interrupts";
    }
    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (const std::string& sort : sorts(of.trail)) {
            const std::uint64_t activity = all.size();
            std::uint64_t count = 0;
            std::optional<Time> first, last;
            for (const TaskFault& f : of.trail.tasks.faults) {
                if (f.what.kind != sort) continue;
                ++count;
                if (!first) first = f.time;
                last = f.time;
            }
            all.push_back({activity, {sort, count, first, last}});
        }
        return all;
    }
    std::span<const PanelFigure> panel(const Trail&, std::uint64_t) const override {
        static constexpr PanelFigure kAll[] = {{"count", "count"}, {"first_ns", "first at"}, {"last_ns", "last at"}};
        return kAll;
    }
    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (std::uint64_t c = 0; c < trail.cores.size(); ++c)
            if (std::any_of(trail.tasks.faults.begin(), trail.tasks.faults.end(),
                            [c](const TaskFault& f) { return f.core == c; }))
                all.push_back(c);
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.cores.size()) return nullptr;
        return std::make_unique<FaultTicks>(trail, index);
    }
    bool lanes_are_activities() const override { return false; }
    std::uint64_t activity_of(const Trail& trail, const SpanRef& span) const override {
        const auto all = sorts(trail);
        const std::string& sort = FaultTicks(trail, span.lane.index).fault(span.index).what.kind;
        return static_cast<std::uint64_t>(std::find(all.begin(), all.end(), sort) - all.begin());
    }
    LaneId lane_of(const Trail& trail, std::uint64_t activity) const override {
        const auto first = first_from(trail, activity, {}, true);
        return first ? first->lane : LaneId{};
    }
    std::optional<SpanRef> next(const Trail& trail, const SpanRef& from, int direction) const override {
        const FaultTicks of(trail, from.lane.index);
        const std::string& sort = of.fault(from.index).what.kind;
        for (std::size_t i = from.index; direction > 0 ? ++i < of.size(0) : i-- > 0;)
            if (of.fault(i).what.kind == sort) return SpanRef{from.lane, 0, i};
        return std::nullopt;
    }
    std::optional<SpanRef> first_from(const Trail& trail, std::uint64_t activity, Time t, bool around) const override {
        const auto all = sorts(trail);
        std::optional<SpanRef> first;
        for (const std::uint64_t c : lanes(trail)) {
            const FaultTicks of(trail, c);
            for (std::size_t i = 0; i < of.size(0); ++i) {
                if (activity >= all.size() || of.fault(i).what.kind != all[activity]) continue;
                const SpanRef here{{this, c}, 0, i};
                if (of.fault(i).time >= t) return here;
                if (!first) first = here;
            }
        }
        return around ? first : std::nullopt;
    }
    std::optional<SpanRef> worst(const Trail& trail, std::uint64_t activity) const override {
        return first_from(trail, activity, {}, true);
    }
    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (const std::string& sort : sorts(trail)) all.push_back({sort, "", all.size()});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kFaultInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const std::string sort = sorts(trail).at(index);
        std::uint64_t n = 0;
        for (const TaskFault& f : trail.tasks.faults) {
            if (f.what.kind != sort) continue;
            const std::array<Cell, std::size(kFaultInstances)> row = {
                n++,
                f.time,
                f.core < trail.cores.size() ? trail.cores[f.core].name : std::string(),
                trail.tasks.task_name(f.task),
                hex_text(f.what.pc, 8),
                hex_text(f.what.address, 8),
                f.offset};
            if (!each(row)) return;
        }
    }
};

}  // namespace

const LaneKind& faults_kind() {
    static const Faults kind;
    return kind;
}

}  // namespace mt
