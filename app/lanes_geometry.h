// Heights that laying out and painting the lanes share, in pixels.
#pragma once

namespace mt::app {

inline constexpr double kAxis = 24;    ///< the time scale on top
inline constexpr double kRuler = 26;   ///< the strip of A and B at the bottom
inline constexpr double kFull = 32;    ///< least height of a row
inline constexpr double kFolded = 15;  ///< a row with nothing in view

}  // namespace mt::app
