// Kinds of activities: what each says of its figures and instances holds in every recording, and a new one needs
// nothing but itself.
#include "measure/activity_kind.h"

#include <gtest/gtest.h>

#include <array>
#include <set>

#include <nlohmann/json.hpp>

#include "share/activity_tables.h"
#include "written_events.h"

namespace mt {
namespace {

using test::event;

std::size_t figure(const ActivityKind& kind, std::string_view key) {
    const auto all = kind.figures();
    return static_cast<std::size_t>(
        std::find_if(all.begin(), all.end(), [key](const FigureInfo& f) { return f.key == key; }) - all.begin());
}

std::vector<std::string> stats_lines(const std::string& kind, const test::Opened& o) {
    std::ostringstream out;
    write_stats_csv(*ActivityKinds::find(kind), {*o.trail, o.recording->functions}, out);
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
    for (const ActivityKind* kind : ActivityKinds::all()) {
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
            EXPECT_EQ(row.size(), figures.size());
            EXPECT_TRUE(std::holds_alternative<std::string>(row[figure(*kind, "name")].value));
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
    for (const ActivityKind* kind : ActivityKinds::all()) {
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
        for (const auto& row : kind->rows({*opened.trail, opened.recording->functions})) {
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
    for (const ActivityKind* kind : ActivityKinds::all()) {
        SCOPED_TRACE(kind->id());
        const auto rows = kind->rows(of);
        const auto csv = stats_lines(std::string(kind->id()), opened);
        const auto json = stats_json(*kind, of);
        ASSERT_EQ(csv.size(), rows.size() + 1);
        ASSERT_EQ(json.size(), rows.size());
        EXPECT_EQ(test::lines(stats_text(*kind, of)).size(), rows.size() + 1);
        for (std::size_t i = 0; i < rows.size(); ++i) {
            EXPECT_EQ(json[i].size(), kind->figures().size());
            EXPECT_EQ(json[i]["name"], std::get<std::string>(rows[i][figure(*kind, "name")].value));
        }
    }
}

INSTANTIATE_TEST_SUITE_P(Recordings, EveryKind,
                         testing::Values("mount/mount.target.toml", "tasks/mount-a/trace", "tasks/mount-b/trace",
                                         "steps/rv-ntrace-mount-htm/recording.target.toml",
                                         "steps/arm-etm-mount-rs/recording.target.toml",
                                         "steps/arm-mtb-paddle/recording.target.toml"));

TEST(ActivityKinds, AreFoundByTheIdThatTheyHave) {
    for (const ActivityKind* kind : ActivityKinds::all()) EXPECT_EQ(ActivityKinds::find(kind->id()), kind);
    EXPECT_EQ(ActivityKinds::find("dragons"), nullptr);
    EXPECT_EQ(ActivityKinds::ids_text().substr(0, 28), "interrupts, tasks, functions");
}

// A pin: something that this program has never heard of.
struct Edge {
    Time time;
    bool up = false;
};
class Pins final : public ActivityKind {
  public:
    std::string_view id() const override { return "pins"; }
    std::string_view one() const override { return "a pin"; }
    std::span<const FigureInfo> figures() const override {
        static constexpr FigureInfo kAll[] = {{"name", "pin", "pin"},
                                              {"count", "pulses", "whole pulses"},
                                              {"min", "shortest", "shortest pulse"},
                                              {"max", "longest", "longest pulse"}};
        return kAll;
    }
    bool told(const Trail&) const override { return true; }
    std::string_view advice() const override { return ""; }
    std::vector<std::vector<Cell>> rows(const Measured&) const override {
        std::vector<Time> lengths;
        for (std::size_t i = 0; i + 1 < edges.size(); i += 2) lengths.push_back(edges[i + 1].time - edges[i].time);
        const Figures f = figures_of(lengths);
        return {{"dome light", f.count, f.least, f.greatest}};
    }
    std::vector<Name> names(const Trail&) const override { return {{"dome light", "", 0}}; }
    std::span<const std::string_view> instance_columns() const override {
        static constexpr std::string_view kAll[] = {"begin_ns", "end_ns"};
        return kAll;
    }
    void each_instance(const Trail&, std::size_t, const EachRow& each) const override {
        for (std::size_t i = 0; i + 1 < edges.size(); i += 2)
            if (!each(std::array<Cell, 2>{edges[i].time, edges[i + 1].time})) return;
    }
    std::vector<Edge> edges = {{Time::from_us(10), true},
                               {Time::from_us(12), false},
                               {Time::from_us(30), true},
                               {Time::from_us(35), false},
                               {Time::from_us(50), true}};
};

TEST(ANewKind, IsInTablesFilesAndByNameWithoutAnyOtherChange) {
    static const Pins pins;
    ActivityKinds::all().push_back(&pins);
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
    ActivityKinds::all().pop_back();
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
    EXPECT_EQ(instance_lines("work", o)[2], "1,2000000.000,-20,");
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

}  // namespace
}  // namespace mt
