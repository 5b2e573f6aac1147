// Breakpoints and watchpoints that are kept with a project, as the commands that set them. docs/formats/points.md.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/problem.h"

namespace mt {

struct KeptPoint {
    std::string core;     ///< as the target file names it
    std::string command;  ///< "break guide_task count 5", as parse_hand_command takes it
    bool operator==(const KeptPoint&) const = default;
};

/// A Problem names file and line. Commands that set no point are one, too.
Result<std::vector<KeptPoint>> parse_points(std::string_view text, const std::string& path);
/// An absent file keeps none.
Result<std::vector<KeptPoint>> read_points(const std::string& path);
/// Replaces the file in one step. A Problem if it cannot be written.
Result<void> write_points(const std::vector<KeptPoint>& points, const std::string& path);

}  // namespace mt
