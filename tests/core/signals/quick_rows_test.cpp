// Files are read by a quick way where their rows are plain, and by a careful one where they are not: both tell the same.
#include <gtest/gtest.h>

#include <cstdio>
#include <random>
#include <string>
#include <vector>

#include "signals/signal_file.h"

namespace mt {
namespace {

SignalFile read(const std::string& text, bool vcd) {
    const std::span<const std::uint8_t> bytes(reinterpret_cast<const std::uint8_t*>(text.data()), text.size());
    auto file = vcd ? read_vcd(bytes, "f", {}) : read_csv_signals(bytes, "f", {});
    EXPECT_TRUE(file) << file.error().text();
    return file ? std::move(*file) : SignalFile{};
}

void expect_same(const SignalFile& a, const SignalFile& b, const std::string& about) {
    ASSERT_EQ(a.lanes.size(), b.lanes.size()) << about;
    EXPECT_EQ(a.end, b.end) << about;
    for (std::size_t l = 0; l < a.lanes.size(); ++l) {
        const ValueLane &x = a.lanes[l], &y = b.lanes[l];
        ASSERT_EQ(x.samples.size(), y.samples.size()) << about << ", lane " << l;
        EXPECT_EQ(x.sort, y.sort) << about;
        for (std::size_t i = 0; i < x.samples.size(); ++i) {
            ASSERT_EQ(x.samples.time(i), y.samples.time(i)) << about << ", sample " << i;
            ASSERT_EQ(x.text(i), y.text(i)) << about << ", sample " << i;
        }
        EXPECT_EQ(x.value_of(x.least).text(), y.value_of(y.least).text());
        EXPECT_EQ(x.value_of(x.greatest).text(), y.value_of(y.greatest).text());
    }
}

// A number with that many digits before and behind the point.
std::string number(std::mt19937_64& random, int before, int behind, char point) {
    std::string text = random() % 3 == 0 ? "-" : "";
    for (int i = 0; i < std::max(1, before); ++i) text += static_cast<char>('0' + random() % 10);
    if (behind > 0) text += point;
    for (int i = 0; i < behind; ++i) text += static_cast<char>('0' + random() % 10);
    return text;
}

// The same table plain, and with each cell in quotes, which the quick way does not take.
void both_ways(char separator, char point, const std::string& end, int digits, const std::vector<std::string>& odd) {
    std::mt19937_64 random(static_cast<std::uint64_t>(separator) * 100 + static_cast<std::uint64_t>(digits));
    std::string head = std::string("time [us]") + separator + "a" + separator + "b" + separator + "c" + end, plain = head, quoted = head;
    for (int row = 0; row < 400; ++row) {
        std::vector<std::string> cells{std::to_string(row * 5)};
        for (int c = 0; c < 3; ++c)
            cells.push_back(!odd.empty() && row > 0 && random() % 17 == 0 ? odd[random() % odd.size()]
                            : c == 0                                      ? number(random, static_cast<int>(random() % 5), 0, point)
                                     : number(random, static_cast<int>(random() % static_cast<unsigned>(digits)), static_cast<int>(random() % static_cast<unsigned>(digits)), point));
        for (std::size_t c = 0; c < cells.size(); ++c) {
            plain += (c > 0 ? std::string(1, separator) : "") + cells[c];
            quoted += (c > 0 ? std::string(1, separator) : "") + "\"" + cells[c] + "\"";
        }
        plain += end;
        quoted += end;
    }
    expect_same(read(plain, false), read(quoted, false), std::string("separator ") + separator + ", " + std::to_string(digits) + " digits");
}

TEST(RowsOfATable, AreTheSamePlainAndInQuotes) {
    for (const int digits : {1, 4, 9, 14}) {
        both_ways(',', '.', "\n", digits, {});
        both_ways(';', ',', "\r\n", digits, {});
        both_ways('\t', '.', "\n", digits, {"", "1e3", "-2.5E-2", "+7", "nan", "inf", "word", " 12 ", "-", ".5", "5.", "--1", "1.2.3"});
        both_ways(';', '.', "\n", digits, {"", "12345678901234567890", "0.00000000000000000001", "1.7976931348623157e308"});
    }
}

TEST(RowsOfATable, RoundNumbersAsTheyAreToBeRounded) {
    std::mt19937_64 random(11);
    std::string text = "time [us];v\n0;0.5\n";
    std::vector<std::string> cells{"0.5"};
    for (int i = 1; i < 2000; ++i) {
        cells.push_back(number(random, 1 + static_cast<int>(random() % 7), 1 + static_cast<int>(random() % 8), '.'));
        text += std::to_string(i) + ";" + cells.back() + "\n";
    }
    const SignalFile file = read(text, false);
    ASSERT_EQ(file.lanes.size(), 1U);
    ASSERT_EQ(file.lanes[0].samples.size(), cells.size());
    for (std::size_t i = 0; i < cells.size(); ++i)
        EXPECT_EQ(file.lanes[0].value(i).number(), std::stod(cells[i])) << cells[i];
}

TEST(RowsOfATable, AColumnThatTurnsToFractionsWordsOrNothingInItsMiddleKeepsWhatCameBefore) {
    const SignalFile file = read("time [ms],whole,late,gone\n0,1,,4\n1,2,,5\n2,2.5,on,\n3,4,off,6\n", false);
    ASSERT_EQ(file.lanes.size(), 3U);
    EXPECT_EQ(file.lanes[0].text(0), "1");
    EXPECT_EQ(file.lanes[0].text(2), "2.5");
    EXPECT_EQ(file.lanes[0].sort, ValueSort::real);
    ASSERT_EQ(file.lanes[1].samples.size(), 2U);
    EXPECT_EQ(file.lanes[1].text(0), "on");
    EXPECT_EQ(file.lanes[1].samples.time(0), Time::from_ms(2));
    ASSERT_EQ(file.lanes[2].samples.size(), 3U) << "what is missing is no sample";
}

TEST(ChangesInADump, AreTheSameHoweverTheyAreWritten) {
    std::mt19937_64 random(5);
    const std::string head = "$timescale 1 ns $end\n$var wire 1 ! a $end\n$var wire 1 \" b $end\n$var wire 1 ab long $end\n$enddefinitions $end\n";
    std::string plain = head, spread = head;
    for (std::uint64_t t = 0; t < 3000; t += random() % 9) {
        const std::string stamp = "#" + std::to_string(t);
        plain += stamp + "\n";
        spread += " " + stamp + "\t\r\n";
        for (const char* code : {"!", "\"", "ab", "?"}) {
            if (random() % 2 == 0) continue;
            const char value = "01xzXZhl"[random() % 8];
            plain += std::string(1, value) + code + "\n";
            spread += std::string("b") + (value == 'h' ? '1' : value == 'l' ? '0' : value) + "   " + code + " \r\n";
        }
    }
    expect_same(read(plain, true), read(spread, true), "plain and as vectors of one bit");
}

TEST(ChangesInADump, EndWithATimeThatNoFileReaches) {
    const std::string head = "$timescale 1 ps $end\n$var wire 1 ! a $end\n$enddefinitions $end\n#0\n1!\n#5\n0!\n";
    for (const char* time : {"#4000000000000000001", "#99999999999999999999999", "#18446744073709551621", "#12x", "#"}) {
        const SignalFile file = read(head + time + "\n1!\n", true);
        ASSERT_EQ(file.lanes.size(), 1U);
        EXPECT_EQ(file.lanes[0].samples.size(), 2U) << time;
        EXPECT_FALSE(file.warnings.empty()) << time;
    }
    EXPECT_EQ(read(head + "#4000000000000000000\n1!\n", true).lanes[0].samples.size(), 3U) << "so far it may go";
}

}  // namespace
}  // namespace mt
