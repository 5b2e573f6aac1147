// Places in time that a person named, kept with the recording. docs/formats/waymarks.md.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/problem.h"
#include "model/waymark.h"

namespace mt {

inline constexpr std::size_t kMostWaymarks = 10'000;

/// By time. A Problem names file and line.
Result<std::vector<Waymark>> parse_waymarks(std::string_view text, const std::string& path);
/// Those of what was opened; none if there is no file of them.
Result<std::vector<Waymark>> read_waymarks(const std::string& input);
/// As `parse_waymarks` reads it.
std::string waymarks_text(const std::vector<Waymark>& waymarks);
/// Keeps them with what was opened. A Problem if the file cannot be written.
Result<void> keep_waymarks(const std::vector<Waymark>& waymarks, const std::string& input);
/// Those of one recording are those of another, which was saved from it.
Result<void> copy_waymarks(const std::string& input, const std::string& saved);

}  // namespace mt
