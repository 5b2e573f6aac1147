// What the bytes of a value mean by its type, its mask and its shift.
#include "target/value_type.h"

#include <gtest/gtest.h>

#include <bit>
#include <cmath>
#include <limits>

namespace mt {
namespace {

ValueType type(const char* name) {
    const auto found = ValueType::named(name);
    EXPECT_TRUE(found) << name;
    return found.value_or(ValueType{});
}
Value read(const char* name, std::uint64_t raw) { return type(name).read(raw); }

TEST(AValuesType, SaysHowManyBitsCountAndWhetherTheyAreSigned) {
    struct Case {
        const char* type;
        std::uint64_t raw;
        const char* text;
    };
    for (const Case& c : {Case{"u8", 0xFF, "255"},
                          {"i8", 0xFF, "-1"},
                          {"i8", 0x80, "-128"},
                          {"u16", 0xFFFE, "65534"},
                          {"i16", 0xFFFE, "-2"},
                          {"i16", 0x8000, "-32768"},
                          {"u32", 0xFFFF'FFFF, "4294967295"},
                          {"i32", 0xFFFF'FFFF, "-1"},
                          {"i32", 0x8000'0000, "-2147483648"},
                          {"u64", ~0ull, "18446744073709551615"},
                          {"i64", ~0ull, "-1"},
                          {"i64", 1ull << 63, "-9223372036854775808"},
                          {"u12", 0xFFFF, "4095"},
                          {"i12", 0x0800, "-2048"},
                          {"u1", 3, "1"},
                          {"i1", 1, "-1"},
                          {"bool", 0, "false"},
                          {"bool", 0x80, "true"},
                          {"u8", 0x1FF, "255"},
                          {"i16", 0x1'0001, "1"}})
        EXPECT_EQ(read(c.type, c.raw).text(), c.text) << c.type << " " << c.raw;
}

TEST(AValuesType, ThatIsNoneIsRefused) {
    for (const char* name : {"", "u", "u0", "u65", "i", "f16", "f", "u8x", "u-8", "float", "U8", "bool "})
        EXPECT_FALSE(ValueType::named(name)) << name;
}

// A field of a register: mask first, then shift, then the type.
TEST(AValuesMaskAndShift, CutAFieldOut) {
    EXPECT_EQ(type("u32").with(0x0000'FF00, 8).read(0x1234'5678).text(), "86");
    EXPECT_EQ(type("i8").with(0x0000'FF00, 8).read(0x0000'F000).text(), "-16");
    EXPECT_EQ(type("u8").with(0x8000'0000, 31).read(0x8000'0000).text(), "1");
    EXPECT_EQ(type("u32").with(0, 0).read(0xFFFF'FFFF).text(), "0");
    EXPECT_EQ(type("bool").with(0x10, 4).read(0xEF).text(), "false");
    EXPECT_EQ(type("u32").with(~0ull, 64).read(~0ull).text(), "0") << "beyond all bits";
    EXPECT_EQ(type("u32").with(0xF0, 4).field(0xABCD), 0xCU) << "without the type";
}

TEST(AFloatingPointValue, IsShownWithAsManyDigitsAsItHas) {
    for (const float x : {0.0F, 1.5F, -0.25F, 0.1F, 1.0e-6F, 123456.5F}) {
        const Value v = read("f32", std::bit_cast<std::uint32_t>(x));
        EXPECT_EQ(v.number(), static_cast<double>(x));
        EXPECT_EQ(std::stof(v.text()), x) << v.text();
        EXPECT_LT(v.text().size(), 11U) << v.text();
    }
    EXPECT_EQ(read("f32", std::bit_cast<std::uint32_t>(0.1F)).text(), "0.1");
    EXPECT_EQ(read("f64", std::bit_cast<std::uint64_t>(0.1)).text(), "0.1");
    EXPECT_EQ(read("f64", std::bit_cast<std::uint64_t>(1.0 / 3)).text(), "0.3333333333333333");
}

TEST(AFloatingPointValue, ThatIsNoNumberIsEqualToNothing) {
    const Value none = read("f32", std::bit_cast<std::uint32_t>(std::numeric_limits<float>::quiet_NaN()));
    EXPECT_TRUE(std::isnan(none.number()));
    EXPECT_EQ(none.text(), "nan");
    EXPECT_FALSE(none == none);
    const Value most = read("f32", std::bit_cast<std::uint32_t>(std::numeric_limits<float>::infinity()));
    EXPECT_EQ(most.text(), "inf");
    EXPECT_TRUE(most > read("f32", std::bit_cast<std::uint32_t>(std::numeric_limits<float>::max())));
}

TEST(Values, AreOrderedByWhatTheyAreNotByTheirBits) {
    EXPECT_TRUE(read("i8", 0xFF) < read("i8", 1));
    EXPECT_TRUE(read("u8", 0xFF) > read("u8", 1));
    EXPECT_TRUE(read("u64", ~0ull) > read("u64", ~0ull - 1)) << "where doubles would be equal";
    EXPECT_TRUE(read("f64", std::bit_cast<std::uint64_t>(-2.0)) < read("f64", std::bit_cast<std::uint64_t>(1.0)));
    EXPECT_TRUE(read("bool", 0) < read("bool", 5));
    EXPECT_TRUE(read("bool", 1) == read("bool", 5));
    EXPECT_TRUE(read("i8", 0xFF) < read("u8", 0)) << "of different sorts as numbers";
}

}  // namespace
}  // namespace mt
