// Binary search over indices.
#pragma once

#include <cstddef>

namespace mt {

/// The first index of [low, high) for which `before` is false, or `high`. REQUIRES: true for all before it, false from
/// there on.
template <class Before>
[[gnu::always_inline]] inline std::size_t first_false(std::size_t low, std::size_t high, Before before) {
    while (low < high) {
        const std::size_t mid = low + (high - low) / 2;
        if (before(mid))
            low = mid + 1;
        else
            high = mid;
    }
    return low;
}

}  // namespace mt
