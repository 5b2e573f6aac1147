#include <array>

#include "measure/kinds/kinds.h"

namespace mt {
namespace {

constexpr FigureInfo kFigures[] = {
    {"name", "mark", "mark or event"},
    {"number", "no", "its port or number"},
    {"count", "count", "how often it was seen"},
    {"left_out", "", "none: a mark has no length"},
    {"period_min", "period least", "shortest time from one to the next"},
    {"period_mean", "period mean", "mean time from one to the next"},
    {"period_max", "period most", "longest time from one to the next"},
};
constexpr std::string_view kInstances[] = {"index", "time_ns", "value", "name", "who", "core"};

// Periods between the marks of a lane, none across a gap.
Figures periods_of(const Trail& trail, const MarkLane& lane) {
    std::vector<Time> periods;
    for (std::size_t i = 1; i < lane.marks.size(); ++i)
        if (!trail.gaps.touch(lane.marks[i - 1].time, lane.marks[i].time))
            periods.push_back(lane.marks[i].time - lane.marks[i - 1].time);
    return figures_of(std::move(periods));
}

class Marks final : public ActivityKind {
  public:
    std::string_view id() const override { return "marks"; }
    std::string_view one() const override { return "a mark"; }
    std::span<const FigureInfo> figures() const override { return kFigures; }
    // Events of an operating system without any mark say so with an empty table.
    bool told(const Trail& trail) const override { return trail.tasks.present(); }
    std::string_view advice() const override {
        return "they come from an operating system's events: record them, or give a ctf stream";
    }

    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
        for (const MarkLane& m : of.trail.tasks.marks) {
            std::vector<Cell> row = {m.name, std::uint64_t{own_number(m.id)}, std::uint64_t{m.marks.size()},
                                     std::uint64_t{0}};
            add_lengths(row, periods_of(of.trail, m), false);
            all.push_back(std::move(row));
        }
        return all;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.marks.size(); ++i) all.push_back({trail.tasks.marks[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kInstances; }
    void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const override {
        const MarkLane& lane = trail.tasks.marks[index];
        for (std::size_t i = 0; i < lane.marks.size(); ++i) {
            const TaskMark& m = lane.marks[i];
            const auto name = lane.value_names.find(static_cast<std::uint64_t>(m.value));
            const std::array<Cell, std::size(kInstances)> row = {
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

const ActivityKind& marks_kind() {
    static const Marks kind;
    return kind;
}

}  // namespace mt
