#include <algorithm>

#include "measure/kinds/kinds.h"
#include "measure/kinds/uses.h"

namespace mt {
namespace {

std::string name_of(const Trail& trail, std::size_t core) { return "masked on " + trail.cores[core].name; }

class CriticalSections final : public ActivityKind {
  public:
    std::string_view id() const override { return "critical"; }
    std::string_view one() const override { return "a critical section"; }
    std::span<const FigureInfo> figures() const override { return kUseFigures; }
    bool told(const Trail& trail) const override {
        return std::any_of(trail.tasks.cores.begin(), trail.tasks.cores.end(),
                           [](const CoreTasks& c) { return c.critical.size() > 0; });
    }
    std::string_view advice() const override {
        return "they are stretches with interrupts masked, as an operating system's events tell them";
    }
    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
        for (std::size_t c = 0; c < of.trail.tasks.cores.size(); ++c)
            if (of.trail.tasks.cores[c].critical.size() > 0)
                all.push_back(use_row(of.trail, name_of(of.trail, c), {}, of.trail.tasks.cores[c].critical));
        return all;
    }
    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t c = 0; c < trail.tasks.cores.size(); ++c)
            if (trail.tasks.cores[c].critical.size() > 0) all.push_back({name_of(trail, c), "", c});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kUseInstances; }
    void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const override {
        each_use(trail, trail.tasks.cores[index].critical, each);
    }
};

}  // namespace

const ActivityKind& critical_kind() {
    static const CriticalSections kind;
    return kind;
}

}  // namespace mt
