#include "model/values.h"

namespace mt {

std::string_view value_access_name(ValueAccess access) {
    return access == ValueAccess::written ? "written" : access == ValueAccess::read ? "read" : "sampled";
}

// What is no number neither is the least nor the greatest, unless there is nothing else.
ValueLane::Extent ValueLane::joined(Extent a, const Extent& b) const {
    const auto none = [this](std::uint64_t bits) { return !(value_of(bits) == value_of(bits)); };
    if (none(a.least) || value_of(b.least) < value_of(a.least)) a.least = b.least;
    if (none(a.greatest) || value_of(b.greatest) > value_of(a.greatest)) a.greatest = b.greatest;
    return a;
}

void ValueLane::append(Time t, std::uint64_t bits, const ValueOrigin& origin) {
    const std::size_t n = samples.size();
    const Extent all = n == 0 ? Extent{bits, bits} : joined({least, greatest}, {bits, bits});
    least = all.least;
    greatest = all.greatest;
    now = n % kBlock == 0 ? Extent{bits, bits} : joined(now, {bits, bits});
    if (n == 0) usual_ = origin;
    if (origins_.size() == n && n > 0) {
        origins_.push_back(origin);
    } else if (!(origin == usual_)) {
        for (std::size_t i = 0; i < n; ++i) origins_.push_back(usual_);
        origins_.push_back(origin);
    }
    samples.push_back({t, bits});
    if (samples.size() % kBlock == 0) extents.push_back(now);
}

ValueLane::Extent ValueLane::extent(std::size_t first, std::size_t last) const {
    Extent e{samples[first].bits, samples[first].bits};
    for (std::size_t i = first; i < last;) {
        if (i % kBlock == 0 && i + kBlock <= last) {
            e = joined(e, extents[i / kBlock]);
            i += kBlock;
        } else {
            e = joined(e, {samples[i].bits, samples[i].bits});
            ++i;
        }
    }
    return e;
}

}  // namespace mt
