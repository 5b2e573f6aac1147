// The line check: pattern, choice of the phase, what is stored; and the whole of it on a board.
#include <gtest/gtest.h>

#include "capture/line_check.h"
#include "process.h"
#include "target/target_file.h"

namespace mt {
namespace {

LineCheck chosen(const std::string& clean) {
    std::vector<LinePhase> phases;
    for (std::size_t i = 0; i < clean.size(); ++i)
        phases.push_back({static_cast<unsigned>(i), 1000, clean[i] == '.' ? 0U : 10U});
    return choose_phase(phases);
}

TEST(LineCheck, TakesTheMiddleOfTheWidestCleanWindow) {
    EXPECT_EQ(chosen("x..x.....xxx").best, 6);
    EXPECT_EQ(chosen("x..x.....xxx").window, 5U);
    EXPECT_EQ(chosen("...xxxxxxx..").best, 0) << "phases are a circle";
    EXPECT_EQ(chosen("xxxx").best, -1);
    EXPECT_TRUE(chosen("xxxxxx..xxxx").narrow());
    EXPECT_FALSE(chosen("....xxxx").narrow());
}

TEST(LineCheck, ComparesFromAnyPlaceInThePattern) {
    auto heard = line_pattern();
    std::rotate(heard.begin(), heard.begin() + 77, heard.end());
    EXPECT_TRUE(compare_with_pattern(heard).clean());
    heard[10] ^= 0x21;
    EXPECT_EQ(compare_with_pattern(heard).wrong, 2U);
    EXPECT_FALSE(compare_with_pattern({}).clean()) << "nothing heard is not clean";
}

TEST(LineCheck, FindsTheBoardsWindowAndStoresItOnce) {
    test::Board board({"--phase", "2", "--clean-phases", "5"});
    auto server = DebugServer::connect(board.gdb(), std::chrono::milliseconds(30000));
    ASSERT_TRUE(server);
    SourceSpec spec;
    spec.address = board.trace();
    auto source = open_source(spec, std::chrono::milliseconds(30000));
    ASSERT_TRUE(source);
    Progress progress;
    std::size_t seen = 0;
    const auto check = check_line(
        **server, **source, [&](const LinePhase&) { ++seen; }, progress);
    ASSERT_TRUE(check) << check.error().text();
    EXPECT_EQ(seen, 24U);
    EXPECT_EQ(check->first, 7U);
    EXPECT_EQ(check->window, 5U);
    EXPECT_EQ(check->best, 9);
    EXPECT_TRUE(check->narrow()) << "5 of 24";
    EXPECT_GT(check->phases[0].error(), 0.1);

    test::Folder folder;
    const std::string path = folder / "t.target.toml";
    test::write_file(path,
                     "format = \"mindful-trail-target/1\" # kept\nname = \"t\"\n[[core]]\nname = \"main\"\nisa = "
                     "\"armv7e-m\"\nclock_hz = 1000\n"
                     "[[stream]]\nprotocol = \"itm\"\ncore = \"main\"\n[stream.itm]\ntimestamp_prescaler = "
                     "4\n\n[[port]]\nnumber = 3\n");
    for (int again = 0; again < 2; ++again) {
        const auto before = read_target_file(path);
        ASSERT_TRUE(before) << before.error().text();
        ASSERT_TRUE(store_phase(path, before->streams[0].line, *check));
        const auto after = read_target_file(path);
        ASSERT_TRUE(after) << after.error().text() << test::read_text(path);
        EXPECT_TRUE(after->warnings.empty());
        EXPECT_EQ(after->streams[0].line_phase, 9U);
        EXPECT_EQ(after->streams[0].timestamp_prescaler, 4U);
        EXPECT_EQ(after->ports.size(), 1U);
    }
    const std::string text = test::read_text(path);
    EXPECT_EQ(text.find("[stream.line]"), text.rfind("[stream.line]")) << text;
    EXPECT_NE(text.find("# kept"), std::string::npos);
}

}  // namespace
}  // namespace mt
