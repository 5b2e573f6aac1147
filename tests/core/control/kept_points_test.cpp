// Breakpoints that are kept with a project.
#include "control/kept_points.h"

#include <gtest/gtest.h>

#include "support.h"

namespace mt {
namespace {

TEST(KeptPoints, AreReadAsTheyWereWritten) {
    const test::Folder folder;
    const std::string path = folder / "x.points.toml";
    EXPECT_TRUE(read_points(path)->empty()) << "an absent file keeps none";
    const std::vector<KeptPoint> points{{"main", "break guide_task if axis_error >= -100 count 200"},
                                        {"cop", "watch axis_angle read say it's \"read\""}};
    ASSERT_TRUE(write_points(points, path));
    const auto back = read_points(path);
    ASSERT_TRUE(back) << back.error().text();
    EXPECT_EQ(*back, points);
}

TEST(KeptPoints, SayWithTheLineWhatIsWrong) {
    const auto trouble = [](const std::string& text) {
        const auto points = parse_points(text, "x.points.toml");
        return points ? std::string() : points.error().text();
    };
    EXPECT_NE(trouble("format = \"other/1\"").find("mindful-trail-points/1"), std::string::npos);
    const std::string head = "format = \"mindful-trail-points/1\"\n[[point]]\ncore = \"main\"\n";
    EXPECT_NE(trouble(head + "command = \"halt\"").find("sets no breakpoint"), std::string::npos) << "only what sets one";
    EXPECT_NE(trouble(head).find("command"), std::string::npos);
    EXPECT_NE(trouble("format = 5").find("x.points.toml"), std::string::npos);
}

}  // namespace
}  // namespace mt
