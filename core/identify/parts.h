// Captures that were split over several files.
#pragma once

#include <string>
#include <vector>

namespace mt {

/// The files that a capture was split into, in order, of which `path` is one, by their names alone: swo.bin.000,
/// swo.bin.001, …; swo.part1.bin, swo.part2.bin, …; swo.bin.aa, swo.bin.ab, … as split(1) names them. Just `path` if it
/// is no part, if there is but one, or if the first or one in between is not there.
std::vector<std::string> parts_of_capture(const std::string& path);

}  // namespace mt
