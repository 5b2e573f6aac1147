// What a person may have meant by a name that is none.
#include "base/near_names.h"

#include <gtest/gtest.h>

namespace mt {
namespace {

using Names = std::vector<std::string>;
const Names kTasks{"guide", "guider", "tick", "axis_ra", "axis_dec", "SysTick", "link"};

TEST(NearNames, AreThoseWithFewOtherLettersTheNearestFirst) {
    EXPECT_EQ(near_names("guied", kTasks), (Names{"guide", "guider"}));
    EXPECT_EQ(near_names("axis_dek", kTasks), (Names{"axis_dec"}));
    EXPECT_EQ(near_names("tik", kTasks), (Names{"tick"}));
}

TEST(NearNames, DoNotMindCapitals) {
    EXPECT_EQ(near_names("SYSTICK", kTasks).front(), "SysTick");
    EXPECT_EQ(near_names("Guide", kTasks).front(), "guide");
}

TEST(NearNames, HoldWhatWasTyped) {
    EXPECT_EQ(near_names("axis", kTasks), (Names{"axis_ra", "axis_dec"}));
    EXPECT_EQ(near_names("li", kTasks), Names{}) << "two letters are in too many names";
}

TEST(NearNames, AreFewAndNoneIsThereTwice) {
    Names many;
    for (int i = 0; i < 50; ++i) many.push_back("task" + std::to_string(i % 10));
    EXPECT_EQ(near_names("task", many).size(), 3U);
    EXPECT_EQ(near_names("task", many), (Names{"task0", "task1", "task2"}));
    EXPECT_EQ(near_names("task", many, 1), (Names{"task0"}));
}

TEST(NearNames, AreNoneForSomethingElse) {
    EXPECT_TRUE(near_names("observatory", kTasks).empty());
    EXPECT_TRUE(near_names("", kTasks).empty());
    EXPECT_TRUE(near_names(std::string(1'000'000, 'x'), kTasks).empty()) << "nor does it take long";
}

TEST(NearNames, MakeASentence) {
    EXPECT_EQ(near_names_text("evnt", {"events", "find"}, ""), "did you mean events?");
    EXPECT_EQ(near_names_text("guied", kTasks, ""), "did you mean guide or guider?");
    EXPECT_EQ(near_names_text("task", {"task1", "task2", "task3"}, ""), "did you mean task1, task2 or task3?");
    EXPECT_EQ(near_names_text("zzzz", {"a", "b"}, "").rfind("there are: a, b", 0), 0U);
    EXPECT_EQ(near_names_text("x", {}, "nothing ran"), "nothing ran");
}

TEST(NearNames, AreNotListedWithoutEnd) {
    Names many;
    for (int i = 0; i < 5000; ++i) many.push_back("function" + std::to_string(i));
    EXPECT_LT(near_names_text("qq", many, "").size(), 600U);
}

}  // namespace
}  // namespace mt
