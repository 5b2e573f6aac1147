#include "measure/charge.h"

#include <algorithm>
#include <array>
#include <cmath>

#include "measure/kinds/kinds.h"

namespace mt {
namespace {

constexpr FigureInfo kChargeFigures[] = {
    {"name", "what ran", "task, interrupt, function, or thread mode of a core"},
    {"kind", "kind", "which of them it is"},
    {"core", "core", "core that ran it"},
    {"current", "current", "the lane of a current that was measured meanwhile"},
    {"count", "count", "whole jobs, executions or calls"},
    {"total", "time", "time for which it had the core itself and the current is known"},
    {"mean_ma", "mean, mA", "mean current while it ran, in mA"},
    {"charge_uc", "charge, µC", "what was drawn while it ran itself, in µC"},
    {"charge_low_uc", "", "the same, were the clocks apart by what they may be, or the input slow: least, in µC",
     "at least, µC"},
    {"charge_high_uc", "", "and greatest, in µC", "at most, µC"},
    {"energy_uj", "energy, µJ", "with the voltage that the same device measured, in µJ"},
    {"greatest_uc", "greatest, µC", "most that one job or execution drew, in µC"},
    {"greatest_at_ns", "", "when that one began", "greatest at"},
    {"share", "share", "of what was drawn on its core while it is known what ran"},
};
constexpr std::string_view kChargeColumns[] = {
    "name",      "kind",          "core",           "current",   "count",       "total",          "mean_ma",
    "charge_uc", "charge_low_uc", "charge_high_uc", "energy_uj", "greatest_uc", "greatest_at_ns", "share"};
constexpr std::string_view kChargeInstances[] = {"index", "begin_ns", "end_ns", "ran_ns", "charge_uc", "mean_ma"};

// An activity: which current, and which task or interrupt.
constexpr unsigned kValueAt = 48, kSortAt = 46, kCoreAt = 32;

std::vector<std::size_t> currents(const Trail& trail) {
    std::vector<std::size_t> all;
    for (std::size_t v = 0; v < trail.tasks.values.size() && v < 0x10000; ++v)
        if (amperes_of(trail.tasks.values[v].unit) > 0 && trail.tasks.values[v].samples.size() > 1) all.push_back(v);
    return all;
}

// The only voltage of the same device; of several nobody knows which belongs to it.
const ValueLane* voltage_of(const Trail& trail, const ValueLane& current) {
    const ValueLane* found = nullptr;
    for (const ValueLane& v : trail.tasks.values)
        if (volts_of(v.unit) > 0 && v.source == current.source && v.samples.size() > 1) {
            if (found != nullptr) return nullptr;
            found = &v;
        }
    return found;
}

Cell mean_of(double charge, Time ran) {
    return ran.ps > 0 ? Cell(charge / ran.seconds() * 1e3) : Cell();
}

class Charge final : public LaneKind {
  public:
    std::string_view id() const override { return "charge"; }
    int order() const override { return 95; }
    bool takes_long() const override { return true; }
    int rank() const override { return kAcrossCores + 99; }
    std::string_view one() const override { return "a charge"; }
    std::span<const FigureInfo> figures() const override { return kChargeFigures; }
    std::span<const std::string_view> columns() const override { return kChargeColumns; }
    bool told(const Trail& trail) const override { return trail.complete && !currents(trail).empty(); }
    std::string_view advice() const override {
        return "it is of what a device measured in A, mA or uA: [[signals]] or a stream of samples with such a unit";
    }

    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (const std::size_t v : currents(of.trail)) {
            const ValueLane& current = of.trail.tasks.values[v];
            const auto rows = charge_rows(of.trail, current, voltage_of(of.trail, current), of.progress);
            std::vector<double> of_core(of.trail.cores.size());
            for (const ChargeRow& r : rows)
                if (r.owner.sort != Owner::function) of_core[r.owner.core] += r.charge;
            for (const ChargeRow& r : rows) {
                const bool function = r.owner.sort == Owner::function,
                           instances = r.owner.sort == Owner::task || r.owner.sort == Owner::interrupt;
                const Cell greatest = r.count > 0 && instances ? Cell(r.greatest * 1e6) : Cell();
                constexpr const char* kinds[] = {"task", "interrupt", "thread mode", "function"};
                all.push_back({instances ? activity(v, r.owner) : kNoActivity,
                               {r.name, kinds[r.owner.sort], of.trail.cores[r.owner.core].name, current.name,
                                instances || function ? Cell(r.count) : Cell(), r.ran,
                                mean_of(r.charge, r.ran), r.charge * 1e6,
                                r.low * 1e6,
                                r.high * 1e6,
                                r.energy > 0 ? Cell(r.energy * 1e6) : Cell(), greatest,
                                greatest.known() ? Cell(r.greatest_at) : Cell(),
                                of_core[r.owner.core] > 0 ? Cell(Share{r.charge / of_core[r.owner.core]}) : Cell()}});
            }
        }
        return all;
    }
    std::string summary(const Trail&, const MeasuredRow& row) const override {
        return "charge, " + cell_text(*cell_of(*this, row, "count")) + " times";
    }
    std::span<const PanelFigure> panel(const Trail&, std::uint64_t) const override {
        static constexpr PanelFigure kAll[] = {
            {"mean_ma", "mean, mA"}, {"charge_uc", "charge, µC"}, {"greatest_uc", "greatest, µC"}, {"share", "share"}};
        return kAll;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (const std::size_t v : currents(trail)) {
            const std::string of = ": " + trail.tasks.values[v].name;
            for (std::size_t t = 0; t < trail.tasks.tasks.size(); ++t)
                all.push_back({trail.tasks.tasks[t].name + of, "", activity(v, {Owner::task, trail.tasks.tasks[t].core, t})});
            for (std::size_t c = 0; c < trail.cores.size(); ++c)
                for (std::size_t l = 0; l < trail.cores[c].lanes.size(); ++l)
                    all.push_back({trail.cores[c].lanes[l].name() + of, "", activity(v, {Owner::interrupt, c, l})});
        }
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kChargeInstances; }
    void each_instance(const Trail& trail, std::uint64_t activity, const EachRow& each) const override {
        std::uint64_t n = 0;
        for (const Drawn& d : drawn(trail, activity)) {
            const std::array<Cell, std::size(kChargeInstances)> row = {
                n++, d.begin, d.end, d.ran, d.charge * 1e6, mean_of(d.charge, d.ran)};
            if (!each(row)) return;
        }
    }

    // It has no lanes of its own: its spans are those of what ran.
    std::vector<std::uint64_t> lanes(const Trail&) const override { return {}; }
    std::unique_ptr<const Lane> lane(const Trail&, std::uint64_t) const override { return nullptr; }
    bool lanes_are_activities() const override { return false; }
    LaneId lane_of(const Trail& trail, std::uint64_t activity) const override {
        if (activity == kNoActivity) return {};
        const LaneId ran = who_ran(activity);
        return ran.kind->lane_of(trail, ran.index);
    }
    std::optional<SpanRef> next(const Trail& trail, const SpanRef& from, int direction) const override {
        return from.lane.kind->next(trail, from, direction);
    }
    std::optional<SpanRef> first_from(const Trail& trail, std::uint64_t activity, Time t, bool around) const override {
        const LaneId ran = who_ran(activity);
        return ran.kind->first_from(trail, ran.index, t, around);
    }
    std::optional<SpanRef> worst(const Trail& trail, std::uint64_t activity) const override {
        const auto all = drawn(trail, activity);
        const auto most = std::max_element(all.begin(), all.end(),
                                           [](const Drawn& a, const Drawn& b) { return a.charge < b.charge; });
        return most == all.end() ? std::nullopt : std::optional(most->span);
    }

  private:
    static std::uint64_t activity(std::size_t value, const Owner& o) {
        return std::uint64_t{value} << kValueAt | std::uint64_t{o.sort} << kSortAt | std::uint64_t{o.core} << kCoreAt |
               o.index;
    }
    static Owner owner_of(std::uint64_t activity) {
        return {static_cast<Owner::Sort>(activity >> kSortAt & 3), activity >> kCoreAt & 0x3FFF,
                activity & 0xFFFF'FFFF};
    }
    static LaneId who_ran(std::uint64_t activity) { return mt::activity_of(owner_of(activity)); }
    static std::vector<Drawn> drawn(const Trail& trail, std::uint64_t activity) {
        const std::size_t v = activity >> kValueAt;
        if (activity == kNoActivity || v >= trail.tasks.values.size()) return {};
        ChargeRow row;
        row.owner = owner_of(activity);
        const Owner& o = row.owner;
        if (o.sort == Owner::task ? o.index >= trail.tasks.tasks.size()
                                  : o.core >= trail.cores.size() || o.index >= trail.cores[o.core].lanes.size())
            return {};
        return drawn_by(trail, trail.tasks.values[v], row);
    }
};

}  // namespace

const LaneKind& charge_kind() {
    static const Charge kind;
    return kind;
}

}  // namespace mt
