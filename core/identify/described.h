// Captures that somebody has described already.
#pragma once

#include <string>
#include <vector>

namespace mt {

/// The target files in the capture's folder, and in the one above, that name it as a stream; in alphabetical order,
/// those of its own folder first. Blocks while they are read; looks at a hundred at most.
std::vector<std::string> targets_of_capture(const std::string& path);

}  // namespace mt
