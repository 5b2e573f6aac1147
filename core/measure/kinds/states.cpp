#include "measure/states.h"

#include <array>

#include "measure/kinds/kinds.h"
#include "measure/kinds/sample_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kStateFigures[] = {
    {"of", "of", "variable or port"},
    {"name", "name", "what its value stands for"},
    {"full_name", "", "both"},
    {"value", "", "the value"},
    {"core", "", "core that it belongs to", "core"},
    {"count", "count", "whole stays"},
    {"left_out", "excluded", "stays that are cut by a gap or the recording's ends"},
    {"total", "", "time of all whole stays"},
    {"min", "min", "shortest stay"},
    {"mean", "mean", "mean stay"},
    {"max", "max", "longest stay"},
    {"stddev", "", "standard deviation"},
    {"p95", "", "95 % of the stays are no longer"},
    {"p99", "", "99 % of the stays are no longer", "P99"},
    {"period_min", "", "shortest time from begin to begin"},
    {"period_mean", "period mean", "mean time from begin to begin"},
    {"period_max", "", "longest time from begin to begin", "period max"},
    {"share", "share", "of all stays of the variable or port"},
};
constexpr std::string_view kStateInstances[] = {"index", "begin_ns", "end_ns", "duration_ns", "left_out"};

std::string full_name(const StateRow& r) { return r.lane_name + ": " + r.name; }

// A lane of values, and one of them. Names have at most 32 bits.
std::uint64_t activity(std::size_t lane, std::uint64_t bits) {
    return std::uint64_t{lane} << 32 | (bits & 0xFFFF'FFFF);
}

class StateBars final : public SampleLane {
  public:
    StateBars(const Trail& trail, const ValueLane& lane)
        : SampleLane(trail,
                     {lane.name, "value by name", lane.core == ValueLane::kNoCore ? std::uint16_t{0} : lane.core,
                      Shape::bars, Ink::value},
                     lane) {}
    Span span(std::size_t, std::size_t i) const override {
        const ValueSample& s = lane_.samples[i];
        Span x = SampleLane::span(0, i);
        x.hue = static_cast<std::uint32_t>(s.bits);
        if (s.bits == 0 && lane_.name_of(0) == nullptr) x.flags |= Span::kSilent;  // 0 without a name is nothing
        if (i + 1 == lane_.samples.size()) x.flags |= Span::kCutEnd;
        return x;
    }
    std::string label(std::size_t, std::size_t i) const override {
        const std::string* name = lane_.name_of(lane_.samples.bits(i));
        return name == nullptr ? lane_.value(i).text() : *name;
    }
    Told told(Time, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return {lane_.name, {"no value yet"}};
        const ValueSample& s = lane_.samples[span->second];
        const std::string* name = lane_.name_of(s.bits);
        const std::string number = lane_.value(span->second).text();
        return {lane_.name + " = " + (name == nullptr ? number : *name + " (" + number + ")"),
                {"since " + moment_text(s.time)}};
    }
};

class States final : public LaneKind {
  public:
    std::string_view id() const override { return "states"; }
    int order() const override { return 100; }
    int rank() const override { return kAcrossCores + 51; }
    std::string_view one() const override { return "a state"; }
    std::span<const FigureInfo> figures() const override { return kStateFigures; }
    std::string_view figure_of(std::string_view column) const override {
        return column == "name" ? "full_name" : column == "number" ? "value" : column == "own" ? "total" : column;
    }
    bool told(const Trail& trail) const override { return !state_rows(trail).empty(); }
    std::string_view advice() const override {
        return "they are values with names: give a watch or a port of kind \"value\" its names";
    }

    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (const StateRow& r : state_rows(of.trail)) {
            std::vector<Cell> row = {r.lane_name, r.name,       full_name(r), static_cast<std::int64_t>(r.bits),
                                     r.core_name, r.stay.count, r.left_out,   r.stay.sum};
            add_lengths(row, r.stay, true);
            add_lengths(row, r.period, false);
            row.emplace_back(Share{r.share});
            all.push_back({activity(r.lane, r.bits), std::move(row)});
        }
        return all;
    }

    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (std::size_t i = 0; i < trail.tasks.values.size(); ++i)
            if (!trail.tasks.values[i].value_names.empty() && !trail.tasks.values[i].samples.empty()) all.push_back(i);
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.tasks.values.size()) return nullptr;
        return std::make_unique<StateBars>(trail, trail.tasks.values[index]);
    }
    bool lanes_are_activities() const override { return false; }
    LaneId lane_of(const Trail&, std::uint64_t of) const override { return {this, of >> 32}; }
    std::uint64_t activity_of(const Trail& trail, const SpanRef& span) const override {
        return activity(span.lane.index, trail.tasks.values[span.lane.index].samples.bits(span.index));
    }
    // Samples that say the same again belong to the stay before.
    std::optional<SpanRef> next(const Trail& trail, const SpanRef& from, int direction) const override {
        const auto& samples = trail.tasks.values[from.lane.index].samples;
        const std::uint64_t value = samples.bits(from.index);
        const auto begins = [&](std::size_t i) {
            return samples.bits(i) == value && (i == 0 || samples.bits(i - 1) != value);
        };
        for (std::size_t i = from.index; direction > 0 ? ++i < samples.size() : i-- > 0;)
            if (begins(i)) return SpanRef{from.lane, 0, i};
        return std::nullopt;
    }
    std::optional<SpanRef> first_from(const Trail& trail, std::uint64_t of, Time t, bool around) const override {
        const auto& samples = trail.tasks.values[of >> 32].samples;
        const std::size_t from = samples.before(t);
        for (std::size_t n = 0; n < samples.size(); ++n) {
            const std::size_t i = from + n;
            if (i >= samples.size() && !around) break;
            if (activity(of >> 32, samples.bits(i % samples.size())) == of)
                return SpanRef{{this, of >> 32}, 0, i % samples.size()};
        }
        return std::nullopt;
    }
    std::optional<SpanRef> worst(const Trail& trail, std::uint64_t of) const override {
        const auto& samples = trail.tasks.values[of >> 32].samples;
        for (const StateRow& r : state_rows(trail))
            if (activity(r.lane, r.bits) == of && r.stay.count > 0)
                return SpanRef{{this, of >> 32}, 0, samples.before(r.worst_begin)};
        return std::nullopt;
    }
    std::vector<Phrase> moment(const Trail& trail, std::size_t core, Time t) const override {
        return values_at(*this, trail, core, t,
                         [&](const ValueLane& of, std::size_t i) { return StateBars(trail, of).label(0, i); });
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (const StateRow& r : state_rows(trail)) all.push_back({full_name(r), "", activity(r.lane, r.bits)});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kStateInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const ValueLane& lane = trail.tasks.values[index >> 32];
        std::uint64_t n = 0;
        bool cut_begin = false;
        for (std::size_t i = 0; i < lane.samples.size();) {
            // From here on it has this value, up to a sample that brings another or a gap.
            std::size_t next = i + 1;
            bool gap = false;
            for (; next < lane.samples.size(); ++next) {
                gap = trail.gaps.touch(lane.core, lane.samples.time(next - 1), lane.samples.time(next));
                if (gap || lane.samples.bits(next) != lane.samples.bits(i)) break;
            }
            const bool last = next == lane.samples.size();
            if (activity(index >> 32, lane.samples.bits(i)) == index) {
                const Time begin = lane.samples.time(i), end = last ? trail.end : lane.samples.time(next);
                const std::array<Cell, std::size(kStateInstances)> row = {
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

const LaneKind& states_kind() {
    static const States kind;
    return kind;
}

}  // namespace mt
