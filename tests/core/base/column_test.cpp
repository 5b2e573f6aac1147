#include "base/column.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <random>

#include "base/text.h"
#include "model/trail.h"

namespace mt {
namespace {

TEST(Column, ASnapshotKeepsItsLengthWhileTheOriginalGrows) {
    Column<int> c;
    for (int i = 0; i < 10'000; ++i) c.push_back(i);
    const Column<int> snapshot = c;
    for (int i = 0; i < 20'000; ++i) c.push_back(-i);
    EXPECT_EQ(snapshot.size(), 10'000U);
    EXPECT_EQ(snapshot.back(), 9'999);
    EXPECT_EQ(&snapshot[5], &c[5]) << "without copying the elements";
}

TEST(Column, ASnapshotThatIsAppendedToGoesItsOwnWay) {
    Column<int> c;
    for (int i = 0; i < 10; ++i) c.push_back(i);
    Column<int> other = c;
    c.push_back(100);
    other.push_back(200);
    EXPECT_EQ(c[10], 100);
    EXPECT_EQ(other[10], 200);
    EXPECT_EQ(other[9], 9);
}

TEST(Column, GoesOnInAFileWhenTheHeapIsUsedUp) {
    set_heap_for_columns(0);
    const std::size_t before = chunk_bytes_in_file();
    {
        Column<std::uint64_t> c;
        for (std::uint64_t i = 0; i < 20'000'000; ++i)
            c.push_back(i * 3);  // 160 MB: more than two stretches of the file
        const Column<std::uint64_t> snapshot = c;
        EXPECT_GE(chunk_bytes_in_file() - before, 160'000'000U);
        for (std::uint64_t i = 0; i < c.size(); i += 99'991) ASSERT_EQ(snapshot[i], i * 3);
    }
    EXPECT_EQ(chunk_bytes_in_file(), before) << "and gives it back";
    set_heap_for_columns(kHeapForColumns);
}

TEST(Column, BoundsAreThoseOfASortedRange) {
    Column<int> c;
    for (const int v : {1, 3, 3, 7}) c.push_back(v);
    EXPECT_EQ(c.lower_bound(3), 1U);
    EXPECT_EQ(c.upper_bound(3), 3U);
    EXPECT_EQ(c.lower_bound(8), 4U);
}

TEST(RangeMax, AgreesWithALookAtEveryElement) {
    std::mt19937 random(3);
    RangeMax<int> pyramid;
    std::vector<int> plain;
    for (int i = 0; i < 5000; ++i) {
        plain.push_back(static_cast<int>(random() % 1000));
        pyramid.push_back(plain.back());
    }
    for (int k = 0; k < 3000; ++k) {
        std::size_t a = random() % plain.size(), b = random() % plain.size();
        if (a > b) std::swap(a, b);
        ++b;
        const std::size_t at = pyramid.argmax(a, b, [&](std::size_t i) { return plain[i]; });
        ASSERT_GE(at, a);
        ASSERT_LT(at, b);
        ASSERT_EQ(plain[at], *std::max_element(plain.begin() + static_cast<std::ptrdiff_t>(a),
                                               plain.begin() + static_cast<std::ptrdiff_t>(b)))
            << a << ".." << b;
    }
}

TEST(Density, KeepsItsSumsHoweverLongTheRecordingGrows) {
    Density d;
    std::uint64_t n = 0;
    for (std::int64_t us = 1; us < 4'000'000'000; us += us / 50 + 1, ++n)
        d.add_sample(Time::from_us(static_cast<double>(us)), true);
    EXPECT_LE(d.buckets().size(), Density::kBuckets);
    EXPECT_EQ(d.sum({}, Time::max()).asleep, n);
    EXPECT_EQ(d.sum({}, Time::max()).events, n) << "a sample is an event, too";
}

TEST(Lane, BusyTimeIsThatOfTheInstancesWithin) {
    ExceptionLane lane(16, "ENC_INDEX");
    for (int i = 0; i < 100; ++i) {
        ExceptionInstance x;
        x.begin = Time::from_us(10 * i);
        x.end = x.begin + Time::from_us(3);
        x.own = Time::from_us(3);
        lane.append(x);
    }
    EXPECT_EQ(lane.busy({}, Time::from_us(1000)), Time::from_us(300));
    EXPECT_EQ(lane.busy(Time::from_us(11), Time::from_us(22)), Time::from_us(4))
        << "2 µs of the second, 2 µs of the third";
    EXPECT_EQ(lane.touching(Time::from_us(12), Time::from_us(21)), (std::pair<std::size_t, std::size_t>{1, 3}));
    EXPECT_EQ(lane.at(Time::from_us(12.9)), 1U);
    EXPECT_FALSE(lane.at(Time::from_us(13.1)));
}

TEST(Text, LengthsHaveThreeDigitsAndAUnit) {
    EXPECT_EQ(duration_text(Time::from_us(74.32)), "74.3 µs");
    EXPECT_EQ(duration_text(Time::from_ns(592)), "592 ns");
    EXPECT_EQ(duration_text(Time::from_ms(4.86)), "4.86 ms");
    EXPECT_EQ(duration_text(Time{20'004'000'000'000}), "20.004 s");
    EXPECT_EQ(duration_text(Time{999'960}), "1.00 µs");
    EXPECT_EQ(moment_text(Time{7'063'117'800'000}), "7.063 117 800 s");
    EXPECT_EQ(ns_text(Time{-1'500}), "-1.500");
    EXPECT_EQ(frequency_text(Time::from_us(250)), "4.00 kHz");
    EXPECT_EQ(share_text(0.00042), "0.042 %");
}

}  // namespace
}  // namespace mt
