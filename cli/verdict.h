// Whether a recording is bad: its findings, as people or recipes say.
#pragma once

#include <string>
#include <vector>

#include "judge/finding.h"

namespace mt::cli {

/// kBad if there are findings of these kinds ("any": of whatever kind), which are said on standard error.
int verdict(const std::vector<Finding>& findings, const std::vector<std::string>& kinds);

}  // namespace mt::cli
