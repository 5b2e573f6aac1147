#include "measure/kinds/kinds.h"
#include "measure/kinds/uses.h"

namespace mt {
namespace {

// From one event to the first of another behind it.
class Stopwatches final : public UseLanes {
  public:
    std::string_view id() const override { return "stopwatches"; }
    int order() const override { return 72; }
    int rank() const override { return kAcrossCores + 55; }
    std::string_view one() const override { return "a stopwatch"; }
    std::string_view advice() const override {
        return "they are asked for by [[stopwatch]] in the target file, from one event to another";
    }

  protected:
    const std::vector<ResourceLane>& list(const Trail& trail) const override { return trail.tasks.stopwatches; }
    std::string note() const override { return "stopwatch"; }
    Ink ink() const override { return Ink::mark; }
};

}  // namespace

const LaneKind& stopwatches_kind() {
    static const Stopwatches kind;
    return kind;
}

}  // namespace mt
