// Where the sources of a recording's images may lie.
#pragma once

#include "recording/recording.h"
#include "target/source_map.h"

namespace mt {

/// As the project says, beside the target file and the image, and where the image was compiled.
SourcePaths source_places(const Recording& recording, std::size_t core);

}  // namespace mt
