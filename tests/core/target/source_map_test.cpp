// From instructions to source lines and back, and finding the sources themselves.
#include <gtest/gtest.h>

#include <filesystem>

#include "support.h"
#include "target/image.h"
#include "target/source_map.h"

namespace mt {
namespace {

namespace fs = std::filesystem;

TEST(SourceMap, EveryLineLeadsToItsInstructionsAndTheyLeadBack) {
    const auto image = *Image::open(MT_DEMO "/larkspur-cop.elf");
    const auto code = Code::of(*image, "rv32imac");
    const auto map = SourceMap::of(*image, *code);
    const auto interpolate = map->file_index("cop/interpolate.c");
    ASSERT_NE(interpolate, SourceMap::kNone);
    const std::uint32_t arc = code->slot_of(image->symbol_named("arc")->address);
    EXPECT_EQ(map->at(arc), (SourceMap::Place{interpolate, 15})) << "static uint32_t arc(int32_t s, int32_t c) {";
    std::size_t instructions = 0;
    for (std::uint32_t file = 0; file < map->files().size(); ++file)
        for (const auto& e : map->in_file(file)) {
            EXPECT_EQ(map->at(e.slot), (SourceMap::Place{file, e.line}));
            ++instructions;
        }
    EXPECT_GT(instructions, 300U);
    const auto line = map->on_line(interpolate, 15);
    ASSERT_FALSE(line.empty());
    EXPECT_EQ(line.front().slot, arc);
    for (const auto& e : line) EXPECT_EQ(e.line, 15U);
    EXPECT_TRUE(map->on_line(interpolate, 14).empty()) << "a comment";
    EXPECT_EQ(map->file_index("no.c"), SourceMap::kNone);
    EXPECT_EQ(map->at(Code::kNowhere).file, SourceMap::kNone);
}

TEST(SourceMap, SourcesAreFoundByReplacedBeginningsAndBelowFolders) {
    test::Folder folder;
    fs::create_directories(folder / "here/drivers");
    test::write_file(folder / "here/drivers/bus.c", std::string("int bus;\n"));
    test::write_file(folder / "here/main.c", std::string("int main;\n"));
    const std::string here = folder / "here";
    SourcePaths paths;
    EXPECT_EQ(find_source("/builder/work/drivers/bus.c", paths), "");
    paths.replaced = {{"/builder/work", here}};
    EXPECT_EQ(find_source("/builder/work/drivers/bus.c", paths), here + "/drivers/bus.c");
    EXPECT_EQ(find_source("/builder/work/drivers/none.c", paths), "");
    paths.replaced.clear();
    paths.folders = {here};
    EXPECT_EQ(find_source("drivers/bus.c", paths), here + "/drivers/bus.c");
    EXPECT_EQ(find_source("/elsewhere/firmware/drivers/bus.c", paths), here + "/drivers/bus.c")
        << "without its leading directories";
    EXPECT_EQ(find_source("../main.c", paths), here + "/main.c");
    EXPECT_EQ(find_source("", paths), "");
    EXPECT_EQ(find_source(here + "/main.c", {}), here + "/main.c") << "as it is";
    EXPECT_EQ(find_source("drivers", paths), "") << "a directory is no source";
}

}  // namespace
}  // namespace mt
