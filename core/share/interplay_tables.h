// Who acts on whom as CSV, JSON and text (docs/formats/tables.md).
#pragma once

#include <iosfwd>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "interplay/interplay.h"

namespace mt {

/// `interplay --csv`: a row for each edge.
void write_interplay_csv(const Interplay& of, std::ostream& out);
/// Nodes and edges; what is not known is null.
nlohmann::ordered_json interplay_json(const Interplay& of);
/// For people.
std::string interplay_text(const Interplay& of);

/// The edges from and to everything of this name. `known`, if not null, gets the names that there are.
std::vector<std::size_t> edges_of(const Interplay& of, const std::string& name,
                                  std::vector<std::string>* known = nullptr);
/// `interplay --of --csv`: a row for each call behind these edges, in order of time.
void write_history_csv(const Trail& trail, const Interplay& of, const std::vector<std::size_t>& edges,
                       std::ostream& out);
/// The same for people.
std::string history_text(const Trail& trail, const Interplay& of, const std::vector<std::size_t>& edges);

}  // namespace mt
