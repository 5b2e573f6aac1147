// Recipes, commands and journals from anywhere: text that must be refused in words, or read.
#include <string_view>

#include "capture/recipe.h"
#include "capture/ring.h"
#include "control/hand_command.h"
#include "judge/fault_values.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    const std::string_view text(reinterpret_cast<const char*>(data), size);
    const auto recipe = mt::parse_recipe(text, "/nowhere/fuzz.recipe.toml");
    if (recipe) {
        // What was accepted is written so that it is accepted again.
        const auto again =
            mt::parse_recipe(mt::recipe_text(*recipe, "/nowhere/fuzz.recipe.toml"), "/nowhere/fuzz.recipe.toml");
        if (!again) __builtin_trap();
    }
    (void)mt::parse_hand_command(std::string(text));
    (void)mt::accessed_by(std::string(text));
    (void)mt::parse_ring_header({data, size}, 0);
    return 0;
}
