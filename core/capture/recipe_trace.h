// [trace] and [parameters] of a recipe: what to trace, and what can be asked for anew each time.
// docs/formats/recipe.md.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/problem.h"
#include "control/units/wish.h"
#include "target/toml_table.h"

namespace mt {

/// A value that a recipe leaves open: {seconds} stands for it.
struct RecipeParameter {
    std::string name;
    std::string value;                ///< as TOML: 5, "guide_task"
    std::string stated;               ///< what the recipe says, the same way
    std::vector<std::string> places;  ///< values that it stands for alone: "record.seconds", "before.run_to.place"
};

TraceWish read_trace_wish(TomlTable& t, const std::string& path, std::optional<Problem>& problem,
                          std::vector<std::string>& warnings);
/// The same from the text of a [trace] table, with its heading.
Result<TraceWish> parse_trace_wish(std::string_view text);
/// As a [trace] table, or [[trace]] if there are `several`.
std::string trace_wish_text(const TraceWish& wish, bool several);

/// Puts the parameters' values where their names stand in braces; `given` are NAME=VALUE from outside. A text that is a
/// name in braces and nothing else becomes the value with its type; a parameter that is named like a key of [record]
/// and used nowhere gives that key. A Problem if `given` names none that there is, or is of another type.
Result<std::vector<RecipeParameter>> put_parameters(toml::table& root, const std::vector<std::string>& given,
                                                    const std::string& path);

/// The text of a recipe with the parameters' names where they stood, and their table. REQUIRES: as `recipe_text`
/// writes.
std::string with_parameters(const std::string& text, const std::vector<RecipeParameter>& parameters);

/// Wishes in plain words to start from, by name: "who interrupts whom" and others.
struct TracePreset {
    const char* name;
    const char* meaning;
    TraceWish wish;
};
const std::vector<TracePreset>& trace_presets();

}  // namespace mt
