// Where a moment stands among samples: of even ones it is computed, and must be what counting them says.
#include "model/sample_column.h"

#include <gtest/gtest.h>

#include <bit>
#include <random>

namespace mt {
namespace {

std::size_t counted(const SampleColumn& samples, Time t, bool also_equal) {
    std::size_t n = 0;
    for (std::size_t i = 0; i < samples.size(); ++i) n += samples.time(i) < t || (also_equal && samples.time(i) == t);
    return n;
}

void every_moment_is_where_counting_says(const SampleColumn& samples) {
    for (std::size_t i = 0; i < samples.size(); ++i)
        for (const std::int64_t aside : {-1, 0, 1}) {
            const Time t{samples.time(i).ps + aside};
            EXPECT_EQ(samples.before(t), counted(samples, t, false)) << i;
            EXPECT_EQ(samples.up_to(t), counted(samples, t, true)) << i;
        }
    for (const Time t : {Time{-1'000'000'000}, Time{1'000'000'000'000}, Time::max()}) {
        EXPECT_EQ(samples.before(t), counted(samples, t, false));
        EXPECT_EQ(samples.up_to(t), counted(samples, t, true));
    }
}

SampleColumn even_with_stretches(long double period_ps) {
    SampleColumn samples;
    samples.make_even(period_ps, {});
    std::int64_t at = 5'000;
    for (int stretch = 0; stretch < 3; ++stretch) {
        samples.begin_stretch(Time{at});
        for (int i = 0; i < 40; ++i) samples.push_word(static_cast<std::uint64_t>(i));
        at += static_cast<std::int64_t>(period_ps * 40) + 123'456;
    }
    return samples;
}

TEST(SamplesInTime, AreFoundByTheirMomentHoweverTheyStand) {
    SampleColumn none;
    EXPECT_EQ(none.before(Time{}), 0u);
    EXPECT_EQ(none.up_to(Time::max()), 0u);
    std::mt19937 random(3);
    SampleColumn each;
    std::int64_t at = -40;
    for (int i = 0; i < 100; ++i) each.push_back({Time{at += static_cast<std::int64_t>(random() % 4)}, random()});
    every_moment_is_where_counting_says(each);
}

TEST(SamplesInTime, OfEvenOnesAreFoundAcrossTheirStretches) {
    every_moment_is_where_counting_says(even_with_stretches(20'000'000));
    every_moment_is_where_counting_says(even_with_stretches(333.333333333333L));
    every_moment_is_where_counting_says(even_with_stretches(1));
}

TEST(SamplesInTime, OfEvenOnesAreFoundOnAnotherClockToo) {
    SampleColumn samples = even_with_stretches(20'000.5L);
    samples.retime(-123'456.75L, 1.0000317L);
    every_moment_is_where_counting_says(samples);
}

TEST(SamplesInTime, OfEvenOnesKeepAllBitsOfWhatWasSent) {
    SampleColumn samples;
    EvenReading reading;
    reading.word = EvenReading::Word::real64;
    samples.make_even(1000, reading);
    samples.begin_stretch(Time{});
    const double values[] = {-1.5, 3.0e300, 0.1};
    for (const double v : values) samples.push_word(std::bit_cast<std::uint64_t>(v));
    for (std::size_t i = 0; i < 3; ++i) {
        EXPECT_EQ(samples.bits(i), std::bit_cast<std::uint64_t>(values[i]));
        EXPECT_EQ(samples[i].bits, samples.bits(i));
        EXPECT_EQ(samples[i].time, samples.time(i));
    }
}

}  // namespace
}  // namespace mt
