// What a target printed on its console: lines with times, also where bytes of the stream are wrong or missing.
#include <gtest/gtest.h>

#include "base/console_piece.h"
#include "support.h"

namespace mt {
namespace {

class Console : public testing::Test {
  protected:
    void print(double at_ms, const std::string& text, std::uint8_t channel = ConsolePiece::kOutput) {
        write_console_piece({channel, static_cast<std::uint64_t>(at_ms * 1e6),
                             {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}},
                            bytes);
    }
    test::Opened opened() {
        test::write_file(folder / "main.console", std::string(bytes.begin(), bytes.end()));
        test::write_file(folder / "m.target.toml",
                         "format = \"mindful-trail-target/1\"\nname = \"mount\"\n[[core]]\nname = \"main\"\nisa = "
                         "\"armv7e-m\"\nclock_hz = 1_000_000\n[[stream]]\nprotocol = \"console\"\ncore = "
                         "\"main\"\nfile = \"main.console\"\n");
        return test::decode(folder / "m.target.toml");
    }
    static std::vector<std::string> lines(const TextLog& log) {
        std::vector<std::string> all;
        for (std::size_t i = 0; i < log.size(); ++i) all.push_back(log.raw(i));
        return all;
    }
    test::Folder folder;
    std::vector<std::uint8_t> bytes;
};

TEST_F(Console, ShowsItsLinesWithWhenTheyBegan) {
    print(1, "axis at ");
    print(2.5, "rest\nguide");
    print(7, " star found\n");
    print(8, "no answer\n", ConsolePiece::kErrors);
    const auto o = opened();
    ASSERT_EQ(o.trail->texts.size(), 2U);
    const TextLog& console = o.trail->texts[0];
    EXPECT_EQ(lines(console), (std::vector<std::string>{"axis at rest", "guide star found"}));
    EXPECT_EQ(console.line(0).begin, Time{1'000'000'000});
    EXPECT_EQ(console.line(1).begin, Time{2'500'000'000});
    EXPECT_EQ(console.name, "console");
    EXPECT_EQ(lines(o.trail->texts[1]), (std::vector<std::string>{"no answer"}));
    EXPECT_EQ(o.trail->end, Time{8'000'000'000}) << "without any trace the text is all there is";
    EXPECT_EQ(o.trail->measured[0].odd_bytes, 0U);
}

TEST_F(Console, SkipsWhatIsNoPieceAndSaysThatALineIsTorn) {
    print(1, "steady\n");
    print(2, "one ");
    bytes.insert(bytes.end(), {'C', 'o', 0x55, 0xAA, 0x00});
    print(3, "two\n");
    const auto o = opened();
    const TextLog& console = o.trail->texts[0];
    EXPECT_EQ(lines(console), (std::vector<std::string>{"steady", "one two"}));
    EXPECT_EQ(console.line(0).flags, 0);
    EXPECT_EQ(console.line(1).flags & TextLine::kTorn, TextLine::kTorn);
    EXPECT_EQ(o.trail->measured[0].odd_bytes, 5U);
    bool said = false;
    for (const Doubt& d : o.trail->doubts) said = said || d.text.find("5 B of the console") == 0;
    EXPECT_TRUE(said);
}

TEST_F(Console, ADamagedTimeSpoilsItsOwnPieceAlone) {
    print(1, "steady\n");
    print(3e9, "far away\n");
    bytes.insert(bytes.end(), {'C', 'o', 'x'});  // what follows is found all the same
    print(4e9, "farther\n");
    print(2, "on time\n");
    print(0.5, "too early\n");
    print(3, "last\n");
    const auto o = opened();
    const TextLog& console = o.trail->texts[0];
    EXPECT_EQ(lines(console), (std::vector<std::string>{"steady", "far away", "farther", "on time", "too early", "last"}));
    EXPECT_EQ(console.line(1).begin, console.line(0).begin) << "shown with the text before";
    EXPECT_EQ(console.line(2).begin, console.line(0).begin);
    EXPECT_EQ(console.line(3).begin, Time{2'000'000'000});
    EXPECT_EQ(console.line(4).begin, console.line(3).begin);
    EXPECT_EQ(o.trail->end, Time{3'000'000'000});
    bool said = false;
    for (const Doubt& d : o.trail->doubts) said = said || d.text.find("The times of 3 pieces") == 0;
    EXPECT_TRUE(said);
}

TEST_F(Console, AFileThatIsCutKeepsTheWholePieces) {
    print(1, "first\n");
    print(2, "second\n");
    bytes.resize(bytes.size() - 3);
    const auto o = opened();
    EXPECT_EQ(lines(o.trail->texts[0]), (std::vector<std::string>{"first"}));
    EXPECT_EQ(o.trail->measured[0].odd_bytes, kConsoleHead + 4);
}

TEST_F(Console, ThatPrintedNothingIsNoTrouble) {
    print(1, "");
    const auto o = opened();
    EXPECT_EQ(o.trail->texts[0].size(), 0U);
    EXPECT_EQ(o.trail->measured[0].odd_bytes, 0U);
}

}  // namespace
}  // namespace mt
