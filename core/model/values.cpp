#include "model/values.h"

#include <algorithm>
#include <bit>
#include <cmath>

namespace mt {

std::string_view value_access_name(ValueAccess access) {
    constexpr std::string_view names[] = {"written", "read", "sampled", "measured"};
    return names[static_cast<std::size_t>(access)];
}

std::string ValueLane::text(std::size_t i) const {
    constexpr const char* none[] = {"", "x", "z", "invalid"};
    const auto worth = static_cast<std::size_t>(origin(i).worth);
    if (worth != 0) return none[worth];
    const std::string* called = name_of(samples.bits(i));
    return called != nullptr ? *called : value(i).text();
}

void ValueLane::append_unknown(Time t, ValueOrigin origin) {
    append(t, samples.empty() ? 0 : samples.back().bits, origin);
}

// What is no number neither is the least nor the greatest, unless there is nothing else.
ValueLane::Extent ValueLane::joined(Extent a, const Extent& b) const {
    const auto ordered = [&a, &b](auto as) {
        if (as(b.least) < as(a.least)) a.least = b.least;
        if (as(b.greatest) > as(a.greatest)) a.greatest = b.greatest;
    };
    switch (sort) {
        case ValueSort::whole:
        case ValueSort::truth:
            ordered([](std::uint64_t bits) { return bits; });
            break;
        case ValueSort::signed_whole:
            ordered([](std::uint64_t bits) { return static_cast<std::int64_t>(bits); });
            break;
        case ValueSort::real:
        case ValueSort::small_real: {
            const auto as = [](std::uint64_t bits) { return std::bit_cast<double>(bits); };
            if (std::isnan(as(a.least))) a.least = b.least;
            if (std::isnan(as(a.greatest))) a.greatest = b.greatest;
            ordered(as);
            break;
        }
    }
    return a;
}

void ValueLane::widen_slowly(std::uint64_t bits, bool known) {
    const std::size_t n = samples.size();
    const bool first = !any_known_;
    any_nan_ = any_nan_ || is_no_number(sort, bits);
    any_known_ = any_known_ || known;
    const Extent all = first ? Extent{bits, bits} : joined({least, greatest}, {bits, bits});
    least = all.least;
    greatest = all.greatest;
    now = first || n % kBlock == 0 ? Extent{bits, bits} : joined(now, {bits, bits});
}

void ValueLane::end_block() {
    if (samples.size() % kBlock != 0) return;
    extents.push_back(now);
    const std::size_t blocks = extents.size();
    if (blocks % kBlock != 0) return;
    Extent wide = extents[blocks - kBlock];
    for (std::size_t b = blocks - kBlock + 1; b < blocks; ++b) wide = joined(wide, extents[b]);
    wide_extents.push_back(wide);
}

void ValueLane::append(Time t, std::uint64_t bits, const ValueOrigin& origin) {
    const std::size_t n = samples.size();
    widen(bits, origin.worth == ValueOrigin::Worth::known);
    if (n == 0 && !usual_set_) usual_ = origin;
    if (!origins_.empty()) {
        origins_.push_back(origin);
    } else if (!(origin == usual_)) {
        for (std::size_t i = 0; i < n; ++i) origins_.push_back(usual_);
        origins_.push_back(origin);
    }
    samples.push_back({t, bits});
    end_block();
}

std::uint64_t EvenReading::bits(std::uint64_t w) const {
    const auto scaled = [this](double v) { return std::bit_cast<std::uint64_t>(raw ? v : v * scale + offset); };
    switch (word) {
        case Word::whole:
            return raw ? w : scaled(static_cast<double>(w));
        case Word::signed_whole: {
            const auto v = static_cast<std::int32_t>(static_cast<std::uint32_t>(w));
            return raw ? static_cast<std::uint64_t>(std::int64_t{v}) : scaled(v);
        }
        case Word::real32:
            return scaled(std::bit_cast<float>(static_cast<std::uint32_t>(w)));
        case Word::real64:
            break;
    }
    return scaled(std::bit_cast<double>(w));
}

void ValueLane::append_word(std::uint64_t word) {
    widen(samples.worth(word), true);
    samples.push_word(word);
    end_block();
}

void ValueLane::move_times(Time offset, double factor) {
    const auto by = static_cast<long double>(factor);
    samples.retime(static_cast<long double>(offset.ps), by);
    const auto moved = [&](Time t) {
        return Time{offset.ps + static_cast<std::int64_t>(std::llround(by * static_cast<long double>(t.ps)))};
    };
    for (Hole& h : holes) h = {moved(h.begin), moved(h.end)};
}

Time ValueLane::holds_until(std::size_t i, Time end) const {
    const Time next = i + 1 < samples.size() ? samples.time(i + 1) : std::max(samples.time(i), end);
    const auto hole =
        std::upper_bound(holes.begin(), holes.end(), samples.time(i), [](Time t, const Hole& h) { return t < h.end; });
    return hole != holes.end() && hole->begin < next ? std::max(hole->begin, samples.time(i)) : next;
}

ValueLane::Extent ValueLane::extent(std::size_t first, std::size_t last) const {
    constexpr std::size_t kWide = kBlock * kBlock;
    Extent e{samples.bits(first), samples.bits(first)};
    for (std::size_t i = first; i < last;) {
        if (i % kWide == 0 && i + kWide <= last) {
            e = joined(e, wide_extents[i / kWide]);
            i += kWide;
        } else if (i % kBlock == 0 && i + kBlock <= last) {
            e = joined(e, extents[i / kBlock]);
            i += kBlock;
        } else {
            const std::uint64_t bits = samples.bits(i);
            e = joined(e, {bits, bits});
            ++i;
        }
    }
    return e;
}

}  // namespace mt
