#include <array>

#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kMarkFigures[] = {
    {"name", "mark", "mark or event"},
    {"number", "no", "its port or number"},
    {"count", "count", "how often it was seen"},
    {"left_out", "", "none: a mark has no length"},
    {"period_min", "period min", "shortest time from one to the next"},
    {"period_mean", "period mean", "mean time from one to the next"},
    {"period_max", "period max", "longest time from one to the next"},
};
constexpr std::string_view kMarkInstances[] = {"index", "time_ns", "value", "name", "who", "core"};

// Periods between the marks of a lane, none across a gap.
Figures periods_of(const Trail& trail, const MarkLane& lane) {
    std::vector<Time> periods;
    for (std::size_t i = 1; i < lane.marks.size(); ++i)
        if (!trail.gaps.touch(lane.marks[i - 1].time, lane.marks[i].time))
            periods.push_back(lane.marks[i].time - lane.marks[i - 1].time);
    return figures_of(std::move(periods));
}

class MarkTicks final : public PlainLane {
  public:
    MarkTicks(const Trail& trail, const MarkLane& lane)
        : PlainLane(trail, {lane.name, plural(lane.marks.size(), "mark", "marks"),
                            lane.marks.empty() ? std::size_t{0} : lane.marks[0].core, Shape::ticks, Ink::mark}),
          lane_(lane) {}
    std::size_t size(std::size_t) const override { return lane_.marks.size(); }
    Span span(std::size_t, std::size_t i) const override { return {lane_.marks[i].time, lane_.marks[i].time, {}, {}}; }
    Range touching(std::size_t, Time from, Time to) const override {
        return {lane_.marks.partition_point([from](const TaskMark& m) { return m.time < from; }),
                lane_.marks.partition_point([to](const TaskMark& m) { return !(to < m.time); })};
    }
    std::string label(std::size_t, std::size_t i) const override {
        const auto name = lane_.value_names.find(static_cast<std::uint64_t>(lane_.marks[i].value));
        return name != lane_.value_names.end() ? name->second : std::to_string(lane_.marks[i].value);
    }
    Told told(Time, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return {lane_.name, {"none here, " + count_text(lane_.marks.size()) + " in all"}};
        const TaskMark& m = lane_.marks[span->second];
        const std::string name = label(0, span->second), number = std::to_string(m.value);
        return {lane_.name,
                {(name == number ? number : name + " = " + number) + " at " + moment_text(m.time) +
                     (m.who != kNobody ? ", by " + trail_.tasks.actor_name(m.who) : std::string()),
                 count_text(span->second + 1) + " of " + count_text(lane_.marks.size())}};
    }

  private:
    const MarkLane& lane_;
};

class Marks final : public LaneKind {
  public:
    std::string_view id() const override { return "marks"; }
    int order() const override { return 110; }
    int rank() const override { return kAcrossCores + 60; }
    std::string_view one() const override { return "a mark"; }
    std::span<const FigureInfo> figures() const override { return kMarkFigures; }
    // Events of an operating system without any mark say so with an empty table.
    bool told(const Trail& trail) const override { return trail.tasks.present(); }
    std::string_view advice() const override {
        return "they come from an operating system's events: record them, or give a ctf stream";
    }

    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (std::size_t i = 0; i < of.trail.tasks.marks.size(); ++i) {
            const MarkLane& m = of.trail.tasks.marks[i];
            std::vector<Cell> row = {m.name, std::uint64_t{own_number(m.id)}, std::uint64_t{m.marks.size()},
                                     std::uint64_t{0}};
            add_lengths(row, periods_of(of.trail, m), false);
            all.push_back({i, std::move(row)});
        }
        return all;
    }

    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        constexpr std::size_t kMost = 200;
        std::vector<std::uint64_t> all;
        for (std::size_t m = 0; m < trail.tasks.marks.size() && all.size() < kMost; ++m) {
            const MarkLane& lane = trail.tasks.marks[m];
            // The begin and end of a use are told by what is used.
            if (!lane.marks.empty() && (lane.foreign || (lane.id != 1 && lane.id != 2))) all.push_back(m);
        }
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.tasks.marks.size()) return nullptr;
        return std::make_unique<MarkTicks>(trail, trail.tasks.marks[index]);
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.marks.size(); ++i) all.push_back({trail.tasks.marks[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kMarkInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const MarkLane& lane = trail.tasks.marks[index];
        for (std::size_t i = 0; i < lane.marks.size(); ++i) {
            const TaskMark& m = lane.marks[i];
            const auto name = lane.value_names.find(static_cast<std::uint64_t>(m.value));
            const std::array<Cell, std::size(kMarkInstances)> row = {
                std::uint64_t{i},
                m.time,
                m.value,
                name != lane.value_names.end() ? name->second : std::string(),
                trail.tasks.actor_name(m.who),
                m.core < trail.cores.size() ? trail.cores[m.core].name : std::string()};
            if (!each(row)) return;
        }
    }
};

}  // namespace

const LaneKind& marks_kind() {
    static const Marks kind;
    return kind;
}

}  // namespace mt
