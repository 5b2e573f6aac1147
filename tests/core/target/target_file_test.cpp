// The target file: what it says, and what is said when it is wrong.
#include "target/target_file.h"

#include <gtest/gtest.h>

#include "support.h"
#include "target/toml_text.h"

namespace mt {
namespace {

const std::string kGood = R"(format = "mindful-trail-target/1"
name = "Larkspur"
[[core]]
name = "main"
isa = "armv7e-m"
clock_hz = 120_000_000
image = "mount.elf"
[[stream]]
file = "swo.bin"
protocol = "itm"
core = "main"
[stream.itm]
timestamp_prescaler = 16
swo_baud = 2_000_000
[[watch]]
comparator = 1
symbol = "axis_error"
type = "i16"
[[port]]
number = 31
kind = "mark"
)";

std::string with(std::string text, const std::string& what, const std::string& instead) {
    const auto at = text.find(what);
    EXPECT_NE(at, std::string::npos) << what;
    return text.replace(at, what.size(), instead);
}

void expect_error(const std::string& text, const std::string& what, const std::string& line,
                  const std::string& advice) {
    const auto target = parse_target_file(text, "/mount/x.target.toml");
    ASSERT_FALSE(target) << what;
    EXPECT_NE(target.error().what.find(what), std::string::npos) << target.error().text();
    EXPECT_EQ(target.error().where, "/mount/x.target.toml:" + line) << target.error().text();
    EXPECT_NE(target.error().advice.find(advice), std::string::npos) << target.error().text();
}

TEST(TargetFile, SaysWhatWasRecorded) {
    const auto t = parse_target_file(kGood, "/mount/x.target.toml");
    ASSERT_TRUE(t) << t.error().text();
    EXPECT_EQ(t->name, "Larkspur");
    EXPECT_EQ(t->cores[0].clock_hz, 120'000'000U);
    EXPECT_EQ(t->cores[0].image, "/mount/mount.elf") << "relative to the file";
    EXPECT_EQ(t->streams[0].file, "/mount/swo.bin");
    EXPECT_EQ(t->streams[0].timestamp_prescaler, 16U);
    EXPECT_EQ(t->watch(1)->symbol, "axis_error");
    EXPECT_EQ(t->watch(1)->role, "value");
    EXPECT_EQ(t->port(31)->kind, "mark");
    EXPECT_EQ(t->port(3), nullptr);
    EXPECT_TRUE(t->warnings.empty());
}

TEST(TargetFile, UnknownKeysAreWarningsWithTheirLine) {
    const auto t = parse_target_file(with(kGood, "image =", "colour = \"red\"\nimage ="), "x.target.toml");
    ASSERT_TRUE(t);
    ASSERT_EQ(t->warnings.size(), 1U);
    EXPECT_EQ(t->warnings[0], "x.target.toml:7: unknown key 'colour' in [[core]] is ignored");
}

TEST(TargetFile, ErrorsNameFileLineKeyFoundAndAllowed) {
    expect_error(with(kGood, "name = \"main\"", "nome = \"main\""), "missing key 'name' in [[core]]", "3", "add name");
    expect_error(with(kGood, "120_000_000", "\"fast\""), "key 'clock_hz' in [[core]] is 'fast'", "6", "a whole number");
    expect_error(with(kGood, "120_000_000", "0"), "key 'clock_hz' in [[core]] is 0", "6", "from 1");
    expect_error(with(kGood, "= 16", "= 5"), "key 'timestamp_prescaler' in [stream.itm] is 5", "13",
                 "one of 1, 4, 16, 64");
    expect_error(with(kGood, "\"itm\"", "\"swim\""), "key 'protocol' in [[stream]] is 'swim'", "10", "itm, etm4");
    expect_error(with(kGood, "core = \"main\"", "core = \"other\""), "names 'other', which is no [[core]]", "8",
                 "add a [[core]]");
    expect_error(with(kGood, "number = 31", "number = 256"), "key 'number' in [[port]] is 256", "20", "from 0 to 255");
    expect_error(with(kGood, "target/1", "target/9"), "key 'format'", "1", "mindful-trail-target/1");
    expect_error(with(kGood, "clock_hz = 120_000_000\n", ""), "missing key 'clock_hz'", "7", "state the core clock");
    expect_error(with(kGood, "core = \"main\"", "core = \"main\"\nframing = \"tpiu\""), "missing key 'trace_id'", "8",
                 "trace_id");
    expect_error("format = \"mindful-trail-target/1\"\n[[core]\n", "not valid TOML", "2", "correct");
}

TEST(TargetFile, TwoCoresMustDiffer) {
    expect_error(kGood + "[[core]]\nname = \"main\"\nisa = \"armv7-m\"\n", "two cores are named 'main'", "22",
                 "own name");
}

TEST(TargetFile, ACtfStreamNeedsNoCore) {
    const auto t = parse_target_file(
        "format = \"mindful-trail-target/1\"\n[[stream]]\nfile = \"trace\"\nprotocol = \"ctf\"\n", "x.target.toml");
    ASSERT_TRUE(t) << t.error().text();
    EXPECT_EQ(t->streams[0].protocol, Protocol::ctf);
}

TEST(TargetFile, SettingsOfAllProtocolsAreKnown) {
    const auto t = parse_target_file(
        kGood +
            "[[stream]]\nprotocol = \"etrace\"\ncore = \"main\"\n[stream.etrace]\niaddress_width = 32\nioptions = "
            "[\"implicit_return\"]\nencapsulation = \"length-byte\"\n"
            "[[stream]]\nprotocol = \"etm4\"\ncore = \"main\"\n[stream.etm4]\ncycle_count = true\ncommopt = 1\n",
        "x.target.toml");
    ASSERT_TRUE(t) << t.error().text();
    EXPECT_TRUE(t->warnings.empty()) << t->warnings[0];
}

TEST(TargetFile, CharactersBeyondAsciiBelongInQuotesOrComments) {
    const auto good =
        parse_target_file(with(kGood, "\"Larkspur\"", "\"Lärche № 3\"  # für die Sternwarte"), "x.target.toml");
    ASSERT_TRUE(good) << good.error().text();
    EXPECT_EQ(good->name, "Lärche № 3");
    expect_error(with(kGood, "image =", "bild\u0493 ="), "beyond ASCII", "7", "quotes");
}

TEST(TargetFile, AQuoteInTheMiddleOfAValueIsToldBeforeTheParserStumblesOverWhatItHolds) {
    for (const std::string value :
         {"-\"n\u0483\"", "1=\"\u0483\"", "1 \"\u0483\"", "[1, 2{\"\u0483\"}]", "\"a\"\"\u0483\""})
        expect_error(with(kGood, "\"Larkspur\"", value), "a quote in the middle of a value", "2", "one value a line");
}

TEST(TargetFile, QuotesOfEveryKindHoldCharactersBeyondAscii) {
    for (const std::string text :
         {"\"a\\\"\u0483\"", "'\u0483\\'", "\"\"\"\n\u0483\n\"\"\"\"\"", "\'\'\'\u0483\'\'\'\'"}) {
        const auto t = parse_target_file(with(kGood, "\"Larkspur\"", text), "x.target.toml");
        ASSERT_TRUE(t) << text << ": " << t.error().text();
        EXPECT_NE(t->name.find("\u0483"), std::string::npos) << text;
    }
    const auto keys = parse_toml("\"\u0483\" = {a.\"\u0483\" = [\"\u0483\",\n'\u0483' # \u0483\n], b = 1}", "x");
    EXPECT_TRUE(keys) << keys.error().text();
}

TEST(TargetFile, HostileTextIsAnErrorAndNothingElse) {
    for (const std::string& text : {std::string("\0\0\0", 3), std::string(5000, '['), std::string("format = 3"),
                                    std::string("core = 5\nstream = 7\nformat = \"mindful-trail-target/1\""),
                                    std::string("a.b.c.d = {x = [[[[1]]]]}")})
        EXPECT_FALSE(parse_target_file(text, "x"));
}

TEST(TargetFile, AMissingFileIsSaidSo) {
    const auto t = read_target_file("/nowhere/x.target.toml");
    ASSERT_FALSE(t);
    EXPECT_NE(t.error().text().find("/nowhere/x.target.toml"), std::string::npos);
}

}  // namespace
}  // namespace mt
