// Changes to a target file's text: what is changed, and what stays as a person wrote it.
#include "target/target_edit.h"

#include <gtest/gtest.h>

#include "support.h"
#include "target/target_file.h"

namespace mt {
namespace {

const std::string kText = R"(# The mount on the bench.
format = "mindful-trail-target/1"   # the first
name   = "Larkspur – mount"

[[core]]
name     = "main"
isa      = "armv7-m"
clock_hz = 72_000_000               # from the crystal
image    = "mount.elf"

# What comes over the line.
[[stream]]
file     = "swo.bin"
protocol = "itm"
core     = "main"

[stream.itm]
timestamp_prescaler = 4

# What watches the axis.
[[watch]]
comparator = 0
symbol     = "axis_error"
type       = "i16"

[[watch]]
comparator = 1
symbol     = "axis_speed"
type       = "i16"
)";

std::string changed(const std::vector<KeyChange>& changes, const std::string& text = kText) {
    const auto now = changed_target(text, changes);
    EXPECT_TRUE(now) << (now ? "" : now.error().text());
    return now ? *now : std::string();
}
std::string edited_with(std::string text, const std::string& what, const std::string& instead) {
    const auto at = text.find(what);
    EXPECT_NE(at, std::string::npos) << what;
    return text.replace(at, what.size(), instead);
}

TEST(TargetEdit, AValueIsReplacedAndItsRemarkStays) {
    EXPECT_EQ(changed({{"core", 0, "clock_hz", "120000000"}}), edited_with(kText, "72_000_000", "120000000"));
    EXPECT_EQ(changed({{"", 0, "name", "\"x # y\""}}), edited_with(kText, "\"Larkspur – mount\"", "\"x # y\""));
    EXPECT_EQ(changed({{"stream.itm", 0, "timestamp_prescaler", "16"}}),
              edited_with(kText, "timestamp_prescaler = 4", "timestamp_prescaler = 16"));
    EXPECT_EQ(changed({{"watch", 1, "type", "\"i32\""}}),
              edited_with(kText, "\"axis_speed\"\ntype       = \"i16\"", "\"axis_speed\"\ntype       = \"i32\""));
}

TEST(TargetEdit, AKeyThatIsNewStandsBehindTheLastOfItsTable) {
    EXPECT_EQ(changed({{"core", 0, "svd", "\"m.svd\""}}),
              edited_with(kText, "\"mount.elf\"\n", "\"mount.elf\"\nsvd = \"m.svd\"\n"));
    EXPECT_EQ(changed({{"stream", 0, "framing", "\"tpiu\""}, {"stream", 0, "trace_id", "1"}}),
              edited_with(kText, "core     = \"main\"\n\n[stream",
                          "core     = \"main\"\nframing = \"tpiu\"\ntrace_id = 1\n\n[stream"));
}

TEST(TargetEdit, ATableThatIsNewIsAdded) {
    const std::string port = changed({{"port", 0, "number", "5"}, {"port", 0, "kind", "\"text\""}});
    EXPECT_EQ(port, kText + "\n[[port]]\nnumber = 5\nkind = \"text\"\n");
    const std::string text = edited_with(kText, "[stream.itm]\ntimestamp_prescaler = 4\n\n", "");
    const std::string itm = changed({{"stream.itm", 0, "timestamp_prescaler", "64"}}, text);
    const auto read = parse_target_file(itm, "x.target.toml");
    ASSERT_TRUE(read) << read.error().text();
    EXPECT_EQ(read->streams[0].timestamp_prescaler, 64U);
    EXPECT_NE(itm.find("# What watches the axis."), std::string::npos);
    EXPECT_EQ(
        changed({{"watch", 2, "comparator", "2"}, {"watch", 2, "symbol", "\"x\""}, {"watch", 2, "type", "\"u8\""}}),
        kText + "\n[[watch]]\ncomparator = 2\nsymbol = \"x\"\ntype = \"u8\"\n");
}

TEST(TargetEdit, KeysAndTablesGo) {
    EXPECT_EQ(changed({{"core", 0, "image", ""}}), edited_with(kText, "image    = \"mount.elf\"\n", ""));
    EXPECT_EQ(
        changed({{"watch", 0, "", ""}}),
        edited_with(kText, "[[watch]]\ncomparator = 0\nsymbol     = \"axis_error\"\ntype       = \"i16\"\n\n", ""));
    EXPECT_EQ(changed({{"core", 0, "orti", ""}}), kText) << "it was not there";
    const std::string bare = changed({{"stream", 0, "", ""}});
    EXPECT_EQ(bare.find("timestamp_prescaler"), std::string::npos) << "with the tables in it";
    EXPECT_NE(bare.find("# What watches the axis.\n[[watch]]\ncomparator = 0"), std::string::npos) << bare;
}

TEST(TargetEdit, ValuesOverSeveralLinesAndTablesInOneLineCanBeChangedToo) {
    const std::string text =
        "format = \"mindful-trail-target/1\"\ncore = [{ name = \"main\", isa = \"armv7-m\", clock_hz = 5 "
        "}]\n[[stream]]\nfile = [\n  "
        "\"a\",\n  "
        "\"b\"\n]\nprotocol = \"itm\"\ncore = \"main\"\n";
    const auto files = parse_target_file(changed({{"stream", 0, "file", "\"c\""}}, text), "x.target.toml");
    ASSERT_TRUE(files);
    EXPECT_EQ(files->streams[0].file, "c");
    EXPECT_TRUE(files->streams[0].more_files.empty());
    const auto core = parse_target_file(changed({{"core", 0, "clock_hz", "7"}}, text), "x.target.toml");
    ASSERT_TRUE(core);
    EXPECT_EQ(core->cores[0].clock_hz, 7U);
    EXPECT_EQ(core->streams[0].more_files.size(), 1U);
}

TEST(TargetEdit, WhatCannotBeDoneIsSaid) {
    EXPECT_FALSE(changed_target(kText, {{"core", 5, "clock_hz", "1"}}));
    EXPECT_FALSE(changed_target(kText, {{"core", 0, "clock_hz", "seven"}}));
    EXPECT_FALSE(changed_target(kText, {{"core", 0, "clock_hz", "1\nname = 3"}}));
    EXPECT_FALSE(changed_target("no toml at = all = ", {{"core", 0, "clock_hz", "1"}}));
    EXPECT_FALSE(changed_target(kText, {{"port", 1, "number", "1"}})) << "there is no first one";
}

TEST(TargetEdit, AnyKeyOfAnyTableCanBeSetAndTakenOutAgain) {
    for (const std::string& path : {test::demo("larkspur.target.toml"), test::data("mount-framed/mount.target.toml"),
                                    test::data("steps/rv-etrace-mount/recording.target.toml")}) {
        const std::string text = test::read_text(path);
        for (const char* table : {"", "core", "stream"}) {
            const std::string there = changed({{table, 0, "probe_key", "[1, 2]"}}, text);
            EXPECT_EQ(changed({{table, 0, "probe_key", ""}}, there), text) << path << ' ' << table;
        }
    }
}

}  // namespace
}  // namespace mt
