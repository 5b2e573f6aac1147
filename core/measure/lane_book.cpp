#include "measure/lane_book.h"

#include <algorithm>

namespace mt {

LaneBook::LaneBook(std::shared_ptr<const Trail> trail) : trail_(std::move(trail)) {
    for (const LaneKind* kind : LaneKinds::all())
        for (const std::uint64_t index : kind->lanes(*trail_)) ids_.push_back({kind, index});
}

std::vector<LaneId> LaneBook::in_order(bool merged) const {
    struct Place {
        std::size_t core;
        int rank;
        LaneId id;
    };
    std::vector<Place> all;
    for (const LaneId& id : ids_) {
        const int rank = id.kind->rank();
        const bool across = merged || rank >= LaneKind::kAcrossCores;
        all.push_back({across ? trail_->cores.size() : find(id)->core(), rank, id});
    }
    std::stable_sort(all.begin(), all.end(), [](const Place& a, const Place& b) {
        return a.core != b.core ? a.core < b.core : a.rank < b.rank;
    });
    std::vector<LaneId> ids;
    for (const Place& p : all) ids.push_back(p.id);
    return ids;
}

const Lane* LaneBook::find(const LaneId& id) const {
    if (!id) return nullptr;
    const auto [found, fresh] = made_.try_emplace({id.kind, id.index});
    if (fresh) found->second = id.kind->lane(*trail_, id.index);
    return found->second.get();
}

const Lane* LaneBook::find(const SpanRef& span) const {
    const Lane* lane = find(span.lane);
    return lane != nullptr && span.level < lane->levels() && span.index < lane->size(span.level) ? lane : nullptr;
}

}  // namespace mt
