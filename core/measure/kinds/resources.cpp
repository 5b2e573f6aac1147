#include "measure/kinds/kinds.h"
#include "measure/kinds/uses.h"

namespace mt {
namespace {

class Resources final : public UseLanes {
  public:
    std::string_view id() const override { return "resources"; }
    int order() const override { return 70; }
    int rank() const override { return kAcrossCores + 40; }
    std::string_view one() const override { return "a resource"; }
    std::string_view advice() const override {
        return "they come from marks around their use: see docs/formats/os-events.md";
    }

  protected:
    const std::vector<ResourceLane>& list(const Trail& trail) const override { return trail.tasks.resources; }
    std::string note() const override { return "resource"; }
    Cell number(const ResourceLane& r) const override { return std::uint64_t{r.id}; }
};

}  // namespace

const LaneKind& resources_kind() {
    static const Resources kind;
    return kind;
}

}  // namespace mt
