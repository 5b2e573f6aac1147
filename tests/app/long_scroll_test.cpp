// A scroll bar over more rows than fit into its whole numbers.
#include "look/long_scroll.h"

#include <gtest/gtest.h>

namespace mt::app {
namespace {

constexpr std::uint64_t kRows = 9'000'000'000;

TEST(ALongTable, IsScrolledRowByRowWhereverItStands) {
    QScrollBar bar;
    LongScroll scroll(&bar);
    scroll.set_range(kRows, 30);
    EXPECT_EQ(scroll.top(), 0u);
    scroll.set_top(4'000'000'001);
    EXPECT_EQ(scroll.top(), 4'000'000'001u);
    scroll.scroll(1);
    EXPECT_EQ(scroll.top(), 4'000'000'002u);
    scroll.scroll(-3);
    EXPECT_EQ(scroll.top(), 3'999'999'999u);
    scroll.scroll(-5'000'000'000);
    EXPECT_EQ(scroll.top(), 0u);
}

TEST(ALongTable, EndsWithItsLastRowAtTheBarsEnd) {
    QScrollBar bar;
    LongScroll scroll(&bar);
    scroll.set_range(kRows, 30);
    bar.setValue(bar.maximum());
    EXPECT_GE(scroll.top(), kRows - 30 - 9) << "within the rows of one unit of the bar";
    scroll.set_top(kRows);
    EXPECT_EQ(scroll.top(), kRows - 30);
    EXPECT_GT(bar.maximum(), 0);
    scroll.set_range(100, 30);
    EXPECT_EQ(bar.maximum(), 70);
    EXPECT_EQ(scroll.top(), 70u);
}

}  // namespace
}  // namespace mt::app
