#include "measure/states.h"

#include <array>

#include "measure/kinds/kinds.h"

namespace mt {
namespace {

constexpr FigureInfo kFigures[] = {
    {"of", "of", "variable or port"},
    {"name", "name", "what its value stands for"},
    {"full_name", "", "both"},
    {"value", "", "the value"},
    {"core", "", "core that it belongs to"},
    {"count", "count", "whole stays"},
    {"left_out", "left out", "stays that are cut by a gap or the recording's ends"},
    {"total", "", "time of all whole stays"},
    {"min", "least", "shortest stay"},
    {"mean", "mean", "mean stay"},
    {"max", "most", "longest stay"},
    {"stddev", "", "standard deviation"},
    {"p95", "", "95 % of the stays are no longer"},
    {"p99", "", "99 % of the stays are no longer"},
    {"period_min", "", "shortest time from begin to begin"},
    {"period_mean", "period mean", "mean time from begin to begin"},
    {"period_max", "", "longest time from begin to begin"},
    {"share", "share", "of all stays of the variable or port"},
};
constexpr std::string_view kInstances[] = {"index", "begin_ns", "end_ns", "duration_ns", "left_out"};

std::string full_name(const StateRow& r) { return r.lane_name + ": " + r.name; }

class States final : public ActivityKind {
  public:
    std::string_view id() const override { return "states"; }
    std::string_view one() const override { return "a state"; }
    std::span<const FigureInfo> figures() const override { return kFigures; }
    std::string_view figure_of(std::string_view column) const override {
        return column == "name" ? "full_name" : column == "number" ? "value" : column == "own" ? "total" : column;
    }
    bool told(const Trail& trail) const override { return !state_rows(trail).empty(); }
    std::string_view advice() const override {
        return "they are values with names: give a watch or a port of kind \"value\" its names";
    }

    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
        for (const StateRow& r : state_rows(of.trail)) {
            std::vector<Cell> row = {r.lane_name, r.name,       full_name(r), r.value,
                                     r.core_name, r.stay.count, r.left_out,   r.stay.sum};
            add_lengths(row, r.stay, true);
            add_lengths(row, r.period, false);
            row.emplace_back(Share{r.share});
            all.push_back(std::move(row));
        }
        return all;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (const StateRow& r : state_rows(trail)) all.push_back({full_name(r), "", all.size()});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kInstances; }
    void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const override {
        const StateRow state = state_rows(trail).at(index);
        const ValueLane& lane = trail.tasks.values[state.lane];
        std::uint64_t n = 0;
        bool cut_begin = false;
        for (std::size_t i = 0; i < lane.samples.size();) {
            // From here on it has this value, up to a sample that brings another or a gap.
            std::size_t next = i + 1;
            bool gap = false;
            for (; next < lane.samples.size(); ++next) {
                gap = trail.gaps.touch(lane.core, lane.samples[next - 1].time, lane.samples[next].time);
                if (gap || lane.samples[next].value != lane.samples[i].value) break;
            }
            const bool last = next == lane.samples.size();
            if (lane.samples[i].value == state.value) {
                const Time begin = lane.samples[i].time, end = last ? trail.end : lane.samples[next].time;
                const std::array<Cell, std::size(kInstances)> row = {
                    n++, begin, end, end - begin,
                    gap || last ? (cut_begin ? "begin and end not seen" : "end not seen")
                    : cut_begin ? "begin not seen"
                                : ""};
                if (!each(row)) return;
            }
            cut_begin = gap;
            i = next;
        }
    }
};

}  // namespace

const ActivityKind& states_kind() {
    static const States kind;
    return kind;
}

}  // namespace mt
