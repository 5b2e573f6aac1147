#include "model/trail.h"

#include <algorithm>
#include <limits>

#include "target/exception_names.h"

namespace mt {
ExceptionInstance ExceptionLane::instance(std::size_t i) const {
    const Row& row = rows_[i];
    ExceptionInstance x;
    x.begin = row.begin();
    x.end = end(i);
    x.own = own(i);
    x.begin_slack = {std::int64_t{row.wide() ? wide_[row.length].begin_slack_ns : row.begin_slack_ns} * 1000};
    x.end_slack = {std::int64_t{row.wide() ? wide_[row.length].end_slack_ns : row.end_slack_ns} * 1000};
    x.offset = row.offset();
    x.number = code_;
    x.depth = row.depth;
    x.flags = flags(i);
    return x;
}

std::optional<std::size_t> ExceptionLane::at(Time t) const {
    const std::size_t next = first_after(t);
    if (next == 0 || !(t < end(next - 1) || (t == begin(next - 1)))) return std::nullopt;
    return next - 1;
}

std::pair<std::size_t, std::size_t> ExceptionLane::touching(Time from, Time to) const {
    std::size_t first = first_after(from);
    if (first > 0 && end(first - 1) > from)
        --first;
    else if (first > 0 && begin(first - 1) == from)
        --first;
    return {first, std::max(first, first_from(to))};
}

Time ExceptionLane::busy(Time from, Time to) const {
    const auto before = [&](Time t) {
        const std::size_t i = first_from(t);
        if (i == 0) return Time{};
        Time sum = busy_before_[(i - 1) / kSumEach];
        for (std::size_t k = (i - 1) / kSumEach * kSumEach; k + 1 < i; ++k) sum += length(k);
        return sum + std::min(length(i - 1), t - begin(i - 1));
    };
    return before(to) - before(from);
}

void Density::add_elsewhere(Time t, const Bucket& b) {
    if (t.ps < 0) t.ps = 0;
    while (t.ps / width_.ps >= static_cast<std::int64_t>(kBuckets)) {
        for (std::size_t i = 0; i < buckets_.size(); i += 2) {
            Bucket two = buckets_[i];
            if (i + 1 < buckets_.size()) {
                two.events += buckets_[i + 1].events;
                two.awake += buckets_[i + 1].awake;
                two.asleep += buckets_[i + 1].asleep;
            }
            buckets_[i / 2] = two;
        }
        buckets_.resize((buckets_.size() + 1) / 2);
        width_.ps *= 2;
    }
    const auto i = static_cast<std::size_t>(t.ps / width_.ps);
    if (i >= buckets_.size()) buckets_.resize(i + 1);
    bucket_ = i;
    at_ = {static_cast<std::int64_t>(i) * width_.ps};
    here_ps_ = static_cast<std::uint64_t>(width_.ps);
    buckets_[i].events += b.events;
    buckets_[i].awake += b.awake;
    buckets_[i].asleep += b.asleep;
}

Density::Bucket Density::sum(Time from, Time to) const {
    Bucket all;
    const auto first = static_cast<std::size_t>(std::max<std::int64_t>(0, from.ps) / width_.ps);
    for (std::size_t i = first; i < buckets_.size() && static_cast<std::int64_t>(i) * width_.ps < to.ps; ++i) {
        all.events += buckets_[i].events;
        all.awake += buckets_[i].awake;
        all.asleep += buckets_[i].asleep;
    }
    return all;
}

const ExceptionLane* CoreTrail::lane(unsigned code) const {
    const auto i = lane_index(code);
    return i ? &lanes[*i] : nullptr;
}

std::optional<std::size_t> CoreTrail::lane_index(unsigned code) const {
    for (std::size_t i = 0; i < lanes.size(); ++i)
        if (lanes[i].code() == code) return i;
    return std::nullopt;
}

std::optional<std::size_t> CoreTrail::change_at(Time t) const {
    const std::size_t next = change_time.upper_bound(t);
    if (next == 0) return std::nullopt;
    return next - 1;
}

std::uint16_t CoreTrail::running_at(Time t) const {
    const auto i = change_at(t);
    return i ? change_running[*i] : ContextChange::kUnknown;
}

Time CoreTrail::handlers_until(Time t) const {
    const auto i = change_at(t);
    if (!i) return {};
    const std::size_t from = *i / kSumEach * kSumEach;
    // What runs from `from` to `i`: the begins of handlers count against, their ends for the sum.
    std::array<Time, kSumEach> begins;
    change_time.block(from, begins);
    std::int64_t sum = handler_before[from / kSumEach].ps;
    for (std::size_t k = from; k < *i; ++k) {
        const std::int64_t passed = begins[k - from + 1].ps - begins[k - from].ps;
        sum += ContextChange::is_handler(change_running[k]) ? passed : 0;
    }
    if (ContextChange::is_handler(change_running[*i])) sum += (t - begins[*i - from]).ps;
    return {sum};
}

std::string CoreTrail::running_name(std::uint16_t running) const {
    if (running == ContextChange::kUnknown) return "not known";
    if (running == ContextChange::kBetween) return "between two handlers";
    if (running == 0) return std::string(outside_handlers_name(m_profile));
    const ExceptionLane* l = lane(running);
    return l != nullptr ? l->name() : architectural_exception_name(ExceptionId::of(running));
}

std::vector<std::size_t> order_by_priority(const CoreTrail& core) {
    const auto preference = [](std::uint16_t n) -> unsigned {
        if (n == 2 || n >= 16 || ExceptionId::of(n).is_fault()) return n;
        return 1000u + n;  // SVCall, DebugMonitor, PendSV, SysTick: usually the least urgent
    };
    const auto cuts = [&](std::uint16_t a, std::uint16_t b) -> std::uint64_t {
        const auto found = core.cuts.find({a, b});
        return found == core.cuts.end() ? 0 : found->second;
    };
    std::vector<std::size_t> left(core.lanes.size()), order;
    for (std::size_t i = 0; i < left.size(); ++i) left[i] = i;
    while (!left.empty()) {
        // Take the lane that the fewest of the rest were seen to cut into (against the other direction).
        std::size_t best = 0;
        std::uint64_t best_count = ~std::uint64_t{0};
        for (std::size_t k = 0; k < left.size(); ++k) {
            std::uint64_t above = 0;
            for (const std::size_t other : left) {
                const auto a = core.lanes[other].code(), b = core.lanes[left[k]].code();
                if (cuts(a, b) > cuts(b, a)) ++above;
            }
            const bool better = above < best_count ||
                                (above == best_count &&
                                 preference(core.lanes[left[k]].code()) < preference(core.lanes[left[best]].code()));
            if (better) {
                best = k;
                best_count = above;
            }
        }
        order.push_back(left[best]);
        left.erase(left.begin() + static_cast<std::ptrdiff_t>(best));
    }
    return order;
}

}  // namespace mt
