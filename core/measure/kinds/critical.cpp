#include <algorithm>

#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"
#include "measure/kinds/uses.h"

namespace mt {
namespace {

std::string name_of(const Trail& trail, std::size_t core) { return "masked on " + trail.cores[core].name; }

class CriticalSections final : public LaneKind {
  public:
    std::string_view id() const override { return "critical"; }
    int order() const override { return 80; }
    int rank() const override { return 50; }
    std::string_view one() const override { return "a critical section"; }
    std::span<const FigureInfo> figures() const override { return kUseFigures; }
    bool told(const Trail& trail) const override {
        return std::any_of(trail.tasks.cores.begin(), trail.tasks.cores.end(),
                           [](const CoreTasks& c) { return c.critical.size() > 0; });
    }
    std::string_view advice() const override {
        return "they are stretches with interrupts masked, as an operating system's events tell them";
    }
    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (std::size_t c = 0; c < of.trail.tasks.cores.size(); ++c)
            if (of.trail.tasks.cores[c].critical.size() > 0)
                all.push_back({c, use_row(of.trail, name_of(of.trail, c), {}, of.trail.tasks.cores[c].critical)});
        return all;
    }
    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (const Name& name : names(trail)) all.push_back(name.index);
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.tasks.cores.size()) return nullptr;
        return std::make_unique<UseBars>(
            trail, PlainLane::Look{name_of(trail, index), "interrupts masked", index, Shape::bars, Ink::waiting},
            trail.tasks.cores[index].critical, Time{}, true);
    }
    std::vector<Phrase> moment(const Trail& trail, std::size_t core, Time t) const override {
        if (core >= trail.tasks.cores.size()) return {};
        const auto& c = trail.tasks.cores[core].critical;
        const std::size_t i = c.partition_point([t](const UseSpan& s) { return s.end < t; });
        if (i >= c.size() || c[i].begin > t || c[i].end <= t) return {};
        return {{{"interrupts masked", SpanRef{{this, core}, 0, i}}, {" for " + duration_text(t - c[i].begin)}}};
    }
    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t c = 0; c < trail.tasks.cores.size(); ++c)
            if (trail.tasks.cores[c].critical.size() > 0) all.push_back({name_of(trail, c), "", c});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kUseInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        each_use(trail, trail.tasks.cores[index].critical, each);
    }
};

}  // namespace

const LaneKind& critical_kind() {
    static const CriticalSections kind;
    return kind;
}

}  // namespace mt
