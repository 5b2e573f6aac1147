// What the bytes of a value mean by its type, its mask and its shift.
#include "target/typed_value.h"

#include <gtest/gtest.h>

#include <bit>
#include <limits>

namespace mt {
namespace {

TEST(AValuesType, SaysHowManyBitsCountAndWhetherTheyAreSigned) {
    struct Case {
        const char* type;
        std::uint64_t raw;
        std::int64_t value;
    };
    for (const Case& c : {Case{"u8", 0xFF, 255},
                          {"i8", 0xFF, -1},
                          {"i8", 0x80, -128},
                          {"u16", 0xFFFE, 65534},
                          {"i16", 0xFFFE, -2},
                          {"i16", 0x8000, -32768},
                          {"u32", 0xFFFF'FFFF, 4'294'967'295},
                          {"i32", 0xFFFF'FFFF, -1},
                          {"i32", 0x8000'0000, -2'147'483'648},
                          {"u8", 0x1FF, 255},
                          {"i16", 0x1'0001, 1}}) {
        EXPECT_EQ(ValueForm{c.type}.read(c.raw), c.value) << c.type << " " << c.raw;
        EXPECT_EQ(ValueForm{c.type}.text(c.raw), std::to_string(c.value)) << c.type;
    }
}

// A field of a register: mask first, then shift, then the type.
TEST(AValuesMaskAndShift, CutAFieldOut) {
    EXPECT_EQ((ValueForm{"u32", 0x0000'FF00, 8}.read(0x1234'5678)), 0x56);
    EXPECT_EQ((ValueForm{"i8", 0x0000'FF00, 8}.read(0x0000'F000)), -16);
    EXPECT_EQ((ValueForm{"u8", 0x8000'0000, 31}.read(0x8000'0000)), 1);
    EXPECT_EQ((ValueForm{"u32", 0, 0}.read(0xFFFF'FFFF)), 0);
}

TEST(AFloatingPointValue, CountsMillionths) {
    const ValueForm f{"f32"};
    EXPECT_EQ(f.decimals(), 6U);
    EXPECT_EQ(ValueForm{"i32"}.decimals(), 0U);
    for (const float x : {0.0F, 1.5F, -0.25F, 1.0e-6F, 123456.5F})
        EXPECT_EQ(f.read(std::bit_cast<std::uint32_t>(x)),
                  static_cast<std::int64_t>(static_cast<double>(x) * 1e6 + (x < 0 ? -0.5 : 0.5)))
            << x;
    EXPECT_EQ(f.text(std::bit_cast<std::uint32_t>(-0.25F)), "-0.250000");
}

TEST(AFloatingPointValue, ThatIsNoNumberOrHugeIsNoTrap) {
    const ValueForm f{"f32"};
    for (const float x : {std::numeric_limits<float>::quiet_NaN(), std::numeric_limits<float>::infinity(),
                          -std::numeric_limits<float>::infinity()})
        EXPECT_EQ(f.read(std::bit_cast<std::uint32_t>(x)), 0);
    EXPECT_GT(f.read(std::bit_cast<std::uint32_t>(std::numeric_limits<float>::max())), 8'000'000'000'000'000'000);
    EXPECT_LT(f.read(std::bit_cast<std::uint32_t>(std::numeric_limits<float>::lowest())), -8'000'000'000'000'000'000);
}

}  // namespace
}  // namespace mt
