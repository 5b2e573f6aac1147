// Looks at TOML text before the parser does.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include <toml++/toml.h>

#include "base/problem.h"

namespace mt {

/// A Problem if a character beyond ASCII stands outside quotes and comments, or a quote in the middle of a value:
/// TOML 1.0 allows neither, and the parser in use (toml++ 3.3) has undefined behaviour on some such texts.
std::optional<Problem> check_toml_text(std::string_view text, const std::string& path);
/// The table that the text is. A Problem names file and line.
Result<toml::table> parse_toml(std::string_view text, const std::string& path);

}  // namespace mt
