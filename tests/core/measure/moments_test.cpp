// Events by name, stopwatches between them, and waymarks kept with a recording.
#include <gtest/gtest.h>

#include <sstream>

#include "measure/kinds/kinds.h"
#include "measure/moments.h"
#include "recording/waymarks.h"
#include "support.h"

namespace mt {
namespace {

class EventMoments : public ::testing::Test {
  protected:
    test::Opened open(const std::string& more) {
        test::write_file(folder / "t.target.toml",
                         "format = \"mindful-trail-target/1\"\n[[stream]]\nprotocol = \"ctf\"\nfile = \"" +
                             test::data("tasks/mount-a/trace") + "\"\n" + more);
        return test::decode(folder / "t.target.toml");
    }
    static std::string doubts(const test::Opened& o) {
        std::string all;
        for (const Doubt& d : o.trail->doubts) all += d.text + " " + d.advice + "\n";
        return all;
    }
    static std::string instances(const Trail& trail, const LaneKind& kind, const std::string& of) {
        std::string all;
        for (const LaneKind::Name& name : kind.names(trail))
            if (name.name == of)
                kind.each_instance(trail, name.index, [&](std::span<const Cell> row) {
                    for (const Cell& c : row) all += cell_plain(c) + ",";
                    all += "\n";
                    return true;
                });
        return all;
    }
    test::Folder folder;
};

TEST_F(EventMoments, OfATaskAndALockAreThoseOfItsJobsAndHolds) {
    const auto o = open("");
    const Trail& t = *o.trail;
    ASSERT_FALSE(t.tasks.tasks.empty());
    const TaskLane* busy = nullptr;
    for (const TaskLane& lane : t.tasks.tasks)
        if (busy == nullptr || lane.jobs.size() > busy->jobs.size()) busy = &lane;
    EventSpec e;
    e.of = busy->name;
    e.at = "end";
    const auto ends = moments_of(t, e);
    ASSERT_TRUE(ends) << ends.error().text();
    EXPECT_NEAR(static_cast<double>(ends->size()), static_cast<double>(busy->jobs.size()), 1);
    EXPECT_TRUE(std::is_sorted(ends->begin(), ends->end()));
    e.at = "send";
    EXPECT_NE(moments_of(t, e).error().text().find("\"ready\", \"start\" or \"end\""), std::string::npos);
    e.of = "trakc";
    EXPECT_NE(moments_of(t, e).error().text().find("nothing is called 'trakc'"), std::string::npos);
}

TEST_F(EventMoments, AStopwatchGoesFromEachToTheFirstBehindIt) {
    const Trail empty;
    const auto us = [](double v) { return Time::from_us(v); };
    const ResourceLane lane =
        stopwatch_of(empty, "x", {us(1), us(2), us(10), us(30)}, {us(0.5), us(5), us(12), us(20)});
    ASSERT_EQ(lane.uses.size(), 3U) << "the last has no end";
    EXPECT_EQ(lane.uses[0].end, us(5));
    EXPECT_EQ(lane.uses[1].end, us(5)) << "one end may be that of several";
    EXPECT_EQ(lane.uses[2].end, us(12));
}

TEST_F(EventMoments, AStopwatchOfTheTargetFileIsAnActivity) {
    const auto plain = open("");
    const std::string task = plain.trail->tasks.tasks.at(plain.trail->tasks.order()[0]).name;
    const auto o = open("[[stopwatch]]\nname = \"answer\"\nfrom = { of = \"" + task + "\", at = \"ready\" }\nto = { of = \"" +
                        task + "\", at = \"end\" }\n[[stopwatch]]\nname = \"odd\"\nfrom = { of = \"nobody at all\" }\nto = { of = \"" +
                        task + "\" }\n");
    const auto& kind = stopwatches_kind();
    const auto rows = kind.rows({*o.trail});
    ASSERT_EQ(rows.size(), 1U) << doubts(o);
    EXPECT_EQ(cell_text(*cell_of(kind, rows[0], "name")), "answer");
    // Ready to end is what the response of its jobs is.
    std::vector<Time> responses;
    const TaskLane& lane = o.trail->tasks.tasks[o.trail->tasks.order()[0]];
    for (std::size_t i = 0; i < lane.jobs.size(); ++i)
        if (lane.jobs[i].whole()) responses.push_back(lane.jobs[i].response());
    EXPECT_NEAR(std::get<Time>(cell_of(kind, rows[0], "mean")->value).seconds(), figures_of(responses).mean->seconds(),
                1e-6);
    EXPECT_NE(doubts(o).find("The stopwatch 'odd' cannot run: nothing is called 'nobody at all'"), std::string::npos)
        << doubts(o);
}

TEST_F(EventMoments, WaymarksAreKeptReadAndMeasured) {
    (void)open("");
    const std::string input = folder / "t.target.toml";
    const std::vector<Waymark> marks = {{"round", "", Time::from_ms(900), Time::from_ms(900)},
                                        {"heater \"on\"", "ask\nwhy", Time::from_ms(100), Time{150'000'000'123}},
                                        {"round", "second", Time::from_ms(400), Time::from_ms(400)}};
    ASSERT_TRUE(keep_waymarks(marks, input));
    EXPECT_TRUE(std::filesystem::exists(folder / "t.waymarks.toml"));
    const auto o = open("");
    ASSERT_EQ(o.trail->waymarks.size(), 3U) << doubts(o);
    EXPECT_EQ(o.trail->waymarks[0].name, "heater \"on\"");
    EXPECT_EQ(o.trail->waymarks[0].note, "ask\nwhy");
    EXPECT_EQ(o.trail->waymarks[0].until.ps, 150'000'000'123) << "to the picosecond";
    const auto rows = waymarks_kind().rows({*o.trail});
    ASSERT_EQ(rows.size(), 2U);
    EXPECT_EQ(cell_plain(*cell_of(waymarks_kind(), rows[1], "count")), "2");
    EXPECT_EQ(cell_plain(*cell_of(waymarks_kind(), rows[1], "period_mean")), "500000000.000");
    EXPECT_EQ(instances(*o.trail, waymarks_kind(), "round"),
              "1,400000000.000,400000000.000,0.000,round,second,\n2,900000000.000,900000000.000,0.000,round,,\n");
    const auto watched = open("[[stopwatch]]\nname = \"rounds\"\nfrom = { of = \"heater \\\"on\\\"\" }\nto = { of = \"round\" }\n");
    ASSERT_EQ(watched.trail->tasks.stopwatches.size(), 1U) << doubts(watched);
    EXPECT_EQ(watched.trail->tasks.stopwatches[0].uses[0].end, Time::from_ms(400));
}

TEST_F(EventMoments, WaymarksThatCannotBeReadAreSaidAndTheRecordingOpens) {
    test::write_file(folder / "t.waymarks.toml", "format = \"mindful-trail-waymarks/1\"\n[[waymark]]\nname = \"x\"\n");
    const auto o = open("");
    EXPECT_NE(doubts(o).find("The waymarks cannot be read: missing key 'at_ns'"), std::string::npos) << doubts(o);
    EXPECT_FALSE(parse_waymarks("format = \"mindful-trail-waymarks/2\"\n", "w.toml"));
    EXPECT_FALSE(parse_waymarks(
        "format = \"mindful-trail-waymarks/1\"\n[[waymark]]\nname = \"x\"\nat_ns = 5\nuntil_ns = 4\n", "w.toml"));
    EXPECT_FALSE(parse_waymarks("format = \"mindful-trail-waymarks/1\"\n[[waymark]]\nname = \"x\"\nat_ns = 1e300\n", "w.toml"));
    EXPECT_TRUE(parse_waymarks("format = \"mindful-trail-waymarks/1\"\n", "w.toml"));
}

}  // namespace
}  // namespace mt
