// Files as people pass them on: compressed, split, packed as tar.
#include "base/packed.h"

#include <archive.h>
#include <archive_entry.h>
#include <gtest/gtest.h>

#include <numeric>
#include <random>

#include "base/mapped_file.h"
#include "identify/parts.h"
#include "support.h"

namespace mt {
namespace {

using Bytes = std::vector<std::uint8_t>;

// Packs files as tar, or one file's bytes alone, by "gzip", "xz", "zstd" or nothing.
struct Entry {
    std::string name;
    Bytes bytes;
    std::string link = {};
};
void pack(const std::string& to, const std::string& how, bool tar, const std::vector<Entry>& entries) {
    struct archive* a = archive_write_new();
    if (how == "gzip") archive_write_add_filter_gzip(a);
    if (how == "xz") archive_write_add_filter_xz(a);
    if (how == "zstd") archive_write_add_filter_zstd(a);
    tar ? archive_write_set_format_pax_restricted(a) : archive_write_set_format_raw(a);
    ASSERT_EQ(archive_write_open_filename(a, to.c_str()), ARCHIVE_OK);
    for (const Entry& e : entries) {
        struct archive_entry* entry = archive_entry_new();
        archive_entry_set_pathname(entry, e.name.c_str());
        archive_entry_set_filetype(entry, e.link.empty() ? AE_IFREG : AE_IFLNK);
        if (!e.link.empty()) archive_entry_set_symlink(entry, e.link.c_str());
        archive_entry_set_size(entry, static_cast<la_int64_t>(e.bytes.size()));
        archive_entry_set_perm(entry, 0644);
        archive_write_header(a, entry);
        archive_write_data(a, e.bytes.data(), e.bytes.size());
        archive_entry_free(entry);
    }
    archive_write_close(a);
    archive_write_free(a);
}

Bytes some_bytes(std::size_t n) {
    Bytes bytes(n);
    std::mt19937 random(3);
    for (auto& b : bytes) b = static_cast<std::uint8_t>(random() % 64);
    return bytes;
}

Bytes mapped(const std::vector<std::string>& paths) {
    const auto file = MappedFile::open(paths);
    EXPECT_TRUE(file) << (file ? "" : file.error().text());
    if (!file) return {};
    return {(*file)->bytes().begin(), (*file)->bytes().end()};
}

class ACompressedFile : public testing::TestWithParam<const char*> {};
INSTANTIATE_TEST_SUITE_P(Packed, ACompressedFile, testing::Values("gzip", "xz", "zstd"),
                         [](const auto& i) { return std::string(i.param); });

TEST_P(ACompressedFile, IsReadAsWhatIsInIt) {
    test::Folder folder;
    const Bytes bytes = some_bytes(300'000);
    pack(folder / "swo.bin.packed", GetParam(), false, {{"swo.bin", bytes}});
    EXPECT_EQ(packing_of(test::read_bytes(folder / "swo.bin.packed")), GetParam());
    EXPECT_EQ(mapped({folder / "swo.bin.packed"}), bytes);
}

TEST_P(ACompressedFile, ThatWasCutGivesItsBeginningAndSaysSo) {
    test::Folder folder;
    const Bytes bytes = some_bytes(3'000'000);
    pack(folder / "whole", GetParam(), false, {{"swo.bin", bytes}});
    Bytes packed = test::read_bytes(folder / "whole");
    packed.resize(packed.size() * 2 / 3);
    test::write_file(folder / "cut", packed);
    const auto file = MappedFile::open(folder / "cut");
    ASSERT_TRUE(file) << file.error().text();
    EXPECT_FALSE((*file)->trouble().empty());
    const auto read = (*file)->bytes();
    ASSERT_GT(read.size(), 100'000U);
    EXPECT_LT(read.size(), bytes.size());
    EXPECT_TRUE(std::equal(read.begin(), read.end(), bytes.begin()));
}

TEST_P(ACompressedFile, ThatWasSplitAfterwardsIsReadWhole) {
    test::Folder folder;
    const Bytes bytes = some_bytes(300'000);
    pack(folder / "whole", GetParam(), false, {{"swo.bin", bytes}});
    const Bytes packed = test::read_bytes(folder / "whole");
    const auto third = static_cast<std::ptrdiff_t>(packed.size() / 3);
    test::write_file(folder / "p.000", Bytes(packed.begin(), packed.begin() + third));
    test::write_file(folder / "p.001", Bytes(packed.begin() + third, packed.begin() + 2 * third));
    test::write_file(folder / "p.002", Bytes(packed.begin() + 2 * third, packed.end()));
    EXPECT_EQ(mapped(parts_of_capture(folder / "p.001")), bytes);
}

TEST_P(ACompressedFile, HoldsARecordingThatDecodesAsThePlainOne) {
    test::Folder folder;
    pack(folder / "capture.packed", GetParam(), false, {{"x", test::read_bytes(test::data("mount/capture.bin"))}});
    test::write_file(folder / "x.target.toml", test::itm_target("capture.packed", false, "72_000_000"));
    const auto packed = test::decode(folder / "x.target.toml"),
               plain = test::decode(test::data("mount/mount.target.toml"));
    EXPECT_EQ(packed.trail->streams[0].packets, plain.trail->streams[0].packets);
    EXPECT_EQ(packed.trail->streams[0].bad_bytes, plain.trail->streams[0].bad_bytes);
}

TEST(Packed, BytesThatOnlyBeginAsGzipDoesAreReadAsTheyAre) {
    test::Folder folder;
    Bytes bytes = some_bytes(5'000);
    bytes[0] = 0x1F, bytes[1] = 0x8B, bytes[2] = 8, bytes[3] = 0;
    for (std::size_t i = 10; i < 40; ++i) bytes[i] = 0xFF;  // no block of a deflate stream begins so (RFC 1951, 3.2.3)
    test::write_file(folder / "swo.bin", bytes);
    EXPECT_EQ(mapped({folder / "swo.bin"}), bytes);
}

TEST(Packed, WhatIsDamagedFromTheFirstByteOnIsAProblemThatNamesTheFile) {
    test::Folder folder;
    Bytes bytes = some_bytes(500);
    const Bytes xz = {0xFD, '7', 'z', 'X', 'Z', 0};
    std::copy(xz.begin(), xz.end(), bytes.begin());
    test::write_file(folder / "swo.xz", bytes);
    const auto file = MappedFile::open(folder / "swo.xz");
    ASSERT_FALSE(file);
    EXPECT_EQ(file.error().where, folder / "swo.xz");
    EXPECT_NE(file.error().text().find("cannot be unpacked"), std::string::npos) << file.error().text();
}

TEST(Packed, PartsAreFoundByTheirNamesFromAnyOfThem) {
    test::Folder folder;
    const auto found = [&](const std::string& name) {
        std::string names;
        for (const auto& p : parts_of_capture(folder / name))
            names += (names.empty() ? "" : " ") + std::filesystem::path(p).filename().string();
        return names;
    };
    for (const char* name : {"swo.bin.000", "swo.bin.001", "swo.bin.002", "etm.part1.bin", "etm.part2.bin", "log.aa",
                             "log.ab", "run1.bin", "run2.bin", "late.003", "late.004", "one.000", "v.1", "v.2"})
        test::write_file(folder / name, "x");
    EXPECT_EQ(found("swo.bin.001"), "swo.bin.000 swo.bin.001 swo.bin.002");
    EXPECT_EQ(found("etm.part2.bin"), "etm.part1.bin etm.part2.bin");
    EXPECT_EQ(found("log.ab"), "log.aa log.ab");
    EXPECT_EQ(found("run2.bin"), "run2.bin") << "recordings of their own";
    EXPECT_EQ(found("late.004"), "late.004") << "the first is not there";
    EXPECT_EQ(found("one.000"), "one.000");
    EXPECT_EQ(found("v.2"), "v.2");
    for (int i = 0; i < 12; ++i) test::write_file(folder / ("many.part" + std::to_string(i) + ".bin"), "x");
    EXPECT_EQ(parts_of_capture(folder / "many.part11.bin").size(), 12U);
}

TEST(Packed, APartOfASplitCaptureReadsLikeTheWhole) {
    test::Folder folder;
    const Bytes all = test::read_bytes(test::data("mount/capture.bin"));
    const auto cut = static_cast<std::ptrdiff_t>(100'001);
    test::write_file(folder / "a.bin", Bytes(all.begin(), all.begin() + cut));
    test::write_file(folder / "b.bin", Bytes(all.begin() + cut, all.end()));
    std::string text = test::itm_target("a.bin", false, "72_000_000");
    text.replace(text.find("\"a.bin\""), 7, "[\"a.bin\", \"b.bin\"]");
    test::write_file(folder / "x.target.toml", text);
    const auto split = test::decode(folder / "x.target.toml"),
               whole = test::decode(test::data("mount/mount.target.toml"));
    EXPECT_EQ(split.trail->streams[0].packets, whole.trail->streams[0].packets);
    Progress progress;
    ASSERT_TRUE(save_recording(*split.recording, folder / "kept.mtrail", false, progress));
    std::filesystem::remove(folder / "a.bin");
    EXPECT_EQ(test::decode(folder / "kept.mtrail").trail->streams[0].packets, whole.trail->streams[0].packets);
}

class AnArchive : public testing::TestWithParam<const char*> {
  protected:
    static std::vector<Entry> trace(const std::string& below) {
        std::vector<Entry> entries;
        for (const auto& f : std::filesystem::directory_iterator(test::data("tasks/mount-a/trace")))
            entries.push_back({below + f.path().filename().string(), test::read_bytes(f.path().string())});
        return entries;
    }
};
INSTANTIATE_TEST_SUITE_P(Packed, AnArchive, testing::Values("none", "gzip", "xz", "zstd"),
                         [](const auto& i) { return std::string(i.param); });

TEST_P(AnArchive, OfATraceFolderOpensAsTheFolderDoes) {
    test::Folder folder;
    pack(folder / "mount-a.tar", GetParam(), true, trace("a/trace/"));
    ASSERT_TRUE(is_tar(folder / "mount-a.tar"));
    std::string place;
    {
        const auto packed = test::decode(folder / "mount-a.tar"),
                   plain = test::decode(test::data("tasks/mount-a/trace"));
        EXPECT_EQ(packed.trail->tasks.tasks.size(), plain.trail->tasks.tasks.size());
        EXPECT_EQ(packed.trail->end, plain.trail->end);
        EXPECT_EQ(packed.recording->title, "mount-a");
        place = packed.recording->unpacked->path();
        EXPECT_TRUE(std::filesystem::exists(place));
    }
    EXPECT_FALSE(std::filesystem::exists(place)) << "gone with the recording";
}

TEST(Packed, AnArchiveWritesNothingOutsideOfItsFolder) {
    test::Folder folder;
    std::vector<Entry> entries = {{"../outside", {1}},  {"/tmp/mtrail-outside", {1}}, {"link", {}, "/etc"},
                                  {"link/inside", {1}}, {"a/../../up", {1}},          {"fine", {1, 2}}};
    pack(folder / "evil.tar", "none", true, entries);
    const auto unpacked = unpack_tar(folder / "evil.tar");
    ASSERT_TRUE(unpacked) << unpacked.error().text();
    const std::filesystem::path inside(unpacked->path());
    EXPECT_TRUE(std::filesystem::exists(inside / "fine"));
    EXPECT_FALSE(std::filesystem::exists(inside.parent_path() / "outside"));
    EXPECT_FALSE(std::filesystem::exists(inside.parent_path() / "up"));
    EXPECT_FALSE(std::filesystem::exists("/tmp/mtrail-outside"));
    EXPECT_FALSE(std::filesystem::is_symlink(inside / "link"));
    const auto opened = open_recording(folder / "evil.tar");
    ASSERT_FALSE(opened);
    EXPECT_NE(opened.error().text().find("no recording is found"), std::string::npos) << opened.error().text();
}

TEST(Packed, NothingButZerosIsNoArchive) {
    test::Folder folder;
    test::write_file(folder / "zeros", Bytes(20'000));
    EXPECT_FALSE(is_tar(folder / "zeros"));
    EXPECT_FALSE(is_tar(test::data("mount/capture.bin")));
    EXPECT_FALSE(is_tar(folder / "missing"));
}

}  // namespace
}  // namespace mt
