// Numbers as people read them: digits that matter, a unit that fits, and no surprise at the edges.
#include "base/text.h"

#include <gtest/gtest.h>

#include <limits>
#include <random>

namespace mt {
namespace {

// With ordinary spaces between groups of digits.
std::string plain(std::string text) {
    for (std::size_t at; (at = text.find("\u202F")) != std::string::npos;) text.replace(at, 3, " ");
    return text;
}

TEST(Durations, HaveThreeOrFourDigitsAndTheUnitThatFits) {
    const std::pair<std::int64_t, const char*> cases[] = {{0, "0 s"},
                                                          {1, "1 ps"},
                                                          {999, "999 ps"},
                                                          {1'000, "1.00 ns"},
                                                          {74'300'000, "74.3 µs"},
                                                          {999'400, "999 ns"},
                                                          {1'500'000'000, "1.50 ms"},
                                                          {12'340'000'000'000, "12.340 s"}};
    for (const auto& [ps, text] : cases) EXPECT_EQ(plain(duration_text(Time{ps})), text) << ps;
}

TEST(Durations, AreNeverFurtherOffThanTheirLastDigit) {
    std::mt19937_64 random(4);
    for (int i = 0; i < 20'000; ++i) {
        const std::int64_t ps = static_cast<std::int64_t>(random() >> (2 + random() % 60));
        const std::string text = plain(duration_text(Time{ps}));
        std::string number = text.substr(0, text.rfind(' '));
        std::erase(number, ' ');
        const std::string unit = text.substr(text.rfind(' ') + 1);
        const double scale = unit == "ps" ? 1 : unit == "ns" ? 1e3 : unit == "µs" ? 1e6 : unit == "ms" ? 1e9 : 1e12;
        EXPECT_NEAR(std::stod(number) * scale, static_cast<double>(ps), static_cast<double>(ps) * 0.006 + 0.5) << text;
    }
}

TEST(Durations, ThatAreNegativeOrHugeAreTextAllTheSame) {
    for (const std::int64_t ps : {std::numeric_limits<std::int64_t>::max(),
                                  std::numeric_limits<std::int64_t>::min() + 1, std::int64_t{-5'000'000}}) {
        const std::string text = duration_text(Time{ps});
        EXPECT_FALSE(text.empty());
        EXPECT_EQ(text.find("nan"), std::string::npos);
        EXPECT_EQ(ps < 0, plain(text)[0] == '-') << text;
    }
}

TEST(Moments, HaveNineDigitsBehindThePointInGroups) {
    EXPECT_EQ(plain(moment_text(Time{})), "0.000 000 000 s");
    EXPECT_EQ(plain(moment_text(Time{7'063'117'800'000})), "7.063 117 800 s");
    EXPECT_EQ(plain(moment_text(Time{999'999'999'499})), "0.999 999 999 s");
    EXPECT_EQ(plain(moment_text(Time{86'400'000'000'000'000})), "86400.000 000 000 s");
}

TEST(Nanoseconds, AreExactToThePicosecond) {
    EXPECT_EQ(ns_text(Time{117'800'125}), "117800.125");
    EXPECT_EQ(ns_text(Time{-1}), "-0.001");
    EXPECT_EQ(ns_text(Time{}), "0.000");
    std::mt19937_64 random(6);
    for (int i = 0; i < 5'000; ++i) {
        const auto ps = static_cast<std::int64_t>(random() >> (1 + random() % 60)) * (random() % 2 == 0 ? 1 : -1);
        std::string text = ns_text(Time{ps});
        text.erase(text.find('.'), 1);
        EXPECT_EQ(std::stoll(text), ps);
    }
}

TEST(Counts, StandInGroupsOfThree) {
    EXPECT_EQ(plain(count_text(0)), "0");
    EXPECT_EQ(plain(count_text(999)), "999");
    EXPECT_EQ(plain(count_text(1'234'567)), "1 234 567");
    EXPECT_EQ(plain(count_text(~std::uint64_t{0})), "18 446 744 073 709 551 615");
}

TEST(Shares, KeepThreeDigitsHoweverSmall) {
    EXPECT_EQ(share_text(0), "0.000 %");
    EXPECT_EQ(share_text(1), "100 %");
    EXPECT_EQ(share_text(0.123), "12.3 %");
    EXPECT_EQ(share_text(0.00042), "0.042 %");
}

TEST(Sizes, AreDecimal) {
    EXPECT_EQ(plain(bytes_text(0)), "0 B");
    EXPECT_EQ(plain(bytes_text(1)), "1 B");
    EXPECT_EQ(plain(bytes_text(2'100'000)), "2.10 MB");
}

TEST(Frequencies, AreThoseOfTheirPeriods) {
    EXPECT_EQ(plain(frequency_text(Time::from_us(250))), "4.00 kHz");
    EXPECT_EQ(plain(frequency_text(Time::from_ms(1))), "1.00 kHz");
    EXPECT_EQ(frequency_text(Time{}), "");
    EXPECT_EQ(frequency_text(Time{-5}), "");
}

TEST(Hexadecimal, HasAtLeastAsManyDigitsAsAskedFor) {
    EXPECT_EQ(hex_text(0x3a2f1), "0x0003a2f1");
    EXPECT_EQ(hex_text(0x3a2f1, 2), "0x3a2f1");
    EXPECT_EQ(hex_text(~std::uint64_t{0}), "0xffffffffffffffff");
    const std::uint8_t bytes[] = {0x0E, 0x10, 0x20};
    EXPECT_EQ(hex_bytes(bytes), "0e 10 20");
    EXPECT_EQ(hex_bytes({}), "");
}

TEST(Plurals, CountOneApart) {
    EXPECT_EQ(plural(0, "gap", "gaps"), "0 gaps");
    EXPECT_EQ(plural(1, "gap", "gaps"), "1 gap");
    EXPECT_EQ(plain(plural(1'200, "gap", "gaps")), "1 200 gaps");
}

// Cycles to times and back is the identity wherever a cycle is longer than two picoseconds.
TEST(Clocks, GiveBackTheCyclesThatTheyWereGiven) {
    std::mt19937_64 random(12);
    for (const std::uint64_t hz : {32'768ull, 1'000'000ull, 72'000'000ull, 168'000'001ull, 4'999'999'999ull}) {
        const Clock clock{hz};
        for (int i = 0; i < 2'000; ++i) {
            // Within 100 days, which is what a time reaches.
            const auto cycles = static_cast<std::int64_t>((random() >> (1 + random() % 60)) % (hz * 8'640'000));
            EXPECT_EQ(clock.cycles(clock.at(cycles)), cycles) << hz;
            EXPECT_EQ(clock.cycles(clock.at(-cycles)), -cycles) << hz;
        }
        EXPECT_GT(clock.at(std::numeric_limits<std::int64_t>::max()), Time{}) << "saturates, does not wrap";
        EXPECT_LT(clock.at(std::numeric_limits<std::int64_t>::min() + 1), Time{});
    }
}

}  // namespace
}  // namespace mt
