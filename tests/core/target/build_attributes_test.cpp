// The architecture that compilers leave in an image.
#include "target/build_attributes.h"

#include <gtest/gtest.h>

#include <string>

#include "support.h"

namespace mt {
namespace {

// IHI 0045, 2.1: 'A', then parts of a size, a vendor's name, and sub-parts of a tag, a size and attributes.
std::vector<std::uint8_t> section(const std::string& vendor, const std::vector<std::uint8_t>& attributes) {
    std::vector<std::uint8_t> all = {'A'};
    const auto word = [&](std::size_t n) {
        for (int i = 0; i < 4; ++i) all.push_back(static_cast<std::uint8_t>(n >> (8 * i)));
    };
    word(4 + vendor.size() + 1 + 5 + attributes.size());
    all.insert(all.end(), vendor.begin(), vendor.end());
    all.push_back(0);
    all.push_back(1);
    word(5 + attributes.size());
    all.insert(all.end(), attributes.begin(), attributes.end());
    return all;
}

TEST(BuildAttributes, NameTheArchitectureAndItsProfile) {
    const auto built_for = [](std::uint8_t arch, std::uint8_t profile) {
        return arm_isa(section("aeabi", {5, 'x', 0, 6, arch, 7, profile, 32, 1, 'y', 0, 8, 1}));
    };
    EXPECT_EQ(built_for(10, 'M'), "armv7-m");
    EXPECT_EQ(built_for(10, 'A'), "armv7-a");
    EXPECT_EQ(built_for(10, 'R'), "armv7-r");
    EXPECT_EQ(built_for(12, 'M'), "armv6-m");
    EXPECT_EQ(built_for(13, 'M'), "armv7e-m");
    EXPECT_EQ(built_for(17, 'M'), "armv8-m.main");
    EXPECT_EQ(built_for(21, 'M'), "armv8.1-m.main");
    EXPECT_EQ(built_for(99, 'M'), "");
    const std::string arch = "rv32i2p1_m2p0_a2p1_f2p2_c2p0_zicsr2p0";
    std::vector<std::uint8_t> attributes = {4, 16, 5};
    attributes.insert(attributes.end(), arch.begin(), arch.end());
    attributes.push_back(0);
    EXPECT_EQ(riscv_isa(section("riscv", attributes)), "rv32imafc");
}

TEST(BuildAttributes, CutOrOfAnotherVendorSayNothing) {
    const auto whole = section("aeabi", {6, 13, 7, 'M'});
    EXPECT_EQ(arm_isa(whole), "armv7e-m");
    for (std::size_t n = 0; n < whole.size(); ++n) (void)arm_isa(std::span(whole).first(n));
    EXPECT_EQ(arm_isa(section("other", {6, 13})), "");
    EXPECT_EQ(riscv_isa(whole), "");
    EXPECT_EQ(arm_isa({}), "");
}

TEST(BuildAttributes, OfRealImages) {
    const auto isa = [](const std::string& path) { return (*Image::open(path))->isa(); };
    EXPECT_EQ(isa(test::demo("larkspur.elf")), "armv7e-m");
    EXPECT_EQ(isa(test::demo("larkspur-cop.elf")).substr(0, 5), "rv32i");
    EXPECT_EQ(isa(test::data("steps/paddle.elf")), "armv6-m");
    EXPECT_EQ(isa(test::data("steps/mount-cop.elf")), "rv32imac");
}

}  // namespace
}  // namespace mt
