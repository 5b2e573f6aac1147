// A kind of lane that this program has never heard of, for tests: a pin that goes up and down.
#pragma once

#include <array>
#include <memory>
#include <vector>

#include "measure/kinds/plain_lane.h"

namespace mt::test {

struct Edge {
    Time time;
    bool up = false;
};
// Up from each odd edge to the next one.
class Levels final : public PlainLane {
  public:
    Levels(const Trail& trail, const std::vector<Edge>& edges)
        : PlainLane(trail, {"dome light", "pin", 0, Shape::bars, Ink::value}), edges_(edges) {}
    std::size_t size(std::size_t) const override { return edges_.size() / 2; }
    Span span(std::size_t, std::size_t i) const override {
        return {edges_[2 * i].time, edges_[2 * i + 1].time, {}, {}};
    }
    Range touching(std::size_t, Time from, Time to) const override {
        return touching_of(
            size(0), from, to, [this](std::size_t i) { return edges_[2 * i].time; },
            [this](std::size_t i) { return edges_[2 * i + 1].time; });
    }
    std::string label(std::size_t, std::size_t) const override { return "up"; }
    Told told(Time t, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return nothing_at(t, "down");
        return {"dome light", {"up " + stretch_text(this->span(0, span->second))}};
    }

  private:
    const std::vector<Edge>& edges_;
};

class Pins final : public LaneKind {
  public:
    std::string_view id() const override { return "pins"; }
    int order() const override { return 900; }
    int rank() const override { return kAcrossCores + 90; }
    std::string_view one() const override { return "a pin"; }
    std::span<const FigureInfo> figures() const override {
        static constexpr FigureInfo kAll[] = {{"name", "pin", "pin"},
                                              {"count", "pulses", "whole pulses"},
                                              {"min", "shortest", "shortest pulse"},
                                              {"max", "longest", "longest pulse"}};
        return kAll;
    }
    bool told(const Trail&) const override { return true; }
    std::string_view advice() const override { return ""; }
    std::vector<MeasuredRow> rows(const Measured&) const override {
        std::vector<Time> lengths;
        for (std::size_t i = 0; i + 1 < edges.size(); i += 2) lengths.push_back(edges[i + 1].time - edges[i].time);
        const Figures f = figures_of(lengths);
        return {{0, {"dome light", f.count, f.least, f.greatest}}};
    }
    std::vector<Name> names(const Trail&) const override { return {{"dome light", "", 0}}; }
    std::span<const std::string_view> instance_columns() const override {
        static constexpr std::string_view kAll[] = {"begin_ns", "end_ns"};
        return kAll;
    }
    void each_instance(const Trail&, std::uint64_t, const EachRow& each) const override {
        for (std::size_t i = 0; i + 1 < edges.size(); i += 2)
            if (!each(std::array<Cell, 2>{edges[i].time, edges[i + 1].time})) return;
    }
    std::vector<std::uint64_t> lanes(const Trail&) const override { return {0}; }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t) const override {
        return std::make_unique<Levels>(trail, edges);
    }
    std::vector<Edge> edges = {{Time::from_us(10), true},
                               {Time::from_us(12), false},
                               {Time::from_us(30), true},
                               {Time::from_us(35), false},
                               {Time::from_us(50), true}};
};

}  // namespace mt::test
