#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"
#include "measure/kinds/uses.h"

namespace mt {
namespace {

class Resources final : public LaneKind {
  public:
    std::string_view id() const override { return "resources"; }
    int order() const override { return 70; }
    int rank() const override { return kAcrossCores + 40; }
    std::string_view one() const override { return "a resource"; }
    std::span<const FigureInfo> figures() const override { return kUseFigures; }
    bool told(const Trail& trail) const override { return !trail.tasks.resources.empty(); }
    std::string_view advice() const override {
        return "they come from marks around their use: see docs/formats/os-events.md";
    }
    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (std::size_t i = 0; i < of.trail.tasks.resources.size(); ++i) {
            const ResourceLane& r = of.trail.tasks.resources[i];
            all.push_back({i, use_row(of.trail, r.name, std::uint64_t{r.id}, r.uses)});
        }
        return all;
    }
    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (std::size_t i = 0; i < trail.tasks.resources.size(); ++i)
            if (!trail.tasks.resources[i].uses.empty()) all.push_back(i);
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.tasks.resources.size()) return nullptr;
        const ResourceLane& r = trail.tasks.resources[index];
        return std::make_unique<UseBars>(trail, PlainLane::Look{r.name, "resource", 0, Shape::bars, Ink::waiting},
                                         r.uses, r.longest, false);
    }
    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.resources.size(); ++i)
            all.push_back({trail.tasks.resources[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kUseInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        each_use(trail, trail.tasks.resources[index].uses, each);
    }
};

}  // namespace

const LaneKind& resources_kind() {
    static const Resources kind;
    return kind;
}

}  // namespace mt
