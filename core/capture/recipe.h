// A recipe: how a recording is made, so that it can be made again. docs/formats/recipe.md.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/problem.h"
#include "capture/recipe_trace.h"
#include "capture/source.h"
#include "control/units/wish.h"
#include "target/target_file.h"

namespace mt {

/// Plain data; any thread may use it once it is read.
struct Recipe {
    struct Connect {
        unsigned thread = 0;   ///< of a server of several cores: which of its threads this one is, from 1; 0: not stated
        std::string core;      ///< of the target file
        std::string protocol;  ///< which of the core's streams comes here, as in the target file; empty: the first
        std::string device;    ///< of samples: the name of the device, where there are several; they need no core
        std::string debug;     ///< HOST:PORT of its debug server; empty if there is none
        std::optional<SourceSpec> trace;
        unsigned line = 0;  ///< where the table stands
    };
    struct Place {
        std::string core;   ///< empty: the first with a debug server
        std::string where;  ///< function, "main.c:41" or "0x…"
        std::uint64_t times = 1;
    };
    struct Watch {
        std::string core, symbol;
        bool on_read = false, on_write = true;
    };
    struct Mark {
        unsigned port = 0;
        std::uint32_t value = 0;
    };
    /// A value that is read again and again while the target runs.
    struct Sample {
        std::string core, expression;  ///< core: empty: the first with a debug server
        double rate_hz = 10;
        unsigned line = 0;
    };
    enum class Keep : std::uint8_t { oldest, newest };
    enum class Leave : std::uint8_t { running, halted };

    std::string path, name, target, save = "{name}-{n}.mtrail";
    unsigned patience_ms = 3000;  ///< for every answer of a debug server
    std::vector<Connect> connects;
    std::vector<TraceWish> traces;  ///< at most one for a core
    std::vector<Sample> samples;
    std::vector<RecipeParameter> parameters;

    bool check_image = false, reset = false;
    std::string reset_command;
    std::optional<Place> run_to;
    double run_to_limit_s = 30;

    std::optional<double> seconds;
    std::optional<std::uint64_t> bytes;  ///< of all streams together
    std::optional<Place> until;
    std::optional<Watch> watch;
    std::optional<Mark> mark;
    Keep keep = Keep::oldest;
    std::uint64_t limit_bytes = 0;  ///< of each stream; 0: none (keep = "newest" needs one)
    /// Memory that is kept with the recording where a core stands as it begins and ends, as memory_range() reads it;
    /// nothing: what is near and what the program may write.
    std::optional<std::vector<std::string>> memory;

    Leave leave = Leave::running;
    bool keep_trace = false;                              ///< what was set up for the trace stays so
    std::string events_csv, measures_csv, findings_json;  ///< files to write afterwards; empty: none
    bool replace_files = false;                           ///< … in place of those that are there
    std::vector<std::string> bad_if;                      ///< kinds of finding that make the verdict bad
    std::string rules;                                    ///< a rules file to hold it against; empty: none
    bool judges() const { return !findings_json.empty() || !bad_if.empty() || !rules.empty(); }

    std::vector<std::string> warnings;
};

/// Index of the target's stream that a connection brings in; nothing if it has none such.
std::optional<std::size_t> stream_of(const TargetFile& target, const Recipe::Connect& connect);

/// What a recipe is read for: to record, or only to reach the target, which needs no trace.
enum class RecipeUse : std::uint8_t { record, reach };
/// `given`: NAME=VALUE for its parameters.
Result<Recipe> read_recipe(const std::string& path, const std::vector<std::string>& given = {},
                           RecipeUse use = RecipeUse::record);
/// The same from text; `path` is used in messages and for relative paths.
Result<Recipe> parse_recipe(std::string_view text, const std::string& path, const std::vector<std::string>& given = {},
                            RecipeUse use = RecipeUse::record);
/// What a core's [trace] asks for; null if there is none.
const TraceWish* wish_for(const Recipe& recipe, const std::string& core);
/// The text of a recipe, with paths relative to the folder of `path` where they lie below it.
std::string recipe_text(const Recipe& recipe, const std::string& path);

/// The folder that a recipe saves to, after its pattern: {name}, {date}, {time}, {n} (the first number that
/// is free). Relative to the recipe's folder.
std::string save_path(const Recipe& recipe);

}  // namespace mt
