// Figures of what is had for a while: resources, and interrupts masked.
#pragma once

#include <array>

#include "measure/kinds/plain_lane.h"

namespace mt {

inline constexpr FigureInfo kUseFigures[] = {
    {"name", "name", "what was used"},
    {"number", "no", "its number in the operating system"},
    {"count", "uses", "whole uses"},
    {"left_out", "left out", "uses whose end was not seen"},
    {"total", "", "time of all whole uses"},
    {"own", "", "the same"},
    {"min", "least", "shortest use"},
    {"mean", "mean", "mean use"},
    {"max", "greatest", "longest use"},
    {"stddev", "", "standard deviation"},
    {"p95", "", "95 % of the uses are no longer"},
    {"p99", "", "99 % of the uses are no longer"},
    {"period_min", "", "shortest time from begin to begin"},
    {"period_mean", "period mean", "mean time from begin to begin"},
    {"period_max", "", "longest time from begin to begin"},
    {"share", "share", "of the recording in which it was had"},
};
inline constexpr std::string_view kUseInstances[] = {"index", "begin_ns", "end_ns", "duration_ns", "task", "left_out"};

/// A row of kUseFigures. `core`: whose gaps cut periods; none: those of any.
inline std::vector<Cell> use_row(const Trail& trail, const std::string& name, Cell number,
                                 const Column<UseSpan>& uses) {
    std::vector<Time> lengths, periods;
    std::uint64_t left_out = 0;
    for (std::size_t i = 0; i < uses.size(); ++i) {
        if ((uses[i].flags & LockHold::kCut) != 0) {
            ++left_out;
            continue;
        }
        lengths.push_back(uses[i].end - uses[i].begin);
        if (i > 0 && !trail.gaps.touch(uses[i - 1].begin, uses[i].begin) && uses[i - 1].begin <= uses[i].begin)
            periods.push_back(uses[i].begin - uses[i - 1].begin);
    }
    const Figures length = figures_of(std::move(lengths)), period = figures_of(std::move(periods));
    std::vector<Cell> row = {name, std::move(number), length.count, left_out, length.sum, length.sum};
    add_lengths(row, length, true);
    add_lengths(row, period, false);
    row.push_back(trail.end.ps > 0 ? Cell(Share{static_cast<double>(length.sum.ps) / static_cast<double>(trail.end.ps)})
                                   : Cell());
    return row;
}

inline void each_use(const Trail& trail, const Column<UseSpan>& uses, const EachRow& each) {
    for (std::size_t i = 0; i < uses.size(); ++i) {
        const std::array<Cell, std::size(kUseInstances)> row = {
            std::uint64_t{i},
            uses[i].begin,
            uses[i].end,
            uses[i].end - uses[i].begin,
            uses[i].task == kNobody ? std::string() : trail.tasks.task_name(uses[i].task),
            (uses[i].flags & LockHold::kCut) != 0 ? "end not seen" : ""};
        if (!each(row)) return;
    }
}

/// A bar for each use. Those of several tasks may overlap: they are in order of their ends only.
class UseBars final : public PlainLane {
  public:
    UseBars(const Trail& trail, Look look, const Column<UseSpan>& uses, Time longest, bool ordered)
        : PlainLane(trail, std::move(look)), uses_(uses), longest_(longest), ordered_(ordered) {}
    std::size_t size(std::size_t) const override { return uses_.size(); }
    Span span(std::size_t, std::size_t i) const override {
        const UseSpan& u = uses_[i];
        Span s{u.begin, u.end, {}, {}};
        if ((u.flags & LockHold::kCut) != 0) s.flags |= Span::kCutEnd;
        s.hue = u.task;
        return s;
    }
    // None that begins by `to` ends later than its length behind it.
    Range touching(std::size_t, Time from, Time to) const override {
        const auto end_of = [this](std::size_t i) { return uses_[i].end; };
        if (ordered_)
            return touching_of(
                uses_.size(), from, to, [this](std::size_t i) { return uses_[i].begin; }, end_of);
        return touching_of(
            uses_.size(), from, to, [this](std::size_t i) { return uses_[i].end - longest_; }, end_of);
    }
    bool ordered() const override { return ordered_; }
    std::string label(std::size_t, std::size_t i) const override {
        return uses_[i].task == kNobody ? duration_text(uses_[i].end - uses_[i].begin)
                                        : trail_.tasks.task_name(uses_[i].task);
    }
    Told told(Time t, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return nothing_at(t, "nobody has it");
        const UseSpan& u = uses_[span->second];
        const std::string by = u.task == kNobody ? std::string() : "by " + trail_.tasks.task_name(u.task) + " ";
        Told told{name(), {by + stretch_text(this->span(0, span->second))}};
        if ((u.flags & LockHold::kCut) != 0) told.lines.push_back(kLeftOutEnd);
        return told;
    }

  private:
    const Column<UseSpan>& uses_;
    Time longest_;
    bool ordered_;
};

/// A kind of which each lane is a list of uses.
class UseLanes : public LaneKind {
  public:
    std::span<const FigureInfo> figures() const override { return kUseFigures; }
    bool told(const Trail& trail) const override { return !list(trail).empty(); }
    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (std::size_t i = 0; i < list(of.trail).size(); ++i) {
            const ResourceLane& r = list(of.trail)[i];
            all.push_back({i, use_row(of.trail, r.name, number(r), r.uses)});
        }
        return all;
    }
    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (std::size_t i = 0; i < list(trail).size(); ++i)
            if (!list(trail)[i].uses.empty()) all.push_back(i);
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= list(trail).size()) return nullptr;
        const ResourceLane& r = list(trail)[index];
        return std::make_unique<UseBars>(trail, PlainLane::Look{r.name, note(), 0, Shape::bars, ink()}, r.uses,
                                         r.longest, false);
    }
    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < list(trail).size(); ++i) all.push_back({list(trail)[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kUseInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        each_use(trail, list(trail)[index].uses, each);
    }

  protected:
    virtual const std::vector<ResourceLane>& list(const Trail& trail) const = 0;
    virtual std::string note() const = 0;
    virtual Ink ink() const { return Ink::waiting; }
    virtual Cell number(const ResourceLane&) const { return {}; }
};

}  // namespace mt
