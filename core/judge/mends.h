// What a finding about a setting offers to set right.
#pragma once

#include <vector>

#include "judge/finding.h"
#include "recording/recording.h"
#include "target/target_edit.h"

namespace mt {

/// Changes of the target file that would answer the finding: another clock for a tick that is odd, another image for
/// samples outside of it. None for findings about the firmware.
std::vector<Mend> mends_of(const Finding& finding, const Recording& recording);

}  // namespace mt
