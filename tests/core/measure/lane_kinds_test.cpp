// Kinds of activities: what each says of its figures and instances holds in every recording, and a new one needs
// nothing but itself.
#include "measure/lane_kind.h"

#include <gtest/gtest.h>

#include <array>
#include <random>
#include <set>

#include <nlohmann/json.hpp>

#include "pin_lanes.h"
#include "share/activity_tables.h"
#include "written_events.h"

namespace mt {
namespace {

using test::event;

std::size_t figure(const LaneKind& kind, std::string_view key) {
    const auto all = kind.figures();
    return static_cast<std::size_t>(
        std::find_if(all.begin(), all.end(), [key](const FigureInfo& f) { return f.key == key; }) - all.begin());
}

std::vector<std::string> stats_lines(const std::string& kind, const test::Opened& o) {
    std::ostringstream out;
    write_stats_csv(*LaneKinds::find(kind), {*o.trail, o.recording->functions}, out);
    return test::lines(out.str());
}

std::vector<std::string> instance_lines(const std::string& name, const test::Opened& o) {
    const auto found = find_activity(*o.trail, name);
    EXPECT_TRUE(found) << name;
    std::ostringstream out;
    if (found) write_instances_csv(*found->kind, *o.trail, found->index, out);
    return test::lines(out.str());
}

class EveryKind : public testing::TestWithParam<const char*> {
  protected:
    test::Opened opened = test::decode(test::data(GetParam()));
};

TEST_P(EveryKind, HasACellForEachFigureAndAColumnForEachCell) {
    for (const LaneKind* kind : LaneKinds::all()) {
        SCOPED_TRACE(kind->id());
        const auto figures = kind->figures();
        std::set<std::string_view> keys;
        for (const FigureInfo& f : figures) {
            EXPECT_TRUE(keys.insert(f.key).second) << f.key << " twice";
            EXPECT_FALSE(f.meaning.empty()) << f.key;
        }
        for (const std::string_view column : kind->columns())
            EXPECT_TRUE(keys.count(kind->figure_of(column)) > 0 ||
                        std::find(std::begin(kStatsColumns), std::end(kStatsColumns), column) !=
                            std::end(kStatsColumns))
                << column;
        for (const auto& row : kind->rows({*opened.trail, opened.recording->functions})) {
            EXPECT_EQ(row.cells.size(), figures.size());
            EXPECT_TRUE(std::holds_alternative<std::string>(row.cells[figure(*kind, "name")].value));
        }
        if (!kind->told(*opened.trail)) {
            EXPECT_TRUE(kind->rows({*opened.trail, opened.recording->functions}).empty());
            EXPECT_FALSE(kind->advice().empty()) << "what to do";
        }
        for (const auto& name : kind->names(*opened.trail)) {
            int rows = 0;
            kind->each_instance(*opened.trail, name.index, [&](std::span<const Cell> row) {
                EXPECT_EQ(row.size(), kind->instance_columns().size());
                return ++rows < 3;
            });
            EXPECT_LE(rows, 3) << "it goes on though it was told to stop";
        }
    }
}

// What the table counts, and what it leaves out, are the instances.
TEST_P(EveryKind, CountsTheInstancesThatItLists) {
    for (const LaneKind* kind : LaneKinds::all()) {
        const std::size_t count = figure(*kind, "count"), left_out = figure(*kind, "left_out"),
                          full_name = figure(*kind, "full_name");
        const auto columns = kind->instance_columns();
        const auto cut = std::find(columns.begin(), columns.end(), "left_out");
        if (count == kind->figures().size() || cut == columns.end()) continue;
        std::map<std::string, std::pair<std::uint64_t, std::uint64_t>> listed;
        for (const auto& name : kind->names(*opened.trail))
            kind->each_instance(*opened.trail, name.index, [&](std::span<const Cell> row) {
                const auto& why = std::get<std::string>(row[static_cast<std::size_t>(cut - columns.begin())].value);
                ++(why.empty() ? listed[name.name].first : listed[name.name].second);
                return true;
            });
        std::map<std::string, std::pair<std::uint64_t, std::uint64_t>> counted;
        for (const auto& [activity, row] : kind->rows({*opened.trail, opened.recording->functions})) {
            const std::size_t name = full_name < row.size() ? full_name : figure(*kind, "name");
            if (!row[count].known()) continue;
            auto& sums = counted[std::get<std::string>(row[name].value)];
            sums.first += std::get<std::uint64_t>(row[count].value);
            sums.second += std::get<std::uint64_t>(row[left_out].value);
        }
        for (const auto& [name, sums] : listed) {
            SCOPED_TRACE(std::string(kind->id()) + " " + name);
            EXPECT_EQ(sums.first, counted[name].first);
            if (kind->id() != "functions") {  // pieces of a call that was switched away are listed too
                EXPECT_EQ(sums.second, counted[name].second);
            }
        }
    }
}

TEST_P(EveryKind, IsTheSameAsCsvJsonAndText) {
    const Measured of{*opened.trail, opened.recording->functions};
    for (const LaneKind* kind : LaneKinds::all()) {
        SCOPED_TRACE(kind->id());
        const auto rows = kind->rows(of);
        const auto csv = stats_lines(std::string(kind->id()), opened);
        const auto json = stats_json(*kind, of);
        ASSERT_EQ(csv.size(), rows.size() + 1);
        ASSERT_EQ(json.size(), rows.size());
        EXPECT_EQ(test::lines(stats_text(*kind, of)).size(), rows.size() + 1);
        for (std::size_t i = 0; i < rows.size(); ++i) {
            EXPECT_EQ(json[i].size(), kind->figures().size());
            EXPECT_EQ(json[i]["name"], std::get<std::string>(rows[i].cells[figure(*kind, "name")].value));
        }
    }
}

// The index of each activity is the same in the table, in the names and in what spans say of themselves.
TEST_P(EveryKind, KnowsItsActivitiesByOneNumber) {
    for (const LaneKind* kind : LaneKinds::all()) {
        SCOPED_TRACE(kind->id());
        std::map<std::uint64_t, std::string> names;
        for (const auto& name : kind->names(*opened.trail)) names[name.index] = name.name;
        const std::size_t name = std::min(figure(*kind, "full_name"), kind->figures().size()) < kind->figures().size()
                                     ? figure(*kind, "full_name")
                                     : figure(*kind, "name");
        for (const auto& [activity, cells] : kind->rows({*opened.trail, opened.recording->functions}))
            if (activity != kNoActivity && !names.empty()) {
                EXPECT_EQ(names[activity], std::get<std::string>(cells[name].value));
            }
        for (const auto& [activity, known_as] : names) {
            const auto first = kind->first_from(*opened.trail, activity, {}, true),
                       worst = kind->worst(*opened.trail, activity);
            for (const auto& span : {first, worst})
                if (span) {
                    EXPECT_EQ(kind->activity_of(*opened.trail, *span), activity) << known_as;
                    EXPECT_EQ(span->lane, kind->lane_of(*opened.trail, activity)) << known_as;
                }
            if (!first) continue;
            // From the first on to others of the same, and back.
            SpanRef at = *first;
            for (int i = 0; i < 3; ++i) {
                const auto next = kind->next(*opened.trail, at, 1);
                if (!next) break;
                EXPECT_EQ(kind->activity_of(*opened.trail, *next), activity) << known_as;
                EXPECT_EQ(kind->next(*opened.trail, *next, -1), at) << known_as;
                at = *next;
            }
        }
    }
}

TEST_P(EveryKind, DrawsLanesThatFindTheirSpansAsAPlainWalkDoes) {
    const Trail& trail = *opened.trail;
    std::mt19937 random(7);
    for (const LaneKind* kind : LaneKinds::all())
        for (const std::uint64_t index : kind->lanes(trail)) {
            const auto lane = kind->lane(trail, index);
            ASSERT_NE(lane, nullptr);
            SCOPED_TRACE(std::string(kind->id()) + " " + lane->name());
            EXPECT_FALSE(lane->name().empty());
            EXPECT_LT(lane->core(), trail.cores.size());
            for (std::size_t level = 0; level < std::min<std::size_t>(lane->levels(), 4); ++level) {
                const std::size_t n = std::min<std::size_t>(lane->size(level), 3000);
                for (int turn = 0; turn < 12 && n > 0; ++turn) {
                    const Time from = lane->span(level, random() % n).begin + Time{static_cast<int>(random() % 3) - 1},
                               to = from + Time{static_cast<std::int64_t>(random() % 5'000'000'000)};
                    const auto [first, last] = lane->touching(level, from, to);
                    ASSERT_LE(first, last);
                    ASSERT_LE(last, lane->size(level));
                    std::size_t longest = first, next = n;
                    for (std::size_t i = 0; i < n; ++i) {
                        const Span s = lane->span(level, i);
                        ASSERT_LE(s.begin, s.end);
                        const bool within = i >= first && i < last;
                        if (s.end > from && s.begin < to) {
                            EXPECT_TRUE(within) << i;
                        }
                        if (within && lane->ordered()) {
                            EXPECT_TRUE(s.end >= from && s.begin <= to) << i;
                        }
                        if (within && s.length() > lane->span(level, longest).length()) longest = i;
                        if (next == n && s.begin >= from) next = i;
                    }
                    if (last < n && next < n && lane->ordered()) {
                        EXPECT_EQ(lane->first_from(level, from), next);
                    }
                    if (first < last && last <= n && lane->span(level, longest).whole() &&
                        lane->shape() != Shape::states) {
                        EXPECT_EQ(lane->span(level, lane->longest(level, first, last)).length(),
                                  lane->span(level, longest).length());
                    }
                }
                if (n > 0) {
                    EXPECT_FALSE(
                        lane->told(lane->span(level, 0).begin, std::pair(level, std::size_t{0})).title.empty());
                }
            }
            EXPECT_NO_THROW(lane->told(trail.end, std::nullopt));
            // Parts and states lie in order within what they are parts of.
            Time before = Time::min();
            lane->each_state(Time{}, trail.end, [&](const LaneState& s) {
                EXPECT_LE(s.begin, s.end);
                EXPECT_GE(s.begin, before);
                before = s.begin;
            });
        }
}

TEST_P(EveryKind, SaysSomethingOfMomentsAndLeadsToWhatItNames) {
    const Trail& trail = *opened.trail;
    std::size_t said = 0;
    for (int i = 0; i <= 20; ++i)
        for (std::size_t core = 0; core < trail.cores.size(); ++core)
            for (const LaneKind* kind : LaneKinds::all())
                for (const Phrase& phrase : kind->moment(trail, core, Time{trail.end.ps / 20 * i})) {
                    EXPECT_FALSE(phrase.empty());
                    for (const Said& piece : phrase) {
                        ++said;
                        if (!piece.link) continue;
                        const auto lane = piece.link->lane.kind->lane(trail, piece.link->lane.index);
                        ASSERT_NE(lane, nullptr);
                        EXPECT_LT(piece.link->index, lane->size(piece.link->level));
                    }
                }
    EXPECT_GT(said, 0U);
}

INSTANTIATE_TEST_SUITE_P(Recordings, EveryKind,
                         testing::Values("mount/mount.target.toml", "tasks/mount-a/trace", "tasks/mount-b/trace",
                                         "steps/rv-ntrace-mount-htm/recording.target.toml",
                                         "steps/arm-etm-mount-rs/recording.target.toml",
                                         "steps/arm-mtb-paddle/recording.target.toml"));

TEST(LaneKinds, AreFoundByTheIdThatTheyHave) {
    for (const LaneKind* kind : LaneKinds::all()) EXPECT_EQ(LaneKinds::find(kind->id()), kind);
    EXPECT_EQ(LaneKinds::find("dragons"), nullptr);
    EXPECT_EQ(LaneKinds::ids_text().substr(0, 28), "interrupts, tasks, functions");
}

TEST(ANewKind, IsInTablesFilesAndByNameWithoutAnyOtherChange) {
    static const test::Pins pins;
    LaneKinds::all().push_back(&pins);
    const auto o = test::decode(test::data("mount/mount.target.toml"));
    EXPECT_EQ(
        stats_lines("pins", o),
        (std::vector<std::string>{test::lines(std::string("name,number,count,left_out,total,own,min,mean,max,stddev,"
                                                          "p95,p99,period_min,period_mean,period_max,response_min,"
                                                          "response_mean,response_max,share\n"))[0],
                                  "dome light,,2,,,,2000.000,,5000.000,,,,,,,,,,"}));
    EXPECT_EQ(stats_json(pins, {*o.trail}).dump(), R"([{"name":"dome light","count":2,"min":2000.0,"max":5000.0}])");
    EXPECT_NE(stats_text(pins, {*o.trail}).find("pulses"), std::string::npos);
    EXPECT_EQ(instance_lines("dome light", o),
              (std::vector<std::string>{"begin_ns,end_ns", "10000.000,12000.000", "30000.000,35000.000"}));
    LaneKinds::all().pop_back();
}

// Two samples hold for a millisecond, one for eight: the mean is that of time, not of samples.
TEST(Values, AreWeighedByTheTimeForWhichTheyHold) {
    test::WrittenEvents events;
    events.write(0,
                 event(OsKind::object_name, 4, text_and_priority(0, 0), static_cast<std::uint8_t>(ObjectKind::signal)));
    for (const auto& [us, value] : {std::pair{1'000, 100}, {2'000, -20}, {3'000, 10}, {11'000, 7}})
        events.write(us, event(OsKind::signal, 4, value));
    const auto o = events.decode();
    const auto lines = stats_lines("values", o);
    ASSERT_EQ(lines.size(), 2U);
    EXPECT_EQ(lines[0], "name,core,unit,samples,left_out,min,mean,max,first,last,min_at_ns,max_at_ns");
    EXPECT_EQ(lines[1].substr(lines[1].find(",,")), ",,4,1,-20,16,100,100,7,2000000.000,1000000.000")
        << "(100 - 20 + 8 x 10) / 10 of a unit";
    EXPECT_EQ(instance_lines("work", o).size(), 5U);
    EXPECT_EQ(instance_lines("work", o)[2], "1,2000000.000,-20,,written,,2000000.000");
}

TEST(Queues, ListWhatCameAndWent) {
    const auto o = test::decode(test::data("tasks/mount-a/trace"));
    const auto stats = stats_lines("queues", o);
    ASSERT_GT(stats.size(), 1U);
    EXPECT_EQ(stats[0], "name,number,sent,received,refused,fill_max,stay_min,stay_mean,stay_max,stay_p99");
    const std::string name = stats[1].substr(0, stats[1].find(','));
    std::uint64_t sent = 0;
    for (const std::string& line : instance_lines(name, o)) sent += line.find(",sent,") != std::string::npos ? 1u : 0u;
    EXPECT_NE(stats[1].find("," + std::to_string(sent) + ","), std::string::npos) << stats[1];
}

// A fill of 2^32 - 1 is what damaged events tell; one more is no entry at all.
TEST(Queues, OfAnImpossibleFillHaveNoStay) {
    test::WrittenEvents events;
    events.write(0, event(OsKind::queue_send, 4, 0xFFFF'FFFF));
    events.write(1'000, event(OsKind::queue_receive, 4, 0xFFFF'FFFF));
    events.write(2'000, event(OsKind::queue_receive, 4, 0xFFFF'FFFF));
    const auto lines = stats_lines("queues", events.decode());
    ASSERT_EQ(lines.size(), 2U);
    EXPECT_EQ(lines[1].substr(lines[1].find(",1,2,")), ",1,2,0,4294967295,,,,") << lines[1];
}

}  // namespace
}  // namespace mt
