// What was recorded or written by hand is never lost by writing something else.
#include <gtest/gtest.h>

#include "recorder_fixture.h"

namespace mt {
namespace {

namespace fs = std::filesystem;
using test::Board;
using test::Outcome;
using test::recipe_text_for;
using test::tcp;

class NothingLost : public test::RecorderFixture {
  protected:
    void expect_old_one() {
        EXPECT_EQ(test::read_text(folder / "x.mtrail/notes.txt"), "by hand") << "what was there is still there";
        for (const auto& e : fs::directory_iterator(folder.path()))
            EXPECT_EQ(e.path().string().find(".replaced-"), std::string::npos) << "and nothing is left beside it";
    }
    void old_one() {
        const auto original = test::decode(test::data("mount/mount.target.toml"));
        Progress progress;
        ASSERT_TRUE(save_recording(*original.recording, folder / "x.mtrail", false, progress));
        test::write_file(folder / "x.mtrail/notes.txt", "by hand");
    }
};

TEST_F(NothingLost, AnOutputThatIsAnInputIsRefused) {
    for (const char* file : {"capture.bin", "firmware.elf", "mount.target.toml"})
        fs::copy(test::data("mount") + "/" + file, folder / file);
    const auto before = test::read_bytes(folder / "capture.bin");
    fs::create_hard_link(folder / "capture.bin", folder / "other-name.bin");
    fs::create_symlink(folder / "firmware.elf", folder / "link.elf");
    const std::string target = folder / "mount.target.toml";
    for (const auto& arguments :
         std::vector<std::vector<std::string>>{{"events", target, "--csv", "-o", folder / "capture.bin"},
                                               {"events", target, "--csv", "-o", folder / "other-name.bin"},
                                               {"summary", target, "-o", folder / "link.elf"},
                                               {"find", target, "--json", "-o", target}}) {
        const Outcome said = mtrail(arguments);
        EXPECT_EQ(said.code, 2) << arguments.back();
        EXPECT_NE(said.said.find("would overwrite what is being read"), std::string::npos) << said.said;
    }
    EXPECT_EQ(test::read_bytes(folder / "capture.bin"), before);
    EXPECT_EQ(mtrail({"events", target, "--csv", "-o", folder / "events.csv"}).code, 0);
}

TEST_F(NothingLost, AddressesOverTheCaptureAreRefused) {
    const std::string source = test::data("steps/rv-etrace-mount/");
    fs::create_directories(folder / "a");
    fs::copy(source + "trace.bin", folder / "a/trace.bin");
    fs::copy(source + "recording.target.toml", folder / "a/x.target.toml");
    fs::copy(test::data("steps/mount-cop.elf"), folder / "mount-cop.elf");
    const auto size = fs::file_size(folder / "a/trace.bin");
    EXPECT_EQ(mtrail({"steps", folder / "a/x.target.toml", "--pcs", folder / "a/trace.bin"}).code, 2);
    EXPECT_EQ(fs::file_size(folder / "a/trace.bin"), size);
}

TEST_F(NothingLost, ReplacingKeepsTheOldRecordingUntilTheNewOneHoldsSomething) {
    old_one();
    const std::string nobody = "127.0.0.1:" + std::to_string(test::free_port());
    EXPECT_EQ(record(recipe_text_for(tcp(nobody)), true).code, 2) << "nobody is there";
    expect_old_one();
    Board board;
    EXPECT_EQ(record(recipe_text_for(tcp(board.trace()), "[record]\nseconds = 0.3\n")).code, 2)
        << "without being asked nothing is replaced";
    expect_old_one();
    const Outcome said = record(recipe_text_for(tcp(board.trace()), "[record]\nseconds = 0.5\n"), true);
    EXPECT_EQ(said.code, 0) << said.said;
    EXPECT_FALSE(fs::exists(folder / "x.mtrail/notes.txt")) << "now it was replaced";
}

TEST_F(NothingLost, AFolderThatIsBeingWrittenIsNotReplaced) {
    Board board;
    const auto first = recording_from(board);
    const Outcome second =
        mtrail({"record", "--recipe", folder / "r.recipe.toml", "-o", folder / "x.mtrail", "--replace"});
    EXPECT_EQ(second.code, 2);
    EXPECT_NE(second.said.find("is being written by another recording"), std::string::npos) << second.said;
    const Outcome saved =
        mtrail({"read", test::data("mount/mount.target.toml"), "-o", folder / "x.mtrail", "--replace"});
    EXPECT_EQ(saved.code, 2) << "nor by saving something else";
    EXPECT_EQ(first->end(SIGINT), 0) << said_meanwhile();
    EXPECT_GT(size(), 10'000U);
}

TEST_F(NothingLost, AFolderThatIsRemovedMeanwhileEndsTheRecordingWithAMessage) {
    Board board;
    const auto recording = recording_from(board);
    fs::remove_all(folder / "x.mtrail");
    EXPECT_EQ(recording->wait(), 2);
    EXPECT_NE(said_meanwhile().find("was removed while it was written"), std::string::npos) << said_meanwhile();
}

TEST_F(NothingLost, ALineThatSaysNothingIsNoRecording) {
    const unsigned port = test::free_port();
    const int silent = ::socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in at{};
    at.sin_family = AF_INET;
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    at.sin_port = htons(static_cast<std::uint16_t>(port));
    ASSERT_EQ(::bind(silent, reinterpret_cast<sockaddr*>(&at), sizeof at), 0);
    ASSERT_EQ(::listen(silent, 4), 0);  // whoever connects hears nothing
    const Outcome said = record(recipe_text_for(tcp("127.0.0.1:" + std::to_string(port)), "[record]\nseconds = 0.4\n"));
    ::close(silent);
    EXPECT_EQ(said.code, 2);
    EXPECT_NE(said.said.find("nothing was received"), std::string::npos) << said.said;
}

TEST_F(NothingLost, FilesThatARecipeWritesAreNotReplacedUnasked) {
    Board board;
    test::write_file(folder / "events.csv", "by hand");
    const std::string after = "[record]\nseconds = 0.3\n[after]\nevents = \"events.csv\"\n";
    const Outcome said = record(recipe_text_for(tcp(board.trace()), after));
    EXPECT_EQ(said.code, 2);
    EXPECT_NE(said.said.find("exists already"), std::string::npos) << said.said;
    EXPECT_EQ(test::read_text(folder / "events.csv"), "by hand");
    EXPECT_FALSE(fs::exists(folder / "x.mtrail")) << "that is known before anything is recorded";
    EXPECT_EQ(record(recipe_text_for(tcp(board.trace()), after + "replace = true\n")).code, 0);
    EXPECT_NE(test::read_text(folder / "events.csv"), "by hand");
}

// Names and spellings that a rewriting line by line gets wrong; each folder opens again, with the same stream.
TEST_F(NothingLost, WhatIsSavedOpensHoweverTheTargetFileIsWritten) {
    const std::string core = "[[core]]\nname = \"main\"\nisa = \"armv7e-m\"\nclock_hz = 72000000\n";
    struct Way {
        const char *name, *target;
        const char* file = "capture.bin";
    };
    const Way ways[] = {
        {"a quote in the name", "[[stream]]\nfile = 'ca\"pture.bin'\nprotocol = \"itm\"\ncore = \"main\"\n",
         "ca\"pture.bin"},
        {"a backslash", "[[stream]]\nfile = 'cap\\ture.bin'\nprotocol = \"itm\"\ncore = \"main\"\n", "cap\\ture.bin"},
        {"a line break", "[[stream]]\nfile = \"cap\\nture.bin\"\nprotocol = \"itm\"\ncore = \"main\"\n",
         "cap\nture.bin"},
        {"quoted keys", "[[stream]]\n\"file\" = \"capture.bin\"\n'protocol' = \"itm\"\ncore = \"main\"\n"},
        {"an inline table", "stream = [{ file = \"capture.bin\", protocol = \"itm\", core = \"main\" }]\n"},
        {"a string over lines", "[[stream]]\nfile = \"\"\"\ncapture.bin\"\"\"\nprotocol = \"itm\"\ncore = \"main\"\n"},
        {"a remark that looks like a key",
         "[[stream]]\nprotocol = \"itm\"\ncore = \"main\"\nfile = \"capture.bin\" # file = \"x\"\n"}};
    for (const Way& way : ways) {
        test::Folder place;
        fs::copy(test::data("mount/capture.bin"), place / way.file);
        const std::string text = "format = \"mindful-trail-target/1\"\n";
        const bool first = std::string(way.target).rfind("stream", 0) == 0;
        test::write_file(place / "x.target.toml", text + (first ? way.target + core : core + way.target));
        const Outcome said = mtrail({"read", place / "x.target.toml", "-o", place / "y.mtrail"});
        ASSERT_EQ(said.code, 0) << way.name << ": " << said.said;
        fs::remove(place / way.file);
        const auto opened = test::decode(place / "y.mtrail");
        EXPECT_EQ(opened.recording->streams.size(), 1U) << way.name;
        EXPECT_EQ(opened.trail->streams[0].raw_bytes, fs::file_size(test::data("mount/capture.bin"))) << way.name;
    }
}

}  // namespace
}  // namespace mt
