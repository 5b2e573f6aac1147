// Values over time as CSV (docs/formats/tables.md).
#pragma once

#include <iosfwd>
#include <optional>
#include <string>
#include <vector>

#include "base/problem.h"
#include "model/trail.h"

namespace mt {

struct ValuesWanted {
    std::vector<std::size_t> lanes;  ///< indices into the values of Trail::tasks; empty: all
    std::optional<Time> from, to;
};

/// The values of these names; of several cores all. A Problem says which there are.
Result<std::vector<std::size_t>> values_named(const Trail& trail, const std::vector<std::string>& names);

/// `time_ns,core,name,value,access,pc`, a row for each sample in the order of time; of equal times in the order of the
/// lanes. `access` is write, read or sample; `pc` the address of the instruction, empty where it is not known.
void write_values_csv(const Trail& trail, const ValuesWanted& wanted, std::ostream& out);

}  // namespace mt
