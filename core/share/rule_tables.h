// Verdicts of rules as JSON, CSV, text and JUnit XML.
#pragma once

#include <iosfwd>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "judge/rule_check.h"

namespace mt {

/// The rules of one recording.
struct JudgedInput {
    std::string input;
    std::vector<RuleOutcome> outcomes;
};

/// `judge --json`: an entry for each rule of each recording; times in ns, shares in percent, at most 100 places each.
nlohmann::ordered_json judged_json(const std::vector<JudgedInput>& all);
/// `judge --csv`: a row for each rule of each recording.
void write_judged_csv(const std::vector<JudgedInput>& all, std::ostream& out);
/// For people: broken ones first as they stand, with the worst and where.
std::string judged_text(const std::vector<JudgedInput>& all);
/// JUnit XML: a suite for each recording, a case for each rule, its figures as properties.
std::string judged_junit(const std::vector<JudgedInput>& all);

}  // namespace mt
