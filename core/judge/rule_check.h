// Rules held against a recording: which are kept, which are broken and where, and which the recording leaves open.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "judge/rule_instances.h"
#include "judge/rules_file.h"
#include "recording/recording.h"

namespace mt {

enum class Verdict : std::uint8_t { kept, broken, undecided };
std::string_view verdict_name(Verdict verdict);

/// A place where a rule is broken, or where it cannot be said. `value` as in RuleInstance.
struct RulePlace {
    Time begin, end;
    double value = 0;
    double margin = 0;  ///< to the limit, in the value's unit; below 0: beyond it
    bool undecided = false;
    std::optional<SpanRef> span = {};
};

/// A limit for all instances together.
struct RuleStatistic {
    std::string name;  ///< "mean", "median", "P95", "P99"
    double value = 0, limit = 0;
    bool kept = true;
};

struct RuleOutcome {
    static constexpr std::size_t kMostPlaces = 1000;

    Rule rule;
    Verdict verdict = Verdict::undecided;
    std::uint64_t checked = 0;     ///< instances held against the limit
    std::uint64_t violations = 0;  ///< … beyond it; undecided ones are none
    std::uint64_t undecided = 0;   ///< whose bounds have the limit between them
    std::uint64_t excluded = 0, unpaired = 0;
    std::optional<RulePlace> worst;         ///< the least margin, the first of those that are alike
    std::vector<RulePlace> places;          ///< violations, the worst first; at most kMostPlaces
    std::vector<RuleStatistic> statistics;  ///< of limits for all together
    std::optional<double> least, greatest;  ///< of all that was checked
    std::string reason;                     ///< why nothing could be checked, or what is open
};

/// One rule. A Problem, with the file's line, if it names what the recording has not (and is not optional). Blocks: for
/// a worker; cancelled, what comes out is of no use.
Result<RuleOutcome> judge_rule(const Recording& recording, const Trail& trail, const RulesFile& file, const Rule& rule,
                               const Progress* progress = nullptr);
/// All of a file, in its order; the first Problem ends it.
Result<std::vector<RuleOutcome>> judge_rules(const Recording& recording, const Trail& trail, const RulesFile& file,
                                             const Progress* progress = nullptr);

/// How long a cycle of the core of a rule's activity is, in picoseconds; 0: not known, or no activity has the name.
double cycle_of(const Trail& trail, const Rule& rule);

/// A value with its unit, for people: "2.10 ms", "80.9 %", "5".
std::string rule_value_text(RuleWhat what, double value);

}  // namespace mt
