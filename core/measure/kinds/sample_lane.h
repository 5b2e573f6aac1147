// A lane of values, each of which holds until the next.
#pragma once

#include "measure/kinds/plain_lane.h"

namespace mt {

class SampleLane : public PlainLane {
  public:
    SampleLane(const Trail& trail, Look look, const ValueLane& lane) : PlainLane(trail, std::move(look)), lane_(lane) {}
    std::size_t size(std::size_t) const override { return lane_.samples.size(); }
    bool from_outside() const override { return lane_.core == ValueLane::kNoCore; }
    Time unsure() const override {
        for (const LaidSignals& laid : trail_.beside)
            if (from_outside() && laid.name == lane_.source) return Time::from_ns(laid.uncertainty_ns);
        return {};
    }
    Span span(std::size_t, std::size_t i) const override {
        return {lane_.samples.time(i), i + 1 < lane_.samples.size() ? lane_.samples.time(i + 1) : trail_.end, {}, {}};
    }
    // That in force at `from`, and those behind it.
    Range touching(std::size_t, Time from, Time to) const override {
        const std::size_t at = lane_.at(from);
        return {at == lane_.samples.size() ? 0 : at,
                lane_.samples.up_to(to)};
    }
    bool stirs(Time from, Time to) const override {
        const auto [first, last] = touching(0, from, to);
        return first != last;
    }

    std::vector<std::string> lengths() const override {
        if (shape() != Shape::line) return {"duration"};
        return {lane_.unit.empty() ? "value" : "value in " + lane_.unit};
    }

  protected:
    const ValueLane& lane_;
};

/// What is said of a moment: "axis_error = -12". Of the kind's lanes on a core, each with the sample in force at `t`;
/// `text` says what its value is.
template <class Text>
std::vector<Phrase> values_at(const LaneKind& kind, const Trail& trail, std::size_t core, Time t, Text text) {
    std::vector<Phrase> all;
    for (const std::uint64_t v : kind.lanes(trail)) {
        const ValueLane& of = trail.tasks.values[v];
        const std::size_t i = of.at(t);
        if (of.core != core || i == of.samples.size()) continue;
        all.push_back({{of.name, SpanRef{{&kind, v}, 0, i}}, {" = " + text(of, i)}});
    }
    return all;
}

}  // namespace mt
