// Files of other people, and files of our own: never waited for, never half written, never outside of their folder.
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>

#include "base/kept_file.h"
#include "base/mapped_file.h"
#include "base/read_file.h"
#include "base/scratch.h"
#include "support.h"

namespace mt {
namespace {

namespace fs = std::filesystem;

TEST(ASmallFile, IsReadWhole) {
    const test::Folder folder;
    test::write_file(folder / "a", std::string("one\0two\n", 8));
    const auto text = read_small_file(folder / "a", 8, "recipe");
    ASSERT_TRUE(text) << text.error().text();
    EXPECT_EQ(*text, std::string("one\0two\n", 8));
    test::write_file(folder / "empty", std::string());
    EXPECT_EQ(*read_small_file(folder / "empty", 8, "recipe"), "");
}

TEST(ASmallFile, ThatIsLargerThanItMayBeIsRefusedWithBothSizes) {
    const test::Folder folder;
    test::write_file(folder / "a", std::string(2000, 'x'));
    const auto text = read_small_file(folder / "a", 1000, "recipe");
    ASSERT_FALSE(text);
    EXPECT_NE(text.error().text().find("too large for a recipe"), std::string::npos) << text.error().text();
    EXPECT_NE(text.error().text().find("is it the right file?"), std::string::npos) << text.error().text();
}

TEST(ASmallFile, ThatIsNoneIsRefusedAtOnce) {
    const test::Folder folder;
    const auto refused = [](const std::string& path, const std::string& because) {
        const auto text = read_small_file(path, 1000, "recipe");
        ASSERT_FALSE(text) << path;
        EXPECT_NE(text.error().text().find(because), std::string::npos) << text.error().text();
        EXPECT_NE(text.error().text().find(path), std::string::npos) << "which file: " << text.error().text();
    };
    refused(folder / "nothing", "cannot open");
    refused(folder.path(), "not a regular file");
    ASSERT_EQ(::mkfifo((folder / "pipe").c_str(), 0600), 0);
    refused(folder / "pipe", "not a regular file");
    refused("/dev/zero", "not a regular file");
    fs::create_symlink("nothing", folder / "dangling");
    refused(folder / "dangling", "cannot open");
    fs::create_symlink("round", folder / "round");
    refused(folder / "round", "cannot open");
}

TEST(APath, LiesInsideAFolderOrDoesNot) {
    const test::Folder folder;
    fs::create_directories(folder / "in/deep");
    fs::create_symlink("/etc", folder / "in/out");
    const fs::path in = folder / "in";
    EXPECT_TRUE(lies_inside(in, in));
    EXPECT_TRUE(lies_inside(in, in / "deep"));
    EXPECT_TRUE(lies_inside(in, in / "deep/not/there/yet"));
    EXPECT_TRUE(lies_inside(in, in / "deep/../x"));
    EXPECT_TRUE(lies_inside(fs::path(in.string() + "/"), in / "x")) << "a slash more";
    EXPECT_FALSE(lies_inside(in, in / "../x"));
    EXPECT_FALSE(lies_inside(in, in / "out/passwd")) << "a link leads out";
    EXPECT_FALSE(lies_inside(in, folder / "inside")) << "a name that begins the same";
    EXPECT_FALSE(lies_inside(in, "/"));
}

TEST(ASafeName, HoldsNothingThatLeadsElsewhere) {
    EXPECT_EQ(safe_file_name("night 3 (cold).mtrail"), "night 3 (cold).mtrail");
    EXPECT_EQ(safe_file_name("../../etc/passwd"), ".._.._etc_passwd");
    EXPECT_EQ(safe_file_name("a\nb\tc\x7F"), "a_b_c_");
    EXPECT_EQ(safe_file_name(R"(c:\"x'y)"), "c:__x_y");
    EXPECT_EQ(safe_file_name(""), "_");
    EXPECT_EQ(safe_file_name("."), "._");
    EXPECT_EQ(safe_file_name(".."), ".._");
    EXPECT_EQ(safe_file_name("Größe µ"), "Größe µ");
    const std::string longest = safe_file_name(std::string(500, 'x') + ".mtrail");
    EXPECT_EQ(longest.size(), 120U);
    EXPECT_TRUE(longest.ends_with(".mtrail")) << "the end tells the kind";
}

TEST(AKeptFile, LiesInARecordingsFolderOrBesideItsTargetFile) {
    const test::Folder folder;
    fs::create_directories(folder / "night.mtrail");
    EXPECT_EQ(kept_file_path(folder / "night.mtrail", "muted"), folder / "night.mtrail/muted.toml");
    EXPECT_EQ(kept_file_path(folder / "night.mtrail/trail.toml", "muted"), folder / "night.mtrail/muted.toml");
    EXPECT_EQ(kept_file_path("x/larkspur.target.toml", "waymarks"), "x/larkspur.waymarks.toml");
    EXPECT_EQ(kept_file_path("x/larkspur.toml", "waymarks"), "x/larkspur.waymarks.toml");
    EXPECT_EQ(kept_file_path("x/night.tar.xz", "muted"), "x/night.tar.xz.muted.toml");
    EXPECT_NE(kept_file_path("x/a.target.toml", "muted"), kept_file_path("x/a.target.toml", "waymarks"));
}

TEST(AKeptFile, IsReplacedInOneStepOrStaysAsItWas) {
    const test::Folder folder;
    ASSERT_TRUE(replace_file(folder / "a", "first"));
    ASSERT_TRUE(replace_file(folder / "a", "second"));
    EXPECT_EQ(test::read_text(folder / "a"), "second");
    EXPECT_EQ(std::distance(fs::directory_iterator(folder.path()), fs::directory_iterator()), 1) << "nothing is left beside it";
    // A folder stands where it is to go: what was there stays, and nothing is left over.
    fs::create_directories(folder / "b/c");
    const auto kept = replace_file(folder / "b", "text");
    ASSERT_FALSE(kept);
    EXPECT_NE(kept.error().text().find("cannot write"), std::string::npos);
    EXPECT_TRUE(fs::is_directory(folder / "b/c"));
    EXPECT_FALSE(fs::exists(folder / "b.new"));
    EXPECT_FALSE(replace_file(folder / "no/such/folder", "text"));
}

TEST(AScratchFile, HasNoNameAndCanBeWrittenAndRead) {
    const int file = open_scratch_file();
    ASSERT_GE(file, 0);
    struct stat about {};
    ASSERT_EQ(::fstat(file, &about), 0);
    EXPECT_EQ(about.st_nlink, 0U) << "nobody finds it, and it goes with the program";
    EXPECT_EQ(::write(file, "abc", 3), 3);
    char back[3] = {};
    EXPECT_EQ(::pread(file, back, 3, 0), 3);
    EXPECT_EQ(std::string(back, 3), "abc");
    ::close(file);
}

TEST(AScratchFolder, GoesWithAllThatIsInIt) {
    std::string path;
    {
        auto made = ScratchFolder::make();
        ASSERT_TRUE(made) << made.error().text();
        const ScratchFolder folder = std::move(*made);
        path = folder.path();
        ASSERT_TRUE(fs::is_directory(path));
        fs::create_directories(path + "/a/b");
        test::write_file(path + "/a/b/c", std::string("x"));
        auto other = ScratchFolder::make();
        ASSERT_TRUE(other);
        EXPECT_NE(other->path(), path);
    }
    EXPECT_FALSE(fs::exists(path));
}

TEST(AMappedFile, ShowsItsBytesAndRefusesWhatHasNone) {
    const test::Folder folder;
    test::write_file(folder / "a", std::string("hello"));
    const auto file = MappedFile::open(folder / "a");
    ASSERT_TRUE(file) << file.error().text();
    const auto bytes = (*file)->bytes();
    EXPECT_EQ(std::string(bytes.begin(), bytes.end()), "hello");
    EXPECT_EQ((*file)->trouble(), "");
    EXPECT_FALSE(MappedFile::open(folder.path()));
    EXPECT_FALSE(MappedFile::open("/dev/zero"));
    EXPECT_FALSE(MappedFile::open(folder / "nothing"));
}

TEST(AMappedFile, ThatIsCutShortReadsAsZerosFromThere) {
    const test::Folder folder;
    test::write_file(folder / "a", std::string(100'000, 'x'));
    const auto file = MappedFile::open(folder / "a");
    ASSERT_TRUE(file);
    fs::resize_file(folder / "a", 4096);
    const auto bytes = (*file)->bytes();
    ASSERT_EQ(bytes.size(), 100'000U);
    EXPECT_EQ(bytes[4095], 'x');
    EXPECT_EQ(bytes[99'999], 0);
}

TEST(AFollowedFile, GrowsAndEarlierViewsStay) {
    const test::Folder folder;
    test::write_file(folder / "a", std::string());
    const auto file = MappedFile::follow(folder / "a");
    ASSERT_TRUE(file) << file.error().text();
    EXPECT_EQ((*file)->bytes().size(), 0U);
    test::write_file(folder / "a", std::string(5000, 'a'));
    (*file)->renew(5000);
    const auto early = (*file)->bytes();
    ASSERT_EQ(early.size(), 5000U);
    std::ofstream(folder / "a", std::ios::app) << std::string(200'000, 'b');
    (*file)->renew(205'000);
    EXPECT_EQ((*file)->bytes().size(), 205'000U);
    EXPECT_EQ((*file)->bytes()[204'999], 'b');
    EXPECT_EQ((*file)->bytes().data(), early.data()) << "it did not move";
    (*file)->let_go(150'000);
    EXPECT_EQ(early[10], 'a') << "can still be read";
}

TEST(SeveralFiles, AreReadAsOneBehindTheOther) {
    const test::Folder folder;
    test::write_file(folder / "a", std::string("ab"));
    test::write_file(folder / "b", std::string("cde"));
    const auto file = MappedFile::open({folder / "a", folder / "b"});
    ASSERT_TRUE(file) << file.error().text();
    const auto bytes = (*file)->bytes();
    EXPECT_EQ(std::string(bytes.begin(), bytes.end()), "abcde");
    EXPECT_FALSE(MappedFile::open({folder / "a", folder / "nothing"}));
}

}  // namespace
}  // namespace mt
