#include "model/values.h"

#include <algorithm>

namespace mt {

std::string_view value_access_name(ValueAccess access) {
    constexpr std::string_view names[] = {"written", "read", "sampled", "measured"};
    return names[static_cast<std::size_t>(access)];
}

std::string ValueLane::text(std::size_t i) const {
    constexpr const char* none[] = {"", "x", "z", "invalid"};
    const auto worth = static_cast<std::size_t>(origin(i).worth);
    if (worth != 0) return none[worth];
    const std::string* called = name_of(samples[i].bits);
    return called != nullptr ? *called : value(i).text();
}

void ValueLane::append_unknown(Time t, ValueOrigin origin) {
    append(t, samples.empty() ? 0 : samples.back().bits, origin);
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

Time ValueLane::holds_until(std::size_t i, Time end) const {
    const Time next = i + 1 < samples.size() ? samples[i + 1].time : std::max(samples[i].time, end);
    const auto hole =
        std::upper_bound(holes.begin(), holes.end(), samples[i].time, [](Time t, const Hole& h) { return t < h.end; });
    return hole != holes.end() && hole->begin < next ? std::max(hole->begin, samples[i].time) : next;
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
