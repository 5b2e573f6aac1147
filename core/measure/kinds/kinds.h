// The built-in kinds, a file each in this folder: a file `pins.cpp` defines `pins_kind()`. The list is made of the
// files' names when the build is configured.
#pragma once

#include "measure/lane_kind.h"

namespace mt {

#define MT_KIND(name) const LaneKind& name##_kind();
#include "measure_kinds.inc"
#undef MT_KIND

}  // namespace mt
