// Where the person looks, and the ticks of the time scale.
#include "navigate/viewpoint.h"

#include <gtest/gtest.h>

#include <QTest>

#include "look/time_axis.h"

namespace mt::app {
namespace {

std::vector<std::string> labels(const TimeTicks& t) {
    std::vector<std::string> all;
    for (const auto& tick : t.ticks) all.push_back(tick.label.toStdString());
    return all;
}

TEST(TimeTicks, AreRoundAndHaveOneUnit) {
    EXPECT_EQ(
        labels(time_ticks({}, Time::from_ms(20'000), 10)),
        (std::vector<std::string>{"0 s", "2 s", "4 s", "6 s", "8 s", "10 s", "12 s", "14 s", "16 s", "18 s", "20 s"}));
    EXPECT_EQ(labels(time_ticks(Time::from_us(12), Time::from_us(88), 4)),
              (std::vector<std::string>{"20 µs", "40 µs", "60 µs", "80 µs"}));
}

TEST(TimeTicks, FarFromTheStartTheyCountFromARoundPlaceSaidOnce) {
    const auto t = time_ticks(Time::from_us(7'063'012.0), Time::from_us(7'063'152.0), 7);
    EXPECT_EQ(t.offset_text.toStdString(), "from 7.063 s");
    EXPECT_EQ(labels(t).front(), "20 µs");
    for (const auto& tick : t.ticks) EXPECT_EQ((tick.at - t.offset).ps % 20'000'000, 0);
}

TEST(TimeTicks, ReachDownToNanoseconds) {
    const auto t = time_ticks(Time{7'063'117'800'000}, Time{7'063'117'810'000}, 5);
    ASSERT_GE(t.ticks.size(), 4U);
    EXPECT_NE(labels(t).front().find("ns"), std::string::npos);
    EXPECT_EQ((t.ticks[1].at - t.ticks[0].at).ps, 2000);
}

TEST(Viewpoint, StaysInsideTheRecording) {
    Viewpoint v;
    v.reset(Time::from_ms(100));
    v.show(Time::from_ms(-50), Time::from_ms(10));
    EXPECT_EQ(v.from(), Time{});
    EXPECT_EQ(v.to(), Time::from_ms(60));
    v.show(Time::from_ms(500), Time::from_ms(510));
    EXPECT_EQ(v.to(), Time::from_ms(101)) << "a tenth of the window behind the end";
    v.show({}, Time::from_ms(4000));
    EXPECT_EQ(v.to(), Time::from_ms(100));
}

TEST(Viewpoint, AWholeViewGrowsWithTheRecordingAnotherDoesNot) {
    Viewpoint v;
    v.reset(Time::from_ms(100));
    v.extend(Time::from_ms(300));
    EXPECT_EQ(v.to(), Time::from_ms(300));
    v.show(Time::from_ms(10), Time::from_ms(20));
    v.extend(Time::from_ms(500));
    EXPECT_EQ(v.to(), Time::from_ms(20));
}

TEST(Viewpoint, StepsThatFollowCloselyAreOneVisit) {
    Viewpoint v;
    v.reset(Time::from_ms(100));
    for (int i = 0; i < 20; ++i) v.zoom(0.9, Time::from_ms(50));
    v.go_to(Time::from_ms(1), Time::from_ms(2), Time::from_ms(1));
    v.back();
    EXPECT_LT(v.to() - v.from(), Time::from_ms(20)) << "where the wheel had led";
    v.back();
    EXPECT_EQ(v.to() - v.from(), Time::from_ms(100)) << "the whole";
    EXPECT_FALSE(v.can_go_back());
    v.forward();
    v.go_to(Time::from_ms(5), Time::from_ms(6), Time::from_ms(5));
    EXPECT_FALSE(v.can_go_forward()) << "a new way ends the old one";
}

}  // namespace
}  // namespace mt::app
