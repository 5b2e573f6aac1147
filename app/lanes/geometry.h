// Heights that laying out and painting the lanes share, in pixels.
#pragma once

#include <cstddef>

namespace mt::app {

inline constexpr double kAxis = 24;    ///< the time scale on top
inline constexpr double kRuler = 26;   ///< the strip of A and B at the bottom
inline constexpr double kFull = 32;    ///< least height of a row
inline constexpr double kFolded = 15;  ///< a row with nothing in view
inline constexpr double kLevel = 17;   ///< one depth of the call stack
inline constexpr double kCallsPad = 4;
inline constexpr std::size_t kMostLevels = 40;  ///< deeper ones are reached by scrolling closer

}  // namespace mt::app
