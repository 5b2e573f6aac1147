#include <algorithm>
#include <array>

#include "base/text.h"
#include "measure/kinds/kinds.h"

namespace mt {
namespace {

constexpr FigureInfo kFigures[] = {
    {"name", "fault", "sort of fault, as the operating system tells it"},
    {"count", "count", "how often it was told"},
    {"first_ns", "first at", "when it was told first"},
    {"last_ns", "last at", "when it was told last"},
};
constexpr std::string_view kColumns[] = {"name", "count", "first_ns", "last_ns"};
constexpr std::string_view kInstances[] = {"index", "time_ns", "core", "task", "pc", "address", "offset"};

std::vector<std::string> sorts(const Trail& trail) {
    std::vector<std::string> all;
    for (const TaskFault& f : trail.tasks.faults)
        if (std::find(all.begin(), all.end(), f.what.kind) == all.end()) all.push_back(f.what.kind);
    return all;
}

class Faults final : public ActivityKind {
  public:
    std::string_view id() const override { return "faults"; }
    std::string_view one() const override { return "a fault"; }
    std::span<const FigureInfo> figures() const override { return kFigures; }
    std::span<const std::string_view> columns() const override { return kColumns; }
    bool told(const Trail& trail) const override { return !trail.tasks.faults.empty(); }
    std::string_view advice() const override {
        return "they are fault events of an operating system; fault exceptions are among the interrupts";
    }
    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
        for (const std::string& sort : sorts(of.trail)) {
            std::uint64_t count = 0;
            std::optional<Time> first, last;
            for (const TaskFault& f : of.trail.tasks.faults) {
                if (f.what.kind != sort) continue;
                ++count;
                if (!first) first = f.time;
                last = f.time;
            }
            all.push_back({sort, count, first, last});
        }
        return all;
    }
    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (const std::string& sort : sorts(trail)) all.push_back({sort, "", all.size()});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kInstances; }
    void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const override {
        const std::string sort = sorts(trail).at(index);
        std::uint64_t n = 0;
        for (const TaskFault& f : trail.tasks.faults) {
            if (f.what.kind != sort) continue;
            const std::array<Cell, std::size(kInstances)> row = {
                n++,
                f.time,
                f.core < trail.cores.size() ? trail.cores[f.core].name : std::string(),
                trail.tasks.task_name(f.task),
                hex_text(f.what.pc, 8),
                hex_text(f.what.address, 8),
                f.offset};
            if (!each(row)) return;
        }
    }
};

}  // namespace

const ActivityKind& faults_kind() {
    static const Faults kind;
    return kind;
}

}  // namespace mt
