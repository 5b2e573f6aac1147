// What files from somebody else must not be able to do: keep the program waiting, fill its memory, make it read or copy
// what is not theirs, or speak to the terminal.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <thread>

#include "base/mapped_file.h"
#include "base/plain_text.h"
#include "base/read_file.h"
#include "capture/recipe.h"
#include "hostile/nested_metadata.h"
#include "process.h"
#include "share/tables.h"
#include "target/toml_text.h"
#include "wire/ctf_metadata.h"

namespace mt {
namespace {

namespace fs = std::filesystem;

using test::mtrail;
using test::Outcome;

TEST(StrangersFiles, APipeInPlaceOfAnyInputIsRefusedAtOnce) {
    test::Folder folder;
    ASSERT_EQ(::mkfifo((folder / "pipe").c_str(), 0600), 0);
    struct stat about {};
    EXPECT_FALSE(open_regular(folder / "pipe", about));
    EXPECT_FALSE(open_regular("/dev/zero", about));
    EXPECT_FALSE(read_target_file(folder / "pipe"));
    EXPECT_FALSE(read_recipe(folder / "pipe"));
    EXPECT_FALSE(Image::open(folder / "pipe"));
    EXPECT_FALSE(read_svd(folder / "pipe"));
    EXPECT_FALSE(MappedFile::open(folder / "pipe"));
    test::write_file(folder / "x.target.toml", test::itm_target("pipe"));
    EXPECT_EQ(mtrail(folder, {"summary", folder / "x.target.toml"}).code, 2);
}

TEST(StrangersFiles, TextThatIsTooLargeIsRefusedBeforeItIsRead) {
    test::Folder folder;
    test::write_file(folder / "large.recipe.toml", "");
    fs::resize_file(folder / "large.recipe.toml", std::uintmax_t{3} << 30);
    const auto recipe = read_recipe(folder / "large.recipe.toml");
    ASSERT_FALSE(recipe);
    EXPECT_NE(recipe.error().what.find("too large for a recipe"), std::string::npos) << recipe.error().text();
}

TEST(StrangersFiles, TomlNestedBeyondAllSettingsIsRefusedNotFollowed) {
    std::string dotted = "a", lists, tables, inside;
    for (int i = 0; i < 200'000; ++i) dotted += ".a";
    lists.append(100'000, '[');
    for (int i = 0; i < 5000; ++i) tables += "[a.b.c.d.e.f.g]\n";
    for (int i = 0; i < 5000; ++i) inside += "{ a = ";
    for (const std::string& text : {dotted + " = 1\n", "[" + dotted + "]\n", "x = " + lists, "x = " + inside}) {
        const auto parsed = parse_toml(text, "x.toml");
        ASSERT_FALSE(parsed);
        EXPECT_NE(parsed.error().what.find("nested too deeply"), std::string::npos) << parsed.error().what;
    }
    EXPECT_TRUE(parse_toml("[a.b.c]\nd.e = [[1, 2], [3.5, 4.5]]\nf = { g = { h = 1.0 } }\n", "x.toml"));
}

TEST(StrangersFiles, MoreFilesThanAnyTableHoldsMayBeCutShortWhileTheyAreRead) {
    test::Folder folder;
    std::vector<std::shared_ptr<const MappedFile>> files;
    for (int i = 0; i < 150; ++i) {
        const std::string path = folder / ("f" + std::to_string(i));
        test::write_file(path, std::string(3 * 4096, 'x'));
        files.push_back(*MappedFile::open(path));
    }
    for (int i = 0; i < 150; ++i) fs::resize_file(folder / ("f" + std::to_string(i)), 0);
    for (const auto& file : files) EXPECT_EQ(file->bytes()[2 * 4096 + 7], 0) << "what is gone reads as zero";
}

TEST(StrangersFiles, TypesThatStandForEachOtherAgainAndAgainAreRefused) {
    const std::string text = hostile::names_of_names();
    const auto read =
        read_ctf_metadata(std::span(reinterpret_cast<const std::uint8_t*>(text.data()), text.size()), "m");
    ASSERT_FALSE(read);
    EXPECT_NE(read.error().text().find("repeat others too often"), std::string::npos) << read.error().text();
    // The same with one name for many members.
    const std::string many =
        "/* CTF 1.8 */\ntrace { major = 1; minor = 8; byte_order = le; };\n"
        "typealias struct { integer { size = 8; } a, b, c, d, e, f, g, h; } := p;\n"
        "stream { packet.context := struct { p q, r; }; };\n"
        "event { id = 0; name = \"e\"; fields := struct { p q; }; };\n";
    EXPECT_TRUE(read_ctf_metadata(std::span(reinterpret_cast<const std::uint8_t*>(many.data()), many.size()), "m"));
}

// A recording folder as a stranger could send it: it names a file of the person who opens it.
class FromAStranger : public ::testing::Test {
  protected:
    FromAStranger() {
        fs::create_directories(folder / "x.mtrail/streams");
        fs::create_directories(folder / "x.mtrail/images");
        test::write_file(folder / "secret.svd",
                         "<device><peripherals><peripheral><interrupt><name>SECRET</name><value>3</value></interrupt>"
                         "</peripheral></peripherals></device>");
        test::write_file(folder / "x.mtrail/trail.toml",
                         "format = \"mindful-trail-recording/1\"\ntarget = \"recording.target.toml\"\n");
        fs::copy(test::data("mount/capture.bin"), folder / "x.mtrail/streams/capture.bin");
    }
    void target(const std::string& svd) {
        test::write_file(
            folder / "x.mtrail/recording.target.toml",
            "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\nisa = \"armv7e-m\"\nclock_hz = "
            "72000000\nsvd = \"" +
                svd + "\"\n[[stream]]\nfile = \"streams/capture.bin\"\nprotocol = \"itm\"\ncore = \"main\"\n");
    }
    // Opens it, saves it elsewhere, and says whether anything of the secret shows.
    bool reveals() {
        const auto opened = test::decode(folder / "x.mtrail");
        bool shows = opened.recording->exception_name(0, 19) == "SECRET";
        Progress progress;
        const auto saved = save_recording(*opened.recording, folder / "copy.mtrail", false, progress);
        EXPECT_TRUE(saved) << saved.error().text();
        for (const auto& e : fs::recursive_directory_iterator(folder / "copy.mtrail"))
            shows = shows || (e.is_regular_file() && test::read_text(e.path()).find("SECRET") != std::string::npos);
        for (const Doubt& d : opened.recording->doubts) doubts += d.text;
        return shows;
    }
    test::Folder folder;
    std::string doubts;
};

TEST_F(FromAStranger, APathOutOfTheFolderIsNeitherReadNorCopied) {
    target(folder / "secret.svd");
    EXPECT_FALSE(reveals());
    EXPECT_NE(doubts.find("outside of the recording's folder"), std::string::npos) << doubts;
}

TEST_F(FromAStranger, NorIsOneThatClimbsOut) {
    target("images/../../secret.svd");
    EXPECT_FALSE(reveals());
}

TEST_F(FromAStranger, NorALinkInTheFolder) {
    fs::create_symlink(folder / "secret.svd", folder / "x.mtrail/images/a.svd");
    target("images/a.svd");
    EXPECT_FALSE(reveals());
}

TEST_F(FromAStranger, WhatLiesInTheFolderIsRead) {
    fs::copy(folder / "secret.svd", folder / "x.mtrail/images/a.svd");
    target("images/a.svd");
    EXPECT_TRUE(reveals());
}

TEST(StrangersNames, ControlCharactersAreShownNotObeyed) {
    EXPECT_EQ(plain_text("a\x1b]0;title\x07z"), "a\\x1b]0;title\\x07z");
    EXPECT_EQ(plain_text("bell\x7f \xc2\x9b 31m"), "bell\\x7f \\x9b 31m") << "also those beyond ASCII";
    EXPECT_EQ(plain_text("two\nlines\tµs — ×"), "two\nlines\tµs — ×") << "text stays text";
    // A stream's name in the error message of the command line.
    test::Folder folder;
    const auto said = mtrail(folder, {"summary", folder / "no\x1b[2Jthing.target.toml"});
    EXPECT_EQ(said.code, 2);
    EXPECT_EQ(said.said.find('\x1b'), std::string::npos) << said.said;
    EXPECT_NE(said.said.find("\\x1b[2J"), std::string::npos) << said.said;
}

TEST(StrangersNames, ACellThatASpreadsheetWouldCalculateIsMarkedAsText) {
    EXPECT_EQ(csv_field("=cmd|'/c calc'!A1"), "'=cmd|'/c calc'!A1");
    EXPECT_EQ(csv_field("@SUM(A1)"), "'@SUM(A1)");
    EXPECT_EQ(csv_field("-[Mount flip]"), "'-[Mount flip]");
    EXPECT_EQ(csv_field("-12.5"), "-12.5") << "numbers stay numbers";
    EXPECT_EQ(csv_field("+3e-6"), "+3e-6");
    EXPECT_EQ(csv_field("operator="), "operator=");
    EXPECT_EQ(csv_field("=a,b"), "\"'=a,b\"");
}

}  // namespace
}  // namespace mt
