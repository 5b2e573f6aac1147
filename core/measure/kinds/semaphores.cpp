#include "measure/kinds/kinds.h"

namespace mt {
namespace {

constexpr FigureInfo kFigures[] = {
    {"name", "semaphore", "semaphore"},
    {"number", "no", "its number in the operating system"},
    {"given", "given", "times that it was given"},
    {"taken", "taken", "times that it was taken"},
};
constexpr std::string_view kColumns[] = {"name", "number", "given", "taken"};

class Semaphores final : public ActivityKind {
  public:
    std::string_view id() const override { return "semaphores"; }
    std::string_view one() const override { return "a semaphore"; }
    std::span<const FigureInfo> figures() const override { return kFigures; }
    std::span<const std::string_view> columns() const override { return kColumns; }
    bool told(const Trail& trail) const override { return !trail.tasks.semaphores.empty(); }
    std::string_view advice() const override {
        return "they come from an operating system's events: record them, or give a ctf stream";
    }
    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
        for (const SemaphoreLane& s : of.trail.tasks.semaphores)
            all.push_back({s.name, std::uint64_t{s.id}, s.gives, s.takes});
        return all;
    }
    // Only how often is kept, not when.
    std::vector<Name> names(const Trail&) const override { return {}; }
    std::span<const std::string_view> instance_columns() const override { return {}; }
    void each_instance(const Trail&, std::size_t, const EachRow&) const override {}
};

}  // namespace

const ActivityKind& semaphores_kind() {
    static const Semaphores kind;
    return kind;
}

}  // namespace mt
