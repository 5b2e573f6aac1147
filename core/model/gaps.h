// Where the recording does not know: each gap belongs to a core and to the stream that lost something.
#pragma once

#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <map>
#include <optional>
#include <tuple>
#include <utility>
#include <vector>

#include "base/column.h"
#include "base/time.h"

namespace mt {

enum class GapKind : std::uint8_t { overflow, damage };

/// `length` bytes from `offset` of the unframed stream.
struct Gap {
    Time begin, end;
    std::uint64_t offset = 0, length = 0;
    GapKind kind = GapKind::overflow;
    std::uint16_t reason = 0;  ///< ItmDamage where kind is damage
    std::uint32_t stream = 0;  ///< index into the trail's streams, or into those of its event trace
    std::uint16_t core = 0;    ///< index into the trail's cores
    bool events = false;       ///< of an event trace
};

/// All gaps in the order in which they were met: ascending in each stream. Copies are snapshots. What lies in a stretch
/// of time is found in logarithmic time, however many there are.
class GapList {
  public:
    bool empty() const { return all_.size() == 0; }
    std::size_t size() const { return all_.size(); }
    const Gap& operator[](std::size_t i) const { return all_[i]; }
    void push_back(const Gap& g);

    /// Whether a gap of this core touches [from, to].
    bool touch(std::size_t core, Time from, Time to) const;
    /// Whether a gap of any core does.
    bool touch(Time from, Time to) const;
    /// Whether one gap of this core has all of [from, to] in it.
    bool covers(std::size_t core, Time from, Time to) const;
    /// Time that gaps cover, of one core or of any; overlaps count once.
    Time covered(std::optional<std::size_t> core = {}) const;
    /// Calls `each(gap)` for those of this core that touch [from, to]; of those that end within `apart` behind one
    /// that was told only the last, so that a picture costs its pixels.
    template <class Each>
    void each(std::size_t core, Time from, Time to, Time apart, Each each) const {
        for (const auto& [key, way] : ways_) {
            if (std::get<0>(key) != core) continue;
            for (std::size_t i = first_from(way, from); i < way.size() && way[i].begin <= to;) {
                const Gap& g = all_[way[i].index];
                each(g);
                i = std::max(i + 1, first_from(way, std::max(g.end, way[i].begin) + apart));
            }
        }
    }

  private:
    // One stream's gaps on one core. `latest` never falls: the end of those up to here.
    struct Entry {
        Time begin, latest;
        std::size_t index = 0;
    };
    using Way = Column<Entry>;
    static std::size_t first_from(const Way& way, Time from) {
        return way.partition_point([from](const Entry& e) { return e.latest < from; });
    }
    static bool touches(const Way& way, Time from, Time to) {
        const std::size_t i = first_from(way, from);
        return i < way.size() && way[i].begin <= to;
    }

    Column<Gap> all_;
    std::map<std::tuple<std::uint16_t, bool, std::uint32_t>, Way> ways_;  ///< by core, event trace, stream
};

inline void GapList::push_back(const Gap& g) {
    Way& way = ways_[{g.core, g.events, g.stream}];
    Entry e{g.begin, g.end, all_.size()};
    if (way.size() > 0) {  // damaged streams may claim otherwise
        e.begin = std::max(e.begin, way.back().begin);
        e.latest = std::max(e.latest, way.back().latest);
    }
    way.push_back(e);
    all_.push_back(g);
}

inline bool GapList::touch(std::size_t core, Time from, Time to) const {
    for (auto way = ways_.lower_bound({static_cast<std::uint16_t>(core), false, 0});
         way != ways_.end() && std::get<0>(way->first) == core; ++way)
        if (touches(way->second, from, to)) return true;
    return false;
}

inline bool GapList::covers(std::size_t core, Time from, Time to) const {
    for (auto way = ways_.lower_bound({static_cast<std::uint16_t>(core), false, 0});
         way != ways_.end() && std::get<0>(way->first) == core; ++way) {
        const std::size_t i = first_from(way->second, to);
        if (i < way->second.size() && way->second[i].begin <= from) return true;
    }
    return false;
}

inline bool GapList::touch(Time from, Time to) const {
    return std::any_of(ways_.begin(), ways_.end(), [&](const auto& entry) { return touches(entry.second, from, to); });
}

inline Time GapList::covered(std::optional<std::size_t> core) const {
    std::vector<std::pair<Time, Time>> spans;
    for (const auto& [key, way] : ways_)
        for (std::size_t i = 0; i < way.size() && (!core || std::get<0>(key) == *core); ++i)
            spans.emplace_back(way[i].begin, all_[way[i].index].end);
    std::sort(spans.begin(), spans.end());
    Time sum{}, reached{};
    for (const auto& [begin, end] : spans) {
        const Time from = std::max(begin, reached);
        if (end > from) sum += end - from;
        reached = std::max(reached, end);
    }
    return sum;
}

}  // namespace mt
