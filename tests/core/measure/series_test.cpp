// Lengths over time and by how often they come, against a plain walk over the spans of an activity; and how the calls
// of functions spread.
#include "measure/series.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "measure/functions.h"
#include "measure/lane_book.h"
#include "measure/refs.h"
#include "support.h"

namespace mt {
namespace {

struct Walked {
    std::uint64_t count = 0;
    double least = 0, most = 0;
};

double size_of(const Lane& lane, const SpanRef& ref, std::size_t which) {
    return lane.shape() == Shape::line ? lane.value(ref.index)
                                       : static_cast<double>(lane.length(ref.level, ref.index, which).ps);
}

Walked walk(const Trail& trail, LaneId id, std::uint64_t activity, std::size_t which) {
    Walked walked;
    const auto lane = id.kind->lane(trail, id.index);
    for (std::uint32_t level = 0; level < lane->levels(); ++level)
        for (std::size_t i = 0; i < lane->size(level); ++i) {
            const SpanRef ref{id, level, i};
            if (id.kind->activity_of(trail, ref) != activity) continue;
            if (lane->shape() == Shape::line ? std::isnan(lane->value(i)) : !lane->span(level, i).whole()) continue;
            const double size = size_of(*lane, ref, which);
            walked.least = walked.count == 0 ? size : std::min(walked.least, size);
            walked.most = walked.count == 0 ? size : std::max(walked.most, size);
            ++walked.count;
        }
    return walked;
}

class ASeries : public testing::TestWithParam<const char*> {
  protected:
    // Calls `check(lane, activity, which)` for what has spans enough to be worth it, a few of each kind.
    template <class Check>
    void each(Check check) const {
        for (const LaneKind* kind : LaneKinds::all()) {
            int left = 4;
            for (const auto& name : kind->names(*opened.trail)) {
                const LaneId id = kind->lane_of(*opened.trail, name.index);
                const auto lane = id ? kind->lane(*opened.trail, id.index) : nullptr;
                if (!lane || lane->levels() == 0 || lane->size(0) == 0 || left-- == 0) continue;
                SCOPED_TRACE(std::string(kind->id()) + " " + name.name);
                for (std::size_t which = 0; which < lane->lengths().size(); ++which) check(id, name.index, which);
            }
        }
    }
    const test::Opened opened = test::decode(test::data(GetParam()));
};

TEST_P(ASeries, CountsEveryWholeSpanOfItsActivityOnce) {
    std::size_t checked = 0;
    each([&](LaneId id, std::uint64_t activity, std::size_t which) {
        const Walked plain = walk(*opened.trail, id, activity, which);
        const Series series = series_of(*opened.trail, id, activity, which);
        EXPECT_EQ(series.count, plain.count);
        std::uint64_t in_bins = 0;
        for (const std::uint64_t n : series.counts) in_bins += n;
        EXPECT_EQ(in_bins, plain.count);
        EXPECT_EQ(series.least, plain.least);
        EXPECT_EQ(series.greatest, plain.most);
        ++checked;
    });
    EXPECT_GT(checked, 3U);
}

TEST_P(ASeries, LeadsFromEachBinToItsLongest) {
    each([&](LaneId id, std::uint64_t activity, std::size_t which) {
        const Series series = series_of(*opened.trail, id, activity, which);
        const auto lane = id.kind->lane(*opened.trail, id.index);
        const auto& edges = series.edges;
        for (std::size_t bin = 0; bin < series.longest.size(); ++bin) {
            if (series.counts[bin] == 0) continue;
            const SpanRef& ref = series.longest[bin].span;
            ASSERT_EQ(ref.lane, id);
            const double size = size_of(*lane, ref, which);
            EXPECT_GE(std::max(size, edges.front()), edges[bin]);
            EXPECT_LT(size, edges[bin + 1]);
            EXPECT_EQ(id.kind->activity_of(*opened.trail, ref), activity);
        }
    });
}

TEST_P(ASeries, ThinnedKeepsTheExtremesInOrderOfTime) {
    each([&](LaneId id, std::uint64_t activity, std::size_t which) {
        const Series all = series_of(*opened.trail, id, activity, which, ~std::size_t{0} / 2),
                     few = series_of(*opened.trail, id, activity, which, 40);
        EXPECT_EQ(all.dots.size(), all.count) << "where there is room each has a dot";
        EXPECT_LE(few.dots.size(), 130U);
        EXPECT_EQ(few.greatest, all.greatest);
        double least = all.greatest, most = all.least;
        std::set<std::pair<std::uint32_t, std::uint64_t>> seen;
        for (std::size_t i = 0; i < few.dots.size(); ++i) {
            least = std::min(least, few.dots[i].size);
            most = std::max(most, few.dots[i].size);
            EXPECT_TRUE(seen.insert({few.dots[i].span.level, few.dots[i].span.index}).second) << "twice";
            if (i > 0) {
                EXPECT_GE(few.dots[i].begin, few.dots[i - 1].begin);
            }
        }
        if (all.count > 0) {
            EXPECT_EQ(most, all.greatest) << "no outlier is lost";
            if (all.of_values) {
                EXPECT_EQ(least, all.least) << "nor one at the other end";
            }
        }
    });
}

TEST_P(ASeries, ThatIsCancelledEnds) {
    Progress stopped;
    stopped.cancel();
    each([&](LaneId id, std::uint64_t activity, std::size_t which) {
        EXPECT_EQ(series_of(*opened.trail, id, activity, which, 100, 10, &stopped).count, 0U);
    });
}

INSTANTIATE_TEST_SUITE_P(Recordings, ASeries,
                         testing::Values("mount/mount.target.toml", "tasks/mount-a/trace",
                                         "steps/arm-etm-mount-cc/recording.target.toml"));

// Percentiles by nearest rank, periods from entry to entry wherever on the stack.
TEST(CallSpreads, AreThoseOfAPlainWalk) {
    for (const char* path :
         {"steps/arm-etm-mount-cc/recording.target.toml", "steps/rv-ntrace-mount-htm/recording.target.toml"}) {
        const auto o = test::decode(test::data(path));
        const StepTrail& steps = o.trail->steps[0];
        struct Entry {
            Time begin, length;
            bool whole;
        };
        std::map<std::uint32_t, std::vector<Entry>> entries;
        for (const CallLevel& level : steps.levels)
            for (std::size_t i = 0; i < level.size(); ++i)
                if ((level[i].flags & (CallFrame::kCutBegin | CallFrame::kContinued)) == 0)
                    entries[static_cast<std::uint32_t>(level[i].function)].push_back(
                        {level[i].begin, level[i].length, level[i].whole()});
        const auto spreads = call_spreads(steps);
        ASSERT_EQ(spreads.size(), steps.tallies.size());
        for (auto& [function, all] : entries) {
            SCOPED_TRACE((*steps.functions)[function].name);
            std::sort(all.begin(), all.end(), [](const Entry& a, const Entry& b) { return a.begin < b.begin; });
            std::vector<Time> lengths, periods;
            for (std::size_t i = 0; i < all.size(); ++i) {
                if (all[i].whole) lengths.push_back(all[i].length);
                bool gap = i == 0;
                for (std::size_t g = 0; g < steps.gaps.size() && !gap; ++g)
                    gap = is_missing(steps.gaps[g].gap.kind) && steps.gaps[g].begin <= all[i].begin &&
                          steps.gaps[g].end >= all[i - 1].begin;
                if (!gap) periods.push_back(all[i].begin - all[i - 1].begin);
            }
            const CallSpread& s = spreads[function];
            ASSERT_EQ(s.p95.has_value(), !lengths.empty());
            if (!lengths.empty()) {
                std::sort(lengths.begin(), lengths.end());
                EXPECT_EQ(*s.p95, lengths[(lengths.size() * 95 + 99) / 100 - 1]);
                EXPECT_EQ(*s.p99, lengths[(lengths.size() * 99 + 99) / 100 - 1]);
            }
            ASSERT_EQ(s.period_mean.has_value(), !periods.empty());
            if (periods.empty()) continue;
            EXPECT_EQ(*s.period_least, *std::min_element(periods.begin(), periods.end()));
            EXPECT_EQ(*s.period_greatest, *std::max_element(periods.begin(), periods.end()));
        }
    }
}

// Every lane that a recording draws has a place of its own, core by core; merged they stand by what they are.
TEST(ALaneBook, HasEachLaneOnceInTheOrderOfRanks) {
    const auto o = test::decode(test::demo("larkspur.target.toml"));
    const LaneBook book(o.trail);
    const auto apart = book.in_order(false), merged = book.in_order(true);
    EXPECT_EQ(apart.size(), merged.size());
    std::set<std::pair<const LaneKind*, std::uint64_t>> seen;
    std::size_t core = 0;
    for (const LaneId& id : apart) {
        EXPECT_TRUE(seen.insert({id.kind, id.index}).second);
        const Lane* lane = book.find(id);
        ASSERT_NE(lane, nullptr);
        EXPECT_EQ(lane, book.find(id)) << "made once";
        const std::size_t now = id.kind->rank() >= LaneKind::kAcrossCores ? o.trail->cores.size() : lane->core();
        EXPECT_GE(now, core) << lane->name();
        core = now;
    }
    for (std::size_t i = 1; i < merged.size(); ++i) EXPECT_LE(merged[i - 1].kind->rank(), merged[i].kind->rank());
    EXPECT_EQ(book.find(LaneId{}), nullptr);
    EXPECT_EQ(book.find(interrupt_lane(9, 0)), nullptr);
    EXPECT_EQ(book.find(execution_ref(0, 0, 1'000'000'000)), nullptr);
    EXPECT_EQ(book.find(call_ref(0, 4'000, 0)), nullptr);
}

}  // namespace
}  // namespace mt
