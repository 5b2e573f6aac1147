#include <array>

#include "measure/kinds/kinds.h"

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

class Values final : public ActivityKind {
  public:
    std::string_view id() const override { return "values"; }
    std::string_view one() const override { return "a value"; }
    std::span<const FigureInfo> figures() const override { return kFigures; }
    std::span<const std::string_view> columns() const override { return kColumns; }
    bool told(const Trail& trail) const override { return !trail.tasks.values.empty(); }
    std::string_view advice() const override {
        return "they come from watched variables, ports of kind \"value\", or signal events of a ctf stream";
    }

    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
        for (const ValueLane& lane : of.trail.tasks.values) {
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
                {lane.name, lane.core < of.trail.cores.size() ? of.trail.cores[lane.core].name : std::string(), "",
                 std::uint64_t{n}, left_out, number_of(lane, lane.samples[least].value),
                 held > 0 ? Cell(static_cast<double>(sum / held) / unit) : Cell(),
                 number_of(lane, lane.samples[greatest].value), number_of(lane, lane.samples[0].value),
                 number_of(lane, lane.samples[n - 1].value), lane.samples[least].time, lane.samples[greatest].time});
        }
        return all;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.values.size(); ++i) all.push_back({trail.tasks.values[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kInstances; }
    void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const override {
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

const ActivityKind& values_kind() {
    static const Values kind;
    return kind;
}

}  // namespace mt
