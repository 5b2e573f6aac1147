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
        if (!image) continue;
        (*image)->function_at(0x18C);
        (*image)->line_at(0x18C);
        exception_names(image->get(), nullptr);
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
    EXPECT_EQ(svd->names.at(19), "GUIDE_UART");
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

}  // namespace
}  // namespace mt
