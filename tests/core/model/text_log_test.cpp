// What the firmware printed becomes lines, each with the time of its first byte.
#include "model/text_log.h"

#include <gtest/gtest.h>

#include <sstream>

#include "share/tables.h"
#include "share/text_tables.h"
#include "support.h"

namespace mt {
namespace {

Time us(int n) { return Time::from_us(n); }

TextLog printed(const std::string& text) {
    TextLog log;
    log.stated = true;
    for (std::size_t i = 0; i < text.size(); ++i) log.put(text[i], us(static_cast<int>(i)));
    return log;
}

TEST(TextLog, ALineEndsAtItsLineEndAndBeginsWithItsFirstByte) {
    const TextLog log = printed("boot\r\nmount ready\n\nok");
    ASSERT_EQ(log.size(), 4U);
    EXPECT_EQ(log.raw(0), "boot");
    EXPECT_EQ(log.raw(1), "mount ready");
    EXPECT_EQ(log.line(1).begin, us(6));
    EXPECT_EQ(log.raw(2), "") << "an empty line is a line";
    EXPECT_EQ(log.line(2).begin, us(18));
    EXPECT_EQ(log.raw(3), "ok") << "what has no end yet is there, too";
    EXPECT_EQ(log.first_from(us(7)), 2U);
    EXPECT_EQ(log.first_from(us(100)), 4U);
    EXPECT_EQ(printed("").size(), 0U);
}

TEST(TextLog, ALineWithinWhichPacketsWereLostIsTorn) {
    TextLog log;
    for (const char c : std::string("ab")) log.put(c, us(1));
    log.lose();
    for (const char c : std::string("c\nd\n")) log.put(c, us(2));
    EXPECT_EQ(log.line(0).flags, TextLine::kTorn);
    EXPECT_EQ(log.line(1).flags, 0) << "the next one is whole";
    log.lose();
    log.put('e', us(3));
    log.put('\n', us(3));
    EXPECT_EQ(log.line(2).flags, 0) << "nothing of it was there yet";
}

TEST(TextLog, WithoutAnyLineEndItIsCutSoThatItNeverGrowsForEver) {
    const TextLog log = printed(std::string(3 * TextLog::kLongest + 5, 'x'));
    ASSERT_EQ(log.size(), 4U);
    EXPECT_EQ(log.line(0).flags, TextLine::kCut);
    EXPECT_EQ(log.raw(3), "xxxxx");
}

TEST(TextLog, APortThatNobodyDescribedIsTextAsLongAsItLooksLikeIt) {
    TextLog log = printed("hello\n");
    log.stated = false;
    EXPECT_TRUE(log.is_text());
    for (int i = 0; i < 10; ++i) log.put('\x01', us(50));
    EXPECT_FALSE(log.is_text());
    log.stated = true;
    EXPECT_TRUE(log.is_text()) << "unless somebody says that it is";
}

// Against the events of the same recording: each byte that was written to the port stands in a line.
TEST(TextOfARecording, HasEveryByteThatWentThroughThePort) {
    for (const char* file : {"mount/mount.target.toml", "mount-framed/mount.target.toml"}) {
        SCOPED_TRACE(file);
        const auto r = test::decode(test::data(file));
        std::string all;
        each_text_line(*r.trail, {}, [&](const TextLog& log, std::size_t i) {
            EXPECT_EQ(log.name, "console");
            all += log.raw(i) + "\n";
            return true;
        });
        std::ostringstream events;
        write_events_csv(*r.recording, *r.trail, std::nullopt, std::nullopt, events);
        std::string bytes;
        for (const std::string& line : test::lines(events.str())) {
            std::vector<std::string> cells;
            std::istringstream in(line);
            for (std::string cell; std::getline(in, cell, ',');) cells.push_back(cell);
            if (cells.size() > 5 && cells[2] == "port" && cells[3] == "console")
                bytes += static_cast<char>(std::stoi(cells[5]));
        }
        std::erase(bytes, '\r');
        if (!bytes.empty() && bytes.back() != '\n') bytes += '\n';
        EXPECT_GT(bytes.size(), 100U);
        EXPECT_EQ(all, bytes);
    }
}

TEST(TextOfARecording, IsPrintedWithItsTimesAndAsCsv) {
    const auto r = test::decode(test::data("mount/mount.target.toml"));
    std::ostringstream csv, plain;
    write_text_csv(*r.trail, {}, csv);
    write_text(*r.trail, {}, plain);
    const auto rows = test::lines(csv.str());
    ASSERT_GT(rows.size(), 3U);
    EXPECT_EQ(rows[0], "time_ns,core,port,text");
    EXPECT_EQ(rows[1].substr(0, 28), "69722.222,main,console,mount");
    EXPECT_EQ(test::lines(plain.str()).size() + 1, rows.size());
    // A part of it.
    TextWanted part;
    part.from = us(80);
    std::ostringstream later;
    write_text_csv(*r.trail, part, later);
    EXPECT_LT(test::lines(later.str()).size(), rows.size());
    EXPECT_FALSE(logs_named(*r.trail, "moonshine"));
    EXPECT_NE(logs_named(*r.trail, "moonshine").error().advice.find("console"), std::string::npos);
    ASSERT_TRUE(logs_named(*r.trail, "0"));
    EXPECT_EQ(*logs_named(*r.trail, "0"), *logs_named(*r.trail, "console"));
}

}  // namespace
}  // namespace mt
