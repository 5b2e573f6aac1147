// Which code only one of two recordings ran, core by core.
#pragma once

#include <string>
#include <vector>

#include "measure/cover_difference.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// Of a core of which both have instructions.
struct CodeBoth {
    std::size_t stream = 0;  ///< of the recording after
    std::string core;
    std::shared_ptr<const Code> code;
    CoverDifference difference;
};

/// Blocks: it looks at every instruction of both. REQUIRES: both have been decoded to their end.
std::vector<CodeBoth> code_of_both(const Trail& before, const Recording& recording_after, const Trail& after);

}  // namespace mt
