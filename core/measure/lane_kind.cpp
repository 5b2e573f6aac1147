#include "measure/activity_kind.h"

#include <algorithm>

#include "measure/kinds/kinds.h"

namespace mt {

Cell::Cell() = default;
Cell::Cell(const Cell&) = default;
Cell::Cell(Cell&&) noexcept = default;
Cell& Cell::operator=(const Cell&) = default;
Cell& Cell::operator=(Cell&&) noexcept = default;
Cell::~Cell() = default;

std::vector<const ActivityKind*>& ActivityKinds::all() {
    static std::vector<const ActivityKind*> kinds = {
        &interrupts_kind(), &tasks_kind(),     &functions_kind(), &locks_kind(),  &queues_kind(),
        &semaphores_kind(), &resources_kind(), &critical_kind(),  &values_kind(), &states_kind(),
        &marks_kind(),      &faults_kind(),    &gaps_kind()};
    return kinds;
}

const ActivityKind* ActivityKinds::find(std::string_view id) {
    const auto& kinds = all();
    const auto found = std::find_if(kinds.begin(), kinds.end(), [id](const auto* k) { return k->id() == id; });
    return found != kinds.end() ? *found : nullptr;
}

std::string ActivityKinds::ids_text() {
    std::string text;
    for (const ActivityKind* kind : all()) text += (text.empty() ? "" : ", ") + std::string(kind->id());
    return text;
}

void add_lengths(std::vector<Cell>& row, const Figures& f, bool spread) {
    for (const auto& t : {f.least, f.mean, f.greatest}) row.emplace_back(t);
    if (!spread) return;
    for (const auto& t : {f.deviation, f.p95, f.p99}) row.emplace_back(t);
}

Cell figures_cell(const Figures& f) {
    return Cell::of({{"count", f.count},
                     {"min", f.least},
                     {"mean", f.mean},
                     {"max", f.greatest},
                     {"stddev", f.deviation},
                     {"p95", f.p95},
                     {"p99", f.p99}});
}

}  // namespace mt
