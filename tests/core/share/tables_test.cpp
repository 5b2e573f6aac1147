// Tables for other programs: fields, columns, and what they say of bounds and loss.
#include "share/tables.h"

#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "itm_writer.h"
#include "share/activity_tables.h"
#include "support.h"

namespace mt {
namespace {

using test::lines;

std::uint64_t us(double v) { return static_cast<std::uint64_t>(v * 120); }

// One interrupt that another cuts into, a tail chain, and a loss.
test::Opened small(const test::Folder& folder) {
    board::ItmWriter out(120'000'000, 24'000'000);
    out.sync(0);
    out.exception(us(1), 0, 3);
    out.exception(us(10), 19, 1);
    out.exception(us(20), 17, 1);
    out.exception(us(25), 17, 2);
    out.exception(us(25.1), 19, 3);
    out.exception(us(40), 19, 2);
    out.exception(us(40.5), 15, 1);
    out.exception(us(45), 15, 2);
    out.exception(us(45.1), 0, 3);
    out.exception(us(60), 19, 1);
    out.stall_until(us(80));
    out.exception(us(70), 19, 2);
    out.exception(us(90), 0, 3);
    out.exception(us(100), 17, 1);
    out.exception(us(105), 17, 2);
    out.exception(us(105.1), 0, 3);
    out.flush(us(120));
    return test::decode_bytes(folder, out.bytes());
}

TEST(Csv, QuotesOnlyWhatNeedsIt) {
    EXPECT_EQ(csv_field("ENC_INDEX"), "ENC_INDEX");
    EXPECT_EQ(csv_field("a,b"), "\"a,b\"");
    EXPECT_EQ(csv_field("say \"hello\""), "\"say \"\"hello\"\"\"");
    EXPECT_EQ(csv_field("two\nlines"), "\"two\nlines\"");
}

TEST(Csv, InstancesTellWhatWasCutAndWhatWasChained) {
    test::Folder folder;
    const auto o = small(folder);
    const auto instances = [&o](const std::string& number) {
        const auto found = find_activity(*o.trail, number);
        EXPECT_TRUE(found) << number;
        std::ostringstream out;
        if (found) write_instances_csv(*found->kind, *o.trail, found->index, out);
        return lines(out.str());
    };
    const auto all = instances("19");
    ASSERT_EQ(all.size(), 3U);
    EXPECT_EQ(all[1].substr(0, 55), "0,10000.000,40000.000,30000.000,25000.000,1,,10000.000,");
    EXPECT_NE(all[2].find("end not seen"), std::string::npos) << all[2];
    EXPECT_NE(instances("15").at(1).find(",1,"), std::string::npos);
    EXPECT_EQ(o.trail->cores[0].lane(15)->flags(0) & ExceptionInstance::kTailChained, ExceptionInstance::kTailChained);
}

TEST(Csv, StatsLeaveUnknownFiguresEmpty) {
    test::Folder folder;
    const auto o = small(folder);
    std::ostringstream out;
    write_stats_csv(*LaneKinds::find("interrupts"), {*o.trail}, out);
    for (const auto& line : lines(out.str())) EXPECT_EQ(std::count(line.begin(), line.end(), ','), 18) << line;
    for (const auto& line : lines(out.str()))
        if (line.find(",15,1,0,") != std::string::npos)
            EXPECT_NE(line.find(",,,,,,,"), std::string::npos) << "one entry has no period: " << line;
}

TEST(Json, SummaryCountsGapsAndSaysItsDoubts) {
    test::Folder folder;
    const auto o = small(folder);
    const auto j = summary_json(*o.recording, *o.trail);
    EXPECT_EQ(j["gaps"]["count"], 1);
    EXPECT_EQ(j["gaps"]["overflows"], 1);
    EXPECT_NEAR(j["gaps"]["time_ns"].get<double>(), 30'000, 100)
        << "from the last that is known to the first that is known";
    EXPECT_EQ(j["streams"][0]["packets"]["overflow"], 1);
    EXPECT_EQ(j["origin_ns"], 0.0);
    EXPECT_FALSE(j["doubts"].empty()) << "no image was given";
    EXPECT_NE(summary_text(*o.recording, *o.trail).find("1 gap"), std::string::npos);
}

TEST(Json, FindingsCarryTheirEvidence) {
    const auto o = test::decode(test::demo("larkspur.target.toml"));
    const auto j = findings_json(find_all(*o.recording, *o.trail));
    ASSERT_EQ(j.size(), 7U);
    double last = 1.1;
    for (const auto& f : j) {
        EXPECT_LE(f["severity"].get<double>(), last) << "worst first";
        last = f["severity"].get<double>();
        EXPECT_LE(f["begin_ns"].get<double>(), f["end_ns"].get<double>());
        EXPECT_FALSE(f["evidence"].empty());
        for (const auto& e : f["evidence"]) EXPECT_FALSE(e["what"].get<std::string>().empty());
    }
    EXPECT_EQ(findings_text({}), "Nothing unusual found.\n");
}

TEST(Csv, ACancelledTableStops) {
    const auto o = test::decode(test::data("mount/mount.target.toml"));
    Progress progress;
    progress.cancel();
    std::ostringstream out;
    write_events_csv(*o.recording, *o.trail, {}, {}, out, &progress);
    EXPECT_EQ(lines(out.str()).size(), 1U) << "the heading only";
}

TEST(Board, TheSameSeedGivesTheSameRecordingAnotherDoesNot) {
    board::MountOptions options;
    options.seconds = 0.5;
    const auto first = test::mount_bytes(options), again = test::mount_bytes(options);
    EXPECT_EQ(first, again);
    options.seed = 2;
    EXPECT_NE(test::mount_bytes(options), first);
}

TEST(Board, TheDemonstrationIsWhatTheBoardRecordsToday) {
    test::Folder folder;
    const std::string command = std::string(MT_BOARD) + " --image " + test::demo("larkspur.elf") + " --write " +
                                (folder / "x.swo") + " --seconds 20 --seed 3";
    ASSERT_EQ(std::system(command.c_str()), 0);
    EXPECT_EQ(test::read_bytes(folder / "x.swo"), test::read_bytes(test::demo("larkspur-night.swo")));
}

TEST(Board, ASlowLineLosesPacketsAndSaysSo) {
    test::Folder folder;
    board::MountOptions options;
    options.seconds = 1;
    options.baud = 1'000'000;
    options.healthy = true;
    const auto o = test::decode_bytes(folder, test::mount_bytes(options));
    EXPECT_GT(o.trail->gaps.size(), 50U);
    EXPECT_EQ(o.trail->streams[0].bad_bytes, 0U) << "lost is not damaged";
    for (const auto& row : interrupt_rows(*o.trail)) EXPECT_GT(row.count + row.left_out, 0U);
}

TEST(Board, ALineTooSlowForWhatCameIsDoubted) {
    test::Folder folder;
    board::MountOptions options;
    options.seconds = 1;
    options.healthy = true;
    const auto o =
        test::decode_bytes(folder, test::mount_bytes(options), "120_000_000", "[stream.itm]\nswo_baud = 115_200\n");
    bool said = false;
    for (const auto& d : o.trail->doubts) said = said || d.text.find("115200 baud") != std::string::npos;
    EXPECT_TRUE(said);
}

}  // namespace
}  // namespace mt
