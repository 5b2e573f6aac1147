#include "target/image.h"

#include <gtest/gtest.h>

#include "support.h"
#include "target/exception_names.h"

namespace mt {
namespace {

std::shared_ptr<const Image> mount() {
    auto image = Image::open(test::data("mount/firmware.elf"));
    EXPECT_TRUE(image);
    return *image;
}

TEST(Image, FindsFunctionsByAddressWithOrWithoutTheThumbBit) {
    const auto image = mount();
    ASSERT_NE(image->function_at(0x190), nullptr);
    EXPECT_EQ(image->function_at(0x18C)->name, "step_handler");
    EXPECT_EQ(image->function_at(0x18D)->name, "step_handler");
    EXPECT_EQ(image->function_at(0x20000102)->name, "sky_hash") << "code that runs from RAM";
    EXPECT_EQ(image->function_at(0x60000000), nullptr);
    EXPECT_EQ(image->symbol_named("axis_error")->address, 0x20000004U);
}

TEST(Image, GivesSourceLines) {
    const auto line = mount()->line_at(0x18C);
    ASSERT_TRUE(line);
    EXPECT_NE(line->file.find("axis.c"), std::string::npos);
    EXPECT_GT(line->line, 0);
}

TEST(Image, FindsTheVectorTable) {
    EXPECT_EQ(mount()->vector_table(), 0U);
    auto larkspur = Image::open(test::demo("larkspur.elf"));
    ASSERT_TRUE(larkspur);
    EXPECT_EQ((*larkspur)->vector_table(), 0x08000000U);
}

TEST(Image, DamagedFilesGiveAProblemOrLessNeverACrash) {
    const auto good = test::read_bytes(test::data("mount/firmware.elf"));
    test::Folder folder;
    std::uint32_t x = 99;
    int opened = 0;
    for (int round = 0; round < 60; ++round) {
        auto bytes = good;
        if (round % 2 == 0) bytes.resize(bytes.size() * static_cast<std::size_t>(round) / 60);
        for (int i = 0; i < 30 && !bytes.empty(); ++i) {
            x = x * 1664525u + 1013904223u;
            bytes[(round % 3 == 0 ? x % std::min<std::size_t>(bytes.size(), 64) : x % bytes.size())] =
                static_cast<std::uint8_t>(x >> 24);
        }
        test::write_file(folder / "x.elf", bytes);
        auto image = Image::open(folder / "x.elf");
        if (!image) {
            EXPECT_FALSE(image.error().what.empty());
            EXPECT_FALSE(image.error().advice.empty());
            continue;
        }
        ++opened;
        if (const Symbol* function = (*image)->function_at(0x18C)) {
            EXPECT_LE(function->address, 0x18CU);
            EXPECT_FALSE(function->name.empty());
        }
        if (const auto line = (*image)->line_at(0x18C)) {
            EXPECT_FALSE(line->file.empty());
        }
        exception_names(image->get(), nullptr);
    }
    EXPECT_GT(opened, 5) << "damage in the middle leaves the rest";
    EXPECT_LT(opened, 60);
}

// System V ABI, "ELF Header": e_shoff and e_shnum tell where the table of sections ends; "Sections": sh_offset, sh_size.
TEST(Image, OneThatIsCutOffKnowsHowLongItShouldBe) {
    const auto good = test::read_bytes(test::data("mount/firmware.elf"));
    EXPECT_FALSE(mount()->cut());
    test::Folder folder;
    for (const std::size_t part : {20, 50, 90, 99}) {
        const std::size_t has = good.size() * part / 100;
        test::write_file(folder / "x.elf", std::vector(good.begin(), good.begin() + static_cast<std::ptrdiff_t>(has)));
        const auto image = Image::open(folder / "x.elf");
        ASSERT_TRUE(image) << part;
        ASSERT_TRUE((*image)->cut()) << part;
        EXPECT_EQ((*image)->cut()->told, good.size()) << part;
        EXPECT_EQ((*image)->cut()->has, has);
    }
}

TEST(ExceptionNames, ComeFromTheVectorTableUnlessTheSvdKnowsBetter) {
    const auto image = mount();
    auto names = exception_names(image.get(), nullptr);
    EXPECT_EQ(names.at(24), "step_handler");
    EXPECT_EQ(names.at(26), "guide_handler");
    EXPECT_EQ(names.count(16), 0U) << "no handler, no name";
    auto svd = read_svd(test::demo("larkspur.svd"));
    ASSERT_TRUE(svd);
    EXPECT_EQ(svd->priority_bits, 4U);
    EXPECT_EQ(svd->names.at(3), "GUIDE_UART");
    auto larkspur = *Image::open(test::demo("larkspur.elf"));
    EXPECT_EQ(exception_names(larkspur.get(), nullptr).at(18), "interrupt 2 (Unused_Handler)")
        << "shared by several vectors";
    EXPECT_EQ(exception_names(larkspur.get(), &*svd).at(16), "ENC_INDEX");
}

TEST(Svd, WhatIsNoSvdIsAProblem) {
    test::Folder folder;
    test::write_file(folder / "x.svd", std::string("<device><peripherals><peripheral>"));
    EXPECT_FALSE(read_svd(folder / "x.svd"));
    test::write_file(folder / "y.svd", std::string("<moon/>"));
    EXPECT_FALSE(read_svd(folder / "y.svd"));
}

TEST(Images, GiveTheAddressOfWhatAPersonNames) {
    const auto image = *Image::open(MT_DEMO "/larkspur.elf");
    const auto main = image->address_of("main");
    ASSERT_TRUE(main) << main.error().text();
    EXPECT_EQ(image->function_at(*main)->name, "main");
    const auto line = image->address_of("main.c:6");
    ASSERT_TRUE(line) << line.error().text();
    EXPECT_EQ(image->line_at(*line)->line, 6);
    EXPECT_EQ(*image->address_of("0x8000100"), 0x8000100U);
    for (const char* nothing : {"no_such_function", "main.c:9999", "nofile.c:1", "0x", "0xzz", ""})
        EXPECT_FALSE(image->address_of(nothing)) << nothing;
}

TEST(Images, SayWhatTheyLoad) {
    const auto image = *Image::open(MT_DEMO "/larkspur-cop.elf");
    ASSERT_FALSE(image->pieces().empty());
    EXPECT_EQ(image->entry(), 0x80000000U);
    EXPECT_EQ(image->pieces()[0].loaded_at, 0x80000000U);
    EXPECT_FALSE(image->pieces()[0].writable);
    EXPECT_GT(image->pieces()[0].bytes.size(), 1000U);
}

TEST(Image, KnowsTheFoldersInWhichItWasCompiled) {
    const auto image = Image::open(test::demo("larkspur.elf"));
    ASSERT_TRUE(image);
    EXPECT_EQ((*image)->source_folders(), std::vector<std::string>{"firmware"});
}

}  // namespace
}  // namespace mt
