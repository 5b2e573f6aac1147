// The lanes for assistive technology: a list, an item for each lane.
#pragma once

namespace mt::app {

/// From now on widgets of the class Lanes answer as a list of lanes. To be called once, before one is shown; again does
/// nothing.
void make_lanes_accessible();

}  // namespace mt::app
