// A comparison of two recordings as JSON, CSV and text.
#pragma once

#include <iosfwd>
#include <string>

#include <nlohmann/json.hpp>

#include "compare/code_both.h"
#include "compare/compare.h"
#include "compare/fixed.h"

namespace mt {

/// `compare --json`: times in ns, loads in percent, rates per second.
nlohmann::ordered_json compare_json(const Comparison& c, const std::vector<Mended>& mended = {},
                                    const std::vector<CodeBoth>& code = {});
/// `compare --csv`: a row for each change, and for what appeared or vanished.
void write_compare_csv(const Comparison& c, std::ostream& out);
/// For people: causes with their effects below them.
std::string compare_text(const Comparison& c, const std::vector<Mended>& mended = {},
                         const std::vector<CodeBoth>& code = {});

/// "dome map is held for longer: hold mean 910 µs → 3.71 ms (+308 %)".
std::string change_text(const Change& c);
/// Which code of a core only one of both ran, at most 20 functions of it; lines.
std::string code_both_text(const CodeBoth& of);
/// A figure with its unit.
std::string compared_value_text(const Change& c, double value);
/// "+12 %", "new", "gone".
std::string relative_text(double relative);

}  // namespace mt
