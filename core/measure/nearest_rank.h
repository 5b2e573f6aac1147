// Percentiles by nearest rank.
#pragma once

#include <algorithm>
#include <vector>

#include "base/time.h"

namespace mt {

/// The smallest value such that at least `percent` % of all are not greater. REQUIRES: `values` is not empty; their
/// order is lost.
inline Time nearest_rank(std::vector<Time>& values, unsigned percent) {
    const std::size_t rank = (values.size() * percent + 99) / 100;
    const auto at = values.begin() + static_cast<std::ptrdiff_t>(std::max<std::size_t>(rank, 1) - 1);
    std::nth_element(values.begin(), at, values.end());
    return *at;
}

}  // namespace mt
