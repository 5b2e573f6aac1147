// Timing requirements as a person writes them (docs/formats/rules-file.md): which activity, which quantity, which limit.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/problem.h"
#include "base/time.h"
#include "target/target_file.h"

namespace mt {

/// What a rule is about.
enum class RuleWhat : std::uint8_t {
    response,
    running,
    duration,
    own,
    period,
    jitter,
    latency,
    hold,
    wait,
    depth,
    load,
    rate,
    order,
    overlap,
    value,
    count,
    coverage
};
std::string_view rule_what_name(RuleWhat what);
/// How a quantity is counted: in picoseconds, percent, or as a plain number.
enum class RuleUnit : std::uint8_t { time, percent, plain };
RuleUnit unit_of(RuleWhat what);

/// A limit as it is written: "2 ms", "80 %", "480 cycles", 5.
struct RuleLimit {
    double value = 0;     ///< picoseconds, cycles, percent or a number
    bool cycles = false;  ///< of the clock of the core that the activity is on
    std::string text;     ///< as a person reads it
};

struct Rule {
    std::string name, of, with, core, note;
    RuleWhat what = RuleWhat::duration;
    std::optional<EventSpec> from, to, first, then;
    std::string per;
    std::optional<RuleLimit> min, max, mean_max, median_max, p95_max, p99_max, nominal;
    std::optional<Time> within;
    std::optional<std::uint64_t> mask;
    bool magnitude = false;  ///< abs = true
    bool optional = false;   ///< nothing is wrong where there is no such activity
    enum class Share : std::uint8_t { instructions, lines, branches } share = Share::instructions;
    unsigned line = 0;

    /// "at most 2 ms", "9.5 ms to 10.5 ms", "P99 at most 3 ms".
    std::string limit_text() const;
};

struct RulesFile {
    std::string path;
    std::vector<Rule> rules;
};

/// A Problem names file, line and key, what was found and what is allowed.
Result<RulesFile> read_rules(const std::string& path);
Result<RulesFile> parse_rules(std::string_view text, const std::string& path);
/// The rules as a file of the same format.
std::string rules_text(const std::vector<Rule>& rules);
/// One rule as a [[rule]] table, to be added to a file.
std::string rule_text(const Rule& rule);

/// A file's text with one rule more at its end; what was there stays as it is, comments too. An empty text begins a file.
/// A rule of a name that is taken gets a number behind it, which is told in `rule`. A Problem if the text was no rules
/// file, or would be none with this rule.
Result<std::string> text_with_rule(std::string_view text, const std::string& path, Rule& rule);

/// "2 ms" as a limit of this unit; nothing if it is none. `most_texts`: what is allowed, for messages.
std::optional<RuleLimit> parse_limit(std::string_view text, RuleUnit unit);

}  // namespace mt
