// Variables named as in C: where they stand and of which type they are, out of the image's DWARF.
#include <gtest/gtest.h>

#include "target/data_place.h"
#include "target/image.h"

namespace mt {
namespace {

CoreSpec core() {
    CoreSpec c;
    c.name = "main";
    c.isa = "armv7e-m";
    c.image = MT_DEMO "/larkspur.elf";
    return c;
}

std::uint64_t symbol(const std::string& name) {
    return Image::open(MT_DEMO "/larkspur.elf").value()->symbol_named(name)->address;
}

DataPlace place(const std::string& expression) {
    auto p = find_data(core(), expression);
    EXPECT_TRUE(p) << p.error().text();
    return p.value_or(DataPlace{});
}
std::string refusal(const std::string& expression) {
    const auto p = find_data(core(), expression);
    return p ? "" : p.error().text();
}

TEST(AVariable, HasItsAddressSizeAndType) {
    const DataPlace error = place("axis_error");
    EXPECT_EQ(error.address, symbol("axis_error"));
    EXPECT_EQ(error.size, 2U);
    EXPECT_EQ(error.type, "i16");
    EXPECT_EQ(place("current_task").size, 4U);
}

TEST(AVariable, OfElementsIsFoundByIndex) {
    const DataPlace whole = place("frame"), one = place("frame[3]"), some = place("frame[4..7]");
    EXPECT_EQ(whole.size, 256U);
    EXPECT_TRUE(whole.type.empty()) << "no single value";
    ASSERT_GT(one.size, 0U);
    EXPECT_EQ(one.address, whole.address + 3 * one.size);
    EXPECT_FALSE(one.type.empty());
    EXPECT_EQ(some.address, whole.address + 4 * one.size);
    EXPECT_EQ(some.size, 4 * one.size);
    EXPECT_NE(refusal("frame[100000]").find("elements"), std::string::npos);
    EXPECT_NE(refusal("axis_error[0]").find("no array"), std::string::npos);
}

TEST(AVariable, OfMembersIsFoundByName) {
    const DataPlace first = place("tasks[0]"), second = place("tasks[1]");
    EXPECT_EQ(second.address - first.address, first.size);
    EXPECT_NE(refusal("tasks[0].no_such_member").find("no member"), std::string::npos);
    EXPECT_NE(refusal("axis_error.x").find("no members"), std::string::npos);
}

TEST(ARawPlace, IsATypeAndAnAddress) {
    const DataPlace p = place("*(uint32_t*)0x40020414");
    EXPECT_EQ(p.address, 0x40020414U);
    EXPECT_EQ(p.size, 4U);
    EXPECT_EQ(p.type, "u32");
    EXPECT_EQ(place("*(unsigned short *) 0x20000000").type, "u16");
    EXPECT_NE(refusal("*(wombat*)0x0").find("no type"), std::string::npos);
}

TEST(BitsOfAPlace, AreTakenAsCTakesThem) {
    const auto bits = [](const std::string& expression) {
        const DataPlace p = place(expression);
        return std::pair(p.mask, p.shift);
    };
    EXPECT_EQ(bits("*(uint32_t*)0x40020414 >> 2 & 1"), std::pair(std::uint64_t{4}, 2U));
    EXPECT_EQ(bits("(current_task & 0xF0) >> 4"), std::pair(std::uint64_t{0xF0}, 4U));
    EXPECT_EQ(bits("current_task & 0xF0 >> 4"), std::pair(std::uint64_t{0xF}, 0U)) << ">> binds tighter than &";
    EXPECT_EQ(bits("current_task >> 4 >> 4 & 3"), std::pair(std::uint64_t{0x300}, 8U));
    EXPECT_EQ(place("axis_error >> 8").type, "u16") << "bits of a signed number have no sign";
    EXPECT_NE(refusal("frame & 1").find("no whole number"), std::string::npos);
    EXPECT_NE(refusal("current_task >> 99").find("a shift from 0 to 63"), std::string::npos);
    EXPECT_NE(refusal("current_task & 0").find("no bit is left"), std::string::npos);
    EXPECT_NE(refusal("(current_task").find("')' is missing at column 14"), std::string::npos)
        << refusal("(current_task");
}

TEST(AVariable, ThatIsNotThereIsToldWithNearNamesAndTheColumn) {
    EXPECT_NE(refusal("axis_eror").find("axis_error"), std::string::npos);
    EXPECT_NE(refusal("").find("column 1"), std::string::npos);
    EXPECT_NE(refusal("tasks[").find("column"), std::string::npos);
    EXPECT_NE(refusal("tasks[2..1]").find("below the first"), std::string::npos);
    EXPECT_NE(refusal("tasks->name").find("pointer"), std::string::npos);
    EXPECT_NE(refusal("axis_error + 1").find("unexpected"), std::string::npos);
    EXPECT_NE(refusal(std::string(100'000, 'a')).find("too long"), std::string::npos);
}

}  // namespace
}  // namespace mt
