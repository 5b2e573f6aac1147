#include <array>

#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kSemaphoreFigures[] = {
    {"name", "semaphore", "semaphore"},
    {"number", "no", "its number in the operating system"},
    {"given", "given", "times that it was given"},
    {"taken", "taken", "times that it was taken"},
};
constexpr std::string_view kSemaphoreColumns[] = {"name", "number", "given", "taken"};

constexpr std::string_view kSemaphoreInstances[] = {"index", "time_ns", "what", "who"};

class SemaphoreTicks final : public PlainLane {
  public:
    SemaphoreTicks(const Trail& trail, const SemaphoreLane& lane)
        : PlainLane(trail, {lane.name, "semaphore", 0, Shape::ticks, Ink::waiting}), lane_(lane) {}
    std::size_t size(std::size_t) const override { return lane_.uses.size(); }
    Span span(std::size_t, std::size_t i) const override { return {lane_.uses[i].time, lane_.uses[i].time, {}, {}}; }
    Range touching(std::size_t, Time from, Time to) const override {
        return {lane_.uses.partition_point([from](const SemaphoreUse& u) { return u.time < from; }),
                lane_.uses.partition_point([to](const SemaphoreUse& u) { return !(to < u.time); })};
    }
    std::string label(std::size_t, std::size_t i) const override { return lane_.uses[i].given ? "given" : "taken"; }
    Told told(Time t, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return nothing_at(t, "neither given nor taken");
        const SemaphoreUse& u = lane_.uses[span->second];
        return {lane_.name,
                {label(0, span->second) + " by " + trail_.tasks.actor_name(u.who) + ", " + moment_text(u.time)}};
    }

  private:
    const SemaphoreLane& lane_;
};

class Semaphores final : public LaneKind {
  public:
    std::string_view id() const override { return "semaphores"; }
    int order() const override { return 60; }
    int rank() const override { return kAcrossCores + 30; }
    std::string_view one() const override { return "a semaphore"; }
    std::span<const FigureInfo> figures() const override { return kSemaphoreFigures; }
    std::span<const std::string_view> columns() const override { return kSemaphoreColumns; }
    bool told(const Trail& trail) const override { return !trail.tasks.semaphores.empty(); }
    std::string_view advice() const override {
        return "they come from an operating system's events: record them, or give a ctf stream";
    }
    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (std::size_t i = 0; i < of.trail.tasks.semaphores.size(); ++i) {
            const SemaphoreLane& s = of.trail.tasks.semaphores[i];
            all.push_back({i, {s.name, std::uint64_t{s.id}, s.gives, s.takes}});
        }
        return all;
    }
    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.semaphores.size(); ++i)
            all.push_back({trail.tasks.semaphores[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kSemaphoreInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const auto& uses = trail.tasks.semaphores[index].uses;
        for (std::size_t i = 0; i < uses.size(); ++i) {
            const std::array<Cell, std::size(kSemaphoreInstances)> row = {
                std::uint64_t{i}, uses[i].time, uses[i].given ? "given" : "taken", trail.tasks.actor_name(uses[i].who)};
            if (!each(row)) return;
        }
    }
    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (std::size_t i = 0; i < trail.tasks.semaphores.size(); ++i)
            if (!trail.tasks.semaphores[i].uses.empty()) all.push_back(i);
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.tasks.semaphores.size()) return nullptr;
        return std::make_unique<SemaphoreTicks>(trail, trail.tasks.semaphores[index]);
    }
    std::span<const PanelFigure> panel(const Trail&, std::uint64_t) const override {
        static constexpr PanelFigure kAll[] = {{"given", "given"}, {"taken", "taken"}};
        return kAll;
    }
};

}  // namespace

const LaneKind& semaphores_kind() {
    static const Semaphores kind;
    return kind;
}

}  // namespace mt
