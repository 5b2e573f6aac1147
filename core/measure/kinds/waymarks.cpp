#include <algorithm>
#include <array>

#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kWaymarkFigures[] = {
    {"name", "waymark", "what a person called the place"},
    {"count", "count", "how many have that name"},
    {"first_ns", "first", "when the first is"},
    {"last_ns", "last", "when the last is"},
    {"period_min", "period min", "shortest time from one to the next of that name"},
    {"period_mean", "period mean", "mean time from one to the next of that name"},
    {"period_max", "period max", "longest time from one to the next of that name"},
    {"note", "", "what was noted at the first", "note"},
};
constexpr std::string_view kWaymarkColumns[] = {"name",       "count",       "first_ns",   "last_ns",
                                                "period_min", "period_mean", "period_max", "note"};
constexpr std::string_view kWaymarkInstances[] = {"index", "begin_ns", "end_ns", "duration_ns", "name", "note"};

class WaymarkLane final : public PlainLane {
  public:
    explicit WaymarkLane(const Trail& trail)
        : PlainLane(trail, {"waymarks", "places that you named", 0, Shape::bars, Ink::mark}), marks_(trail.waymarks) {}
    std::size_t size(std::size_t) const override { return marks_.size(); }
    Span span(std::size_t, std::size_t i) const override {
        return {marks_[i].at, std::max(marks_[i].at, marks_[i].until), {}, {}};
    }
    // By begin; few enough to look at each.
    Range touching(std::size_t, Time from, Time to) const override {
        std::size_t first = 0, last = 0;
        for (std::size_t i = marks_.size(); i-- > 0;)
            if (std::max(marks_[i].at, marks_[i].until) >= from) first = i;
        if (!marks_.empty() && std::max(marks_[first].at, marks_[first].until) < from) first = marks_.size();
        while (last < marks_.size() && !(to < marks_[last].at)) ++last;
        return {first, std::max(first, last)};
    }
    bool ordered() const override { return false; }
    std::string label(std::size_t, std::size_t i) const override { return marks_[i].name; }
    Told told(Time t, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return nothing_at(t, "no waymark");
        const Waymark& m = marks_[span->second];
        Told told{m.name, {m.is_stretch() ? stretch_text(this->span(0, span->second)) : "at " + moment_text(m.at)}};
        if (!m.note.empty()) told.lines.push_back(m.note);
        return told;
    }

  private:
    const std::vector<Waymark>& marks_;
};

class Waymarks final : public LaneKind {
  public:
    std::string_view id() const override { return "waymarks"; }
    int order() const override { return 115; }
    int rank() const override { return kAcrossCores + 10; }
    std::string_view one() const override { return "a waymark"; }
    std::span<const FigureInfo> figures() const override { return kWaymarkFigures; }
    std::span<const std::string_view> columns() const override { return kWaymarkColumns; }
    bool told(const Trail& trail) const override { return !trail.waymarks.empty(); }
    std::string_view advice() const override { return "plant one in the window with M, at the cursor or from A to B"; }
    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (const Name& name : names(of.trail)) {
            std::vector<Time> periods;
            const Waymark *first = nullptr, *last = nullptr;
            std::uint64_t count = 0;
            for (const Waymark& m : of.trail.waymarks) {
                if (m.name != name.name) continue;
                if (last != nullptr) periods.push_back(m.at - last->at);
                if (first == nullptr) first = &m;
                last = &m;
                ++count;
            }
            std::vector<Cell> row = {name.name, count, first->at, last->at};
            add_lengths(row, figures_of(std::move(periods)), false);
            row.push_back(first->note);
            all.push_back({name.index, std::move(row)});
        }
        return all;
    }
    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        return trail.waymarks.empty() ? std::vector<std::uint64_t>{} : std::vector<std::uint64_t>{0};
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t) const override {
        return std::make_unique<WaymarkLane>(trail);
    }
    bool lanes_are_activities() const override { return false; }
    LaneId lane_of(const Trail&, std::uint64_t) const override { return {this, 0}; }
    std::uint64_t activity_of(const Trail& trail, const SpanRef& span) const override {
        for (std::size_t i = 0; i < span.index && span.index < trail.waymarks.size(); ++i)
            if (trail.waymarks[i].name == trail.waymarks[span.index].name) return i;
        return span.index;
    }
    // Its number is that of the first of its name.
    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.waymarks.size(); ++i)
            if (activity_of(trail, {{this, 0}, 0, i}) == i) all.push_back({trail.waymarks[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kWaymarkInstances; }
    void each_instance(const Trail& trail, std::uint64_t activity, const EachRow& each) const override {
        for (std::size_t i = 0; i < trail.waymarks.size(); ++i) {
            const Waymark& m = trail.waymarks[i];
            if (activity >= trail.waymarks.size() || m.name != trail.waymarks[activity].name) continue;
            const Time end = std::max(m.at, m.until);
            const std::array<Cell, std::size(kWaymarkInstances)> row = {std::uint64_t{i}, m.at, end, end - m.at,
                                                                       m.name, m.note};
            if (!each(row)) return;
        }
    }
    std::optional<SpanRef> first_from(const Trail& trail, std::uint64_t activity, Time t, bool around) const override {
        std::optional<SpanRef> first;
        for (std::size_t i = 0; i < trail.waymarks.size(); ++i) {
            if (activity >= trail.waymarks.size() || trail.waymarks[i].name != trail.waymarks[activity].name) continue;
            if (!first && around) first = SpanRef{{this, 0}, 0, i};
            if (!(trail.waymarks[i].at < t)) return SpanRef{{this, 0}, 0, i};
        }
        return first;
    }
};

}  // namespace

const LaneKind& waymarks_kind() {
    static const Waymarks kind;
    return kind;
}

}  // namespace mt
