// Figures and instances of any kind of activity as CSV, JSON and text (docs/formats/tables.md).
#pragma once

#include <iosfwd>
#include <string>

#include <nlohmann/json.hpp>

#include "base/problem.h"
#include "base/progress.h"
#include "measure/lane_kind.h"

namespace mt {

/// Which rows, and in which order. By default all, as the kind has them.
struct RowChoice {
    std::string sort;     ///< key of a figure: the greatest number, or the first word, on top; what is not known last
    std::string core;     ///< only what belongs to this core
    std::size_t top = 0;  ///< only so many; 0: all
};
/// A Problem if the kind has no such figure, or figures of no core.
Result<void> check_choice(const LaneKind& kind, const RowChoice& choice);
/// REQUIRES: check_choice found nothing wrong.
std::vector<MeasuredRow> chosen_rows(const LaneKind& kind, const Measured& of, const RowChoice& choice);

/// `stats --csv`: the kind's columns, a row for each activity. Unknown cells are empty.
void write_stats_csv(const LaneKind& kind, const Measured& of, std::ostream& out, const RowChoice& choice = {});
/// `stats --json`: all figures, those that are not known as null.
nlohmann::ordered_json stats_json(const LaneKind& kind, const Measured& of, const RowChoice& choice = {});
/// For people: the figures that have headings.
std::string stats_text(const LaneKind& kind, const Measured& of, const RowChoice& choice = {});

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
