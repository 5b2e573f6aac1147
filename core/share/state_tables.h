// A past state as JSON and as text.
#pragma once

#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "replay/past_state.h"
#include "target/data_place.h"
#include "target/locals.h"

namespace mt {

/// A variable as its bytes stood then.
struct StateVariable {
    std::string name;
    DataPlace place;
    Known bits;                       ///< of what is no longer than 8 bytes; little-endian
    std::vector<Known> bytes;         ///< of what is longer, or no single value
    std::string text;                 ///< of a value that is known: "-3", "TRACK"
    std::string held_in;              ///< of a variable that has no address: "register", "several" places, "nothing"
};
/// A Problem as find_data gives it, or if it is larger than 64 KiB.
Result<StateVariable> variable_in(const CoreSpec& core, const std::string& expression, const PastMemory& memory);

/// The same of a variable of a function.
StateVariable variable_of(const LocalValue& local);

/// `state --json`: what is not known has no value. `frames`: as `locals`, where they were asked for.
nlohmann::ordered_json state_json(const PastState& state, const std::vector<StateVariable>& variables,
                                  const std::vector<LocalFrame>* frames = nullptr);
/// For people: registers in four columns, variables a line each, then functions with theirs.
std::string state_text(const PastState& state, const std::vector<StateVariable>& variables,
                       const std::vector<LocalFrame>* frames = nullptr);

}  // namespace mt
