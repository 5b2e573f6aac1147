// A past state as JSON and as text.
#pragma once

#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "replay/past_state.h"
#include "target/data_place.h"

namespace mt {

/// A variable as its bytes stood then.
struct StateVariable {
    std::string name;
    DataPlace place;
    Known bits;                       ///< of what is no longer than 8 bytes; little-endian
    std::vector<Known> bytes;         ///< of what is longer, or no single value
    std::string text;                 ///< of a value that is known: "-3", "TRACK"
};
/// A Problem as find_data gives it, or if it is larger than 64 KiB.
Result<StateVariable> variable_in(const CoreSpec& core, const std::string& expression, const PastMemory& memory);

/// `state --json`: what is not known has no value.
nlohmann::ordered_json state_json(const PastState& state, const std::vector<StateVariable>& variables);
/// For people: registers in four columns, variables a line each.
std::string state_text(const PastState& state, const std::vector<StateVariable>& variables);

}  // namespace mt
