#include "measure/kinds/kinds.h"
#include "measure/kinds/uses.h"

namespace mt {
namespace {

class Resources final : public ActivityKind {
  public:
    std::string_view id() const override { return "resources"; }
    std::string_view one() const override { return "a resource"; }
    std::span<const FigureInfo> figures() const override { return kUseFigures; }
    bool told(const Trail& trail) const override { return !trail.tasks.resources.empty(); }
    std::string_view advice() const override {
        return "they come from marks around their use: see docs/formats/os-events.md";
    }
    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
        for (const ResourceLane& r : of.trail.tasks.resources)
            all.push_back(use_row(of.trail, r.name, std::uint64_t{r.id}, r.uses));
        return all;
    }
    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.resources.size(); ++i)
            all.push_back({trail.tasks.resources[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kUseInstances; }
    void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const override {
        each_use(trail, trail.tasks.resources[index].uses, each);
    }
};

}  // namespace

const ActivityKind& resources_kind() {
    static const Resources kind;
    return kind;
}

}  // namespace mt
