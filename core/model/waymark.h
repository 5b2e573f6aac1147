// A place in time that a person named.
#pragma once

#include <string>

#include "base/time.h"

namespace mt {

/// A moment, or a stretch: then `until` lies behind `at`. Plain data.
struct Waymark {
    std::string name, note;
    Time at, until;
    bool is_stretch() const { return at < until; }
    bool operator==(const Waymark&) const = default;
};

}  // namespace mt
