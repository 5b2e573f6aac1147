// Timestamps and the bounds that they put on the packets before them.
#include "flow/local_time.h"

#include <gtest/gtest.h>

namespace mt {
namespace {

const Clock kTenNsClock{100'000'000};  // 10 ns a cycle

ItmPacket packet(ItmKind kind, std::uint64_t value = 0, unsigned number = 0) {
    static std::uint64_t offset = 0;
    return {offset++, value, 1, static_cast<std::uint16_t>(number), kind, 0};
}
ItmPacket event() { return packet(ItmKind::exc_enter, 0, 16); }
ItmPacket stamp(std::uint64_t ticks, unsigned relation = 0) { return packet(ItmKind::local_time_1, ticks, relation); }
// A global timestamp with `bytes` of payload: only so many low bits are sent.
ItmPacket global(std::uint64_t count, unsigned bytes = 4) {
    ItmPacket p = packet(ItmKind::global_time_1, count & ((std::uint64_t{1} << std::min(26u, 7 * bytes)) - 1));
    p.size = static_cast<std::uint8_t>(bytes);
    return p;
}

std::vector<TimedPacket> timed(LocalTime& time, const std::vector<ItmPacket>& packets) {
    std::vector<TimedPacket> out;
    time.feed(packets, out);
    time.finish(out);
    return out;
}
std::vector<TimedPacket> timed(const std::vector<ItmPacket>& packets, unsigned prescaler = 1) {
    LocalTime time(kTenNsClock, prescaler);
    return timed(time, packets);
}

TEST(LocalTime, ASynchronousTimestampIsExact) {
    const auto out = timed({event(), stamp(150)});
    EXPECT_EQ(out[0].earliest, Time::from_ns(1500));
    EXPECT_EQ(out[0].latest, Time::from_ns(1500));
}

TEST(LocalTime, TheShortFormIsSynchronous) {
    const auto out = timed({event(), packet(ItmKind::local_time_2, 6)});
    EXPECT_EQ(out[0].earliest, Time::from_ns(60));
}

TEST(LocalTime, ADelayedTimestampLeavesBothEndsOfTheBound) {
    for (const unsigned relation : {1u, 2u, 3u}) {
        const auto out = timed({event(), stamp(100), event(), event(), stamp(50, relation)});
        for (const std::size_t i : {2u, 3u}) {
            EXPECT_EQ(out[i].earliest, Time::from_ns(1000)) << "not before the timestamp before it";
            EXPECT_EQ(out[i].latest, Time::from_ns(1500));
        }
    }
}

TEST(LocalTime, ThePrescalerMultipliesTicks) {
    EXPECT_EQ(timed({event(), stamp(10)}, 64)[0].latest, Time::from_ns(6400));
}

TEST(LocalTime, LossReachesBackToTheLastKnownTime) {
    const auto out = timed({event(), stamp(100), packet(ItmKind::overflow), event(), stamp(900)});
    EXPECT_EQ(out[2].earliest, Time::from_ns(1000));
    EXPECT_EQ(out[2].latest, Time::from_ns(10000));
    EXPECT_EQ(out[3].earliest, Time::from_ns(10000)) << "the event behind it is exact again";
}

TEST(LocalTime, WhatNoTimestampFollowsIsUndated) {
    LocalTime time(kTenNsClock, 1);
    const auto out = timed(time, {event(), stamp(10), event()});
    EXPECT_EQ(out[2].latest, Time::from_ns(100));
    EXPECT_EQ(time.undated(), 1U);
}

TEST(LocalTime, GlobalTimestampsRestoreTheTimeThatDamageSwallowed) {
    LocalTime time(kTenNsClock, 1);
    const auto out =
        timed(time, {event(), stamp(1000), global(500'000), event(), stamp(1000), global(501'000), event(), stamp(10),
                     packet(ItmKind::damage),  // 40 000 cycles vanish with their timestamps
                     event(), stamp(200), global(541'210), event(), stamp(5)});
    EXPECT_EQ(time.restored_lengths(), 1U);
    EXPECT_EQ(time.unknown_lengths(), 0U);
    EXPECT_EQ(out[9].latest, kTenNsClock.at(2010 + 40'000 + 200)) << "the first event after the damage";
    EXPECT_EQ(out[12].latest, kTenNsClock.at(2010 + 40'000 + 205));
    EXPECT_EQ(out[8].earliest, kTenNsClock.at(2010)) << "the gap begins where knowledge ended";
}

TEST(LocalTime, OnlyAGlobalTimestampWithAllItsBitsRestoresTime) {
    LocalTime time(kTenNsClock, 1);
    const auto out = timed(time, {event(), stamp(1000), global(5'000'000), event(), stamp(1000), global(5'001'000, 2),
                                  packet(ItmKind::damage), event(), stamp(100),
                                  global(7'501'100, 2),  // its upper bits may have changed while nothing was seen
                                  event(), stamp(100), global(7'501'200, 4), event(), stamp(10)});
    EXPECT_EQ(time.restored_lengths(), 1U);
    EXPECT_EQ(out[7].latest, kTenNsClock.at(2000 + 2'500'000 + 100));
}

TEST(LocalTime, WithoutGlobalTimestampsTheLengthOfAGapStaysUnknown) {
    LocalTime time(kTenNsClock, 1);
    timed(time, {event(), stamp(1000), packet(ItmKind::damage), event(), stamp(10)});
    EXPECT_EQ(time.unknown_lengths(), 1U);
}

TEST(LocalTime, TheRateOfGlobalTimeIsMeasured) {
    LocalTime time(kTenNsClock, 1);
    timed(time, {event(), stamp(1000), global(0), event(), stamp(10'000), global(40'000)});
    EXPECT_NEAR(time.global_rate(), 4.0, 0.01);
}

TEST(LocalTime, TimeNeverRunsBackwardsAndNeverOverflows) {
    std::vector<ItmPacket> packets;
    for (int i = 0; i < 3000; ++i) {
        packets.push_back(i % 7 == 0   ? packet(ItmKind::damage)
                          : i % 5 == 0 ? global(static_cast<std::uint64_t>(i) * 77'777'777)
                                       : event());
        packets.push_back(stamp((1u << 28) - 1, static_cast<unsigned>(i) % 4));
    }
    Time last{};
    for (const auto& p : timed(packets, 64)) {
        EXPECT_GE(p.latest, last);
        EXPECT_LE(p.earliest, p.latest);
        last = p.latest;
    }
}

TEST(Clock, CyclesSurviveTheWayThroughPicoseconds) {
    for (const std::uint64_t hz : {32'768ULL, 72'000'000ULL, 120'000'000ULL, 333'333'333ULL, 1'000'000'000ULL})
        for (const std::int64_t cycles : {0LL, 1LL, 7LL, 34'209'898LL, 200'000'000'000LL, -5LL})
            EXPECT_EQ(Clock{hz}.cycles(Clock{hz}.at(cycles)), cycles) << hz;
}

}  // namespace
}  // namespace mt
