#include <array>
#include <cmath>
#include <cstdio>
#include <limits>

#include "measure/kinds/kinds.h"
#include "measure/kinds/sample_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kValueFigures[] = {
    {"name", "value", "variable, port or signal"},
    {"core", "core", "core that it belongs to"},
    {"unit", "unit", "of its figures, where it is known"},
    {"samples", "samples", "how often it was told"},
    {"left_out", "excluded", "samples that do not hold up to the next: a gap or the recording's end lies between"},
    {"min", "min", "least value"},
    {"mean", "mean", "mean, each sample weighed by the time for which it held"},
    {"max", "max", "greatest value"},
    {"first", "first", "first value"},
    {"last", "last", "last value"},
    {"min_at_ns", "min at", "when it was least, the first time"},
    {"max_at_ns", "max at", "when it was greatest, the first time"},
};
constexpr std::string_view kValueColumns[] = {"name", "core", "unit",  "samples", "left_out",  "min",
                                              "mean", "max",  "first", "last",    "min_at_ns", "max_at_ns"};
constexpr std::string_view kValueInstances[] = {"index",  "time_ns",     "value",      "name",
                                                "access", "instruction", "earliest_ns"};

// A value as a number; of what had 32 bits with as many digits as that has.
Cell number_of(const Value& v) {
    if (v.sort == ValueSort::small_real) return std::stod(v.text());
    if (v.sort == ValueSort::real) return v.number();
    return v.sort == ValueSort::signed_whole ? Cell(static_cast<std::int64_t>(v.bits)) : Cell(std::uint64_t{v.bits});
}

// "written by the instruction at 0x080001a4, up to 40 ns earlier"
std::string origin_text(const ValueOrigin& origin) {
    std::string text(value_access_name(origin.access));
    if (origin.instruction_known) text += " by the instruction at " + hex_text(origin.instruction, 8);
    if (origin.slack_ns > 0)
        text += ", up to " + duration_text(Time{std::int64_t{origin.slack_ns} * 1000}) + " earlier";
    return text;
}

// As a person reads it: a measured number with the digits that matter, and its unit. Tables have all digits.
std::string shown_text(const ValueLane& lane, std::size_t i) {
    std::string text = lane.text(i);
    const bool real = lane.sort == ValueSort::real || lane.sort == ValueSort::small_real;
    const bool few_do = real && lane.known(i) && std::fabs(lane.value(i).number()) < 1e5;
    if (few_do && lane.name_of(lane.samples.bits(i)) == nullptr && text.size() > 7) {
        std::array<char, 32> few{};
        std::snprintf(few.data(), few.size(), "%.5g", lane.value(i).number());
        text = few.data();
    }
    return lane.unit.empty() ? text : text + " " + lane.unit;
}

class ValueLine final : public SampleLane {
  public:
    ValueLine(const Trail& trail, const ValueLane& lane)
        : SampleLane(
              trail,
              {lane.name, "value, " + lane.value_of(lane.least).text() + " to " + lane.value_of(lane.greatest).text(),
               lane.core == ValueLane::kNoCore ? std::uint16_t{0} : lane.core, Shape::line, Ink::value},
              lane) {}
    double value(std::size_t i) const override {
        return lane_.known(i) ? lane_.value(i).number() : std::numeric_limits<double>::quiet_NaN();
    }
    // Of what is sampled evenly, each sample would be one: there, an edge is a change by half of all it ever was.
    void each_edge(Time from, Time to, const std::function<void(Time)>& each) const override {
        if (!lane_.samples.even()) return SampleLane::each_edge(from, to, each);
        constexpr std::size_t kMost = 1 << 14;
        const double half = (bounds().second - bounds().first) / 2;
        const std::size_t n = lane_.samples.size(),
                          first = lane_.samples.before(from);
        for (std::size_t i = std::max<std::size_t>(first, 1); i < n && i - first < kMost; ++i) {
            const Time at = lane_.samples.time(i);
            if (at > to) break;
            if (std::abs(value(i) - value(i - 1)) >= half && half > 0) each(at);
        }
    }
    std::pair<double, double> extent(std::size_t first, std::size_t last) const override {
        const auto e = lane_.extent(first, last);
        return {lane_.value_of(e.least).number(), lane_.value_of(e.greatest).number()};
    }
    std::pair<double, double> bounds() const override {
        return {lane_.value_of(lane_.least).number(), lane_.value_of(lane_.greatest).number()};
    }
    std::string label(std::size_t, std::size_t i) const override {
        return shown_text(lane_, i);
    }
    Told told(Time, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return {lane_.name, {"no value yet"}};
        const ValueSample& s = lane_.samples[span->second];
        return {lane_.name + " = " + shown_text(lane_, span->second),
                {"since " + moment_text(s.time), origin_text(lane_.origin(span->second))}};
    }
};

class Values final : public LaneKind {
  public:
    std::string_view id() const override { return "values"; }
    int order() const override { return 90; }
    int rank() const override { return kAcrossCores + 50; }
    std::string_view one() const override { return "a value"; }
    std::span<const FigureInfo> figures() const override { return kValueFigures; }
    std::span<const std::string_view> columns() const override { return kValueColumns; }
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
                const Value value = lane.value(i);
                if (!lane.known(i)) {
                    left_out += i + 1 < n ? 1 : 0;
                    continue;
                }
                if (value < lane.value(least) || std::isnan(lane.value(least).number())) least = i;
                if (value > lane.value(greatest) || std::isnan(lane.value(greatest).number())) greatest = i;
                if (i + 1 == n) continue;
                const Time next = lane.holds_until(i, of.trail.end);
                if (of.trail.gaps.touch(lane.core, s.time, next)) {
                    ++left_out;
                    continue;
                }
                const auto length = static_cast<long double>((next - s.time).ps);
                if (std::isnan(value.number())) continue;  // what is no number has no mean
                sum += length * static_cast<long double>(value.number());
                held += length;
            }
            all.push_back(
                {v,
                 {lane.name, lane.core < of.trail.cores.size() ? of.trail.cores[lane.core].name : std::string(),
                  lane.unit, std::uint64_t{n}, left_out, number_of(lane.value(least)),
                  held > 0 ? Cell(static_cast<double>(sum / held)) : Cell(), number_of(lane.value(greatest)),
                  number_of(lane.value(0)), number_of(lane.value(n - 1)), lane.samples.time(least),
                  lane.samples.time(greatest)}});
        }
        return all;
    }

    std::string summary(const Trail&, const MeasuredRow& row) const override {
        return "value, " + cell_text(*cell_of(*this, row, "samples")) + " samples, " +
               cell_text(*cell_of(*this, row, "left_out")) + " excluded";
    }
    std::span<const PanelFigure> panel(const Trail&, std::uint64_t) const override {
        static constexpr PanelFigure kAll[] = {{"min", "min"},     {"mean", "mean"}, {"max", "max"},
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
            if (of.value(i) > of.value(greatest) || std::isnan(of.value(greatest).number())) greatest = i;
        return SpanRef{{this, activity}, 0, greatest};
    }
    std::vector<Phrase> moment(const Trail& trail, std::size_t core, Time t) const override {
        return values_at(*this, trail, core, t, shown_text);
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.values.size(); ++i) all.push_back({trail.tasks.values[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kValueInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const ValueLane& lane = trail.tasks.values[index];
        for (std::size_t i = 0; i < lane.samples.size(); ++i) {
            const ValueSample s = lane.samples[i];
            const std::string* name = lane.name_of(s.bits);
            const ValueOrigin origin = lane.origin(i);
            const std::array<Cell, std::size(kValueInstances)> row = {
                std::uint64_t{i},
                s.time,
                lane.known(i) ? number_of(lane.value(i)) : Cell(lane.text(i)),
                name != nullptr ? *name : std::string(),
                std::string(value_access_name(origin.access)),
                origin.instruction_known ? Cell(hex_text(origin.instruction, 8)) : Cell(),
                s.time - Time{std::int64_t{origin.slack_ns} * 1000}};
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
