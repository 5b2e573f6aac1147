// Figures and instances of any kind of activity as CSV, JSON and text (docs/formats/tables.md).
#pragma once

#include <iosfwd>
#include <string>

#include <nlohmann/json.hpp>

#include "base/progress.h"
#include "measure/lane_kind.h"

namespace mt {

/// `stats --csv`: the kind's columns, a row for each activity. Unknown cells are empty.
void write_stats_csv(const LaneKind& kind, const Measured& of, std::ostream& out);
/// `stats --json`: all figures, those that are not known as null.
nlohmann::ordered_json stats_json(const LaneKind& kind, const Measured& of);
/// For people: the figures that have headings.
std::string stats_text(const LaneKind& kind, const Measured& of);

/// `instances --csv` of one of the kind's activities. Stops early if cancelled.
void write_instances_csv(const LaneKind& kind, const Trail& trail, std::uint64_t index, std::ostream& out,
                         const Progress* progress = nullptr);

/// What `instances --of` means.
struct NamedActivity {
    const LaneKind* kind = nullptr;
    std::uint64_t index = 0;
};
/// The first activity of this name or number, in the order of the kinds; nothing if there is none. `known`, if not
/// null, gets the names that there are.
std::optional<NamedActivity> find_activity(const Trail& trail, const std::string& name,
                                           std::vector<std::string>* known = nullptr);

}  // namespace mt
