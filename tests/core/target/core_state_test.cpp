// Where a core stood, as a file.
#include "target/core_state.h"

#include <gtest/gtest.h>

#include "support.h"

namespace mt {
namespace {

TEST(StoodPlaces, CountHowOftenAndHowOftenChangedAndAreReadBackAsTheyWereWritten) {
    StoodPlaces stood;
    stood.add(0x0800'0101, false);  // bit 0 tells Thumb
    stood.add(0x0800'0100, true);
    stood.add(0xFFFF'FFFF'8000'0000, false);
    EXPECT_EQ(stood.times, 3U);
    ASSERT_EQ(stood.at.size(), 2U);
    EXPECT_EQ(stood.at[0x0800'0100], (StoodPlaces::At{2, 1}));
    const test::Folder folder;
    test::write_file(folder / "stood.csv", stood_text(stood));
    const auto read = read_stood(folder / "stood.csv");
    ASSERT_TRUE(read) << read.error().text();
    EXPECT_EQ(*read, stood);
}

TEST(StoodPlaces, TooManyAreNotKeptAndThatIsSaid) {
    StoodPlaces stood;
    for (std::uint64_t i = 0; i <= StoodPlaces::kMost; ++i) stood.add(2 * i, false);
    EXPECT_EQ(stood.at.size(), StoodPlaces::kMost);
    EXPECT_FALSE(stood.complete);
}

TEST(StoodPlaces, AFileThatIsNoneIsRefusedWithItsLine) {
    const test::Folder folder;
    for (const auto& [text, line] : {std::pair{"", ""}, {"pc,times\n", ":1"}, {"pc,times,changed\n0x100,2,3\n", ":2"}, {"pc,times,changed\n0x100,2,0\nhere,1,0\n", ":3"},
                                     {"pc,times,changed\n0x100,99999999999999999999,0\n", ":2"}}) {
        test::write_file(folder / "stood.csv", text);
        const auto read = read_stood(folder / "stood.csv");
        EXPECT_EQ(read.has_value(), *line == 0) << text;
        if (!read) EXPECT_NE(read.error().where.find(line), std::string::npos) << read.error().text();
    }
    EXPECT_FALSE(read_stood(folder / "not-there.csv"));
}

}  // namespace
}  // namespace mt
