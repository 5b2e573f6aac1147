#include <array>

#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kFigures[] = {
    {"name", "value", "variable, port or signal"},
    {"core", "core", "core that it belongs to"},
    {"unit", "unit", "of its figures, where it is known"},
    {"samples", "samples", "how often it was told"},
    {"left_out", "left out", "samples that do not hold up to the next: a gap or the recording's end lies between"},
    {"min", "least", "least value"},
    {"mean", "mean", "mean, each sample weighed by the time for which it held"},
    {"max", "greatest", "greatest value"},
    {"first", "first", "first value"},
    {"last", "last", "last value"},
    {"min_at_ns", "least at", "when it was least, the first time"},
    {"max_at_ns", "greatest at", "when it was greatest, the first time"},
};
constexpr std::string_view kColumns[] = {"name", "core", "unit",  "samples", "left_out",  "min",
                                         "mean", "max",  "first", "last",    "min_at_ns", "max_at_ns"};
constexpr std::string_view kInstances[] = {"index", "time_ns", "value", "name"};

// A sample as a number.
Cell number_of(const ValueLane& lane, std::int64_t value) {
    if (lane.decimals == 0) return value;
    return std::stod(lane.text(value));
}

class ValueLine final : public PlainLane {
  public:
    ValueLine(const Trail& trail, const ValueLane& lane)
        : PlainLane(trail, {lane.name, "value, " + lane.text(lane.least) + " to " + lane.text(lane.greatest), lane.core,
                            Shape::line, Ink::value}),
          lane_(lane) {}
    std::size_t size(std::size_t) const override { return lane_.samples.size(); }
    Span span(std::size_t, std::size_t i) const override {
        return {lane_.samples[i].time, i + 1 < lane_.samples.size() ? lane_.samples[i + 1].time : trail_.end, {}, {}};
    }
    Range touching(std::size_t, Time from, Time to) const override {
        const std::size_t at = lane_.at(from);
        return {at == lane_.samples.size() ? 0 : at,
                lane_.samples.partition_point([to](const ValueSample& s) { return !(to < s.time); })};
    }
    bool stirs(Time from, Time to) const override {
        const auto [first, last] = touching(0, from, to);
        return first != last;
    }
    double value(std::size_t i) const override { return static_cast<double>(lane_.samples[i].value); }
    std::pair<double, double> extent(std::size_t first, std::size_t last) const override {
        const auto e = lane_.extent(first, last);
        return {static_cast<double>(e.least), static_cast<double>(e.greatest)};
    }
    std::pair<double, double> bounds() const override {
        return {static_cast<double>(lane_.least), static_cast<double>(lane_.greatest)};
    }
    std::string label(std::size_t, std::size_t i) const override { return lane_.text(lane_.samples[i].value); }
    Told told(Time, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return {lane_.name, {"no value yet"}};
        const ValueSample& s = lane_.samples[span->second];
        return {lane_.name + " = " + lane_.text(s.value), {"since " + moment_text(s.time)}};
    }

  private:
    const ValueLane& lane_;
};

class Values final : public LaneKind {
  public:
    std::string_view id() const override { return "values"; }
    int order() const override { return 90; }
    int rank() const override { return kAcrossCores + 50; }
    std::string_view one() const override { return "a value"; }
    std::span<const FigureInfo> figures() const override { return kFigures; }
    std::span<const std::string_view> columns() const override { return kColumns; }
    bool told(const Trail& trail) const override { return !trail.tasks.values.empty(); }
    std::string_view advice() const override {
        return "they come from watched variables, ports of kind \"value\", or signal events of a ctf stream";
    }

    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (std::size_t v = 0; v < of.trail.tasks.values.size(); ++v) {
            const ValueLane& lane = of.trail.tasks.values[v];
            if (lane.samples.empty()) continue;
            const std::size_t n = lane.samples.size();
            std::size_t least = 0, greatest = 0;
            std::uint64_t left_out = 1;  // the last holds to an end that is not known
            long double sum = 0, held = 0;
            for (std::size_t i = 0; i < n; ++i) {
                const ValueSample s = lane.samples[i];
                if (s.value < lane.samples[least].value) least = i;
                if (s.value > lane.samples[greatest].value) greatest = i;
                if (i + 1 == n) continue;
                const Time next = lane.samples[i + 1].time;
                if (of.trail.gaps.touch(lane.core, s.time, next)) {
                    ++left_out;
                    continue;
                }
                const auto length = static_cast<long double>((next - s.time).ps);
                sum += length * static_cast<long double>(s.value);
                held += length;
            }
            double unit = 1;
            for (unsigned i = 0; i < lane.decimals; ++i) unit *= 10;
            all.push_back(
                {v,
                 {lane.name, lane.core < of.trail.cores.size() ? of.trail.cores[lane.core].name : std::string(), "",
                  std::uint64_t{n}, left_out, number_of(lane, lane.samples[least].value),
                  held > 0 ? Cell(static_cast<double>(sum / held) / unit) : Cell(),
                  number_of(lane, lane.samples[greatest].value), number_of(lane, lane.samples[0].value),
                  number_of(lane, lane.samples[n - 1].value), lane.samples[least].time, lane.samples[greatest].time}});
        }
        return all;
    }

    std::span<const PanelFigure> panel(const Trail&, std::uint64_t) const override {
        static constexpr PanelFigure kAll[] = {{"min", "least"},   {"mean", "mean"}, {"max", "greatest"},
                                               {"first", "first"}, {"last", "last"}, {"samples", "samples"}};
        return kAll;
    }
    // Those whose numbers have names are states.
    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (std::size_t i = 0; i < trail.tasks.values.size(); ++i)
            if (trail.tasks.values[i].value_names.empty() && !trail.tasks.values[i].samples.empty()) all.push_back(i);
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.tasks.values.size()) return nullptr;
        return std::make_unique<ValueLine>(trail, trail.tasks.values[index]);
    }
    // Where it was greatest.
    std::optional<SpanRef> worst(const Trail& trail, std::uint64_t activity) const override {
        const ValueLane& of = trail.tasks.values[activity];
        if (of.samples.empty()) return std::nullopt;
        std::size_t greatest = 0;
        for (std::size_t i = 0; i < of.samples.size(); ++i)
            if (of.samples[i].value > of.samples[greatest].value) greatest = i;
        return SpanRef{{this, activity}, 0, greatest};
    }
    std::vector<Phrase> moment(const Trail& trail, std::size_t core, Time t) const override {
        std::vector<Phrase> all;
        for (const std::uint64_t v : lanes(trail)) {
            const ValueLane& of = trail.tasks.values[v];
            const std::size_t i = of.at(t);
            if (of.core != core || i == of.samples.size()) continue;
            all.push_back({{of.name, SpanRef{{this, v}, 0, i}}, {" = " + of.text(of.samples[i].value)}});
        }
        return all;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.values.size(); ++i) all.push_back({trail.tasks.values[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const ValueLane& lane = trail.tasks.values[index];
        for (std::size_t i = 0; i < lane.samples.size(); ++i) {
            const ValueSample s = lane.samples[i];
            const auto name = lane.value_names.find(static_cast<std::uint64_t>(s.value));
            const std::array<Cell, std::size(kInstances)> row = {
                std::uint64_t{i}, s.time, number_of(lane, s.value),
                name != lane.value_names.end() ? name->second : std::string()};
            if (!each(row)) return;
        }
    }
};

}  // namespace

const LaneKind& values_kind() {
    static const Values kind;
    return kind;
}

}  // namespace mt
