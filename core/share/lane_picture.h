// Lanes as a picture (SVG) for reports: what ran in a stretch of time.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "measure/lane_book.h"

namespace mt {

/// The lanes between two times, one below the other, with their names and a scale of time; `marked`: a stretch that is
/// pointed out. Colours are those of html_page. Lanes that are not there, and empty ones, are left out; empty if none
/// is left.
std::string lanes_svg(const LaneBook& lanes, const std::vector<LaneId>& which, Time from, Time to,
                      std::optional<std::pair<Time, Time>> marked = {});

}  // namespace mt
