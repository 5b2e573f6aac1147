// Findings that say the same of the same activities at other places, as one.
#pragma once

#include <span>
#include <string>
#include <vector>

#include "judge/finding.h"

namespace mt {

/// What a finding says, whatever the place and the numbers: its kind, its core, and who is involved in which role; of
/// lost trace also how it was lost.
/// Two findings with the same text say the same.
std::string subject_text(const Finding& finding);

/// Indices of findings that say the same, the worst first.
using FindingGroup = std::vector<std::size_t>;
/// All findings in groups; groups stand where their worst finding stood.
std::vector<FindingGroup> in_groups(std::span<const Finding> findings);

}  // namespace mt
