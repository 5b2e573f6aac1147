// Packets of an event trace that come through a stimulus port of an ITM stream (Armv7-M, DDI 0403E, D4.2.4).
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "base/problem.h"
#include "trail/recording.h"

namespace mt {

/// What was written to one port, byte after byte, least significant first.
struct PortBytes {
    std::string path;  ///< a file of its own, in the folder for temporary files
    std::uint64_t bytes = 0;
    std::vector<std::uint64_t> breaks;                  ///< offsets at which bytes may be missing
    std::vector<std::pair<std::uint64_t, Time>> times;  ///< of the first bytes: offset behind a write, and its time
    /// When the byte before `offset` was written, as far as that is kept.
    Time written_by(std::uint64_t offset) const;
};

/// Takes the whole stream apart: about a second for some hundred MB. The caller removes the file.
Result<PortBytes> port_bytes(const Recording& recording, const Recording::Stream& stream, unsigned port);

}  // namespace mt
