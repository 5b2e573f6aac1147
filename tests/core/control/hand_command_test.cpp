// Commands for a target in hand, as people and scripts write them.
#include "control/hand_command.h"

#include <gtest/gtest.h>

namespace mt {
namespace {

using Verb = HandCommand::Kind;

HandCommand good(const std::string& text) {
    const auto c = parse_hand_command(text);
    EXPECT_TRUE(c) << text << ": " << (c ? "" : c.error().text());
    return c ? *c : HandCommand{};
}

TEST(HandCommands, SayWhatToDoAndWithWhichCore) {
    EXPECT_EQ(good("go").kind, Verb::go);
    EXPECT_EQ(good("  halt ").kind, Verb::halt);
    EXPECT_EQ(good("cop: reset").core, "cop");
    EXPECT_EQ(good("all: halt").core, "all");
    EXPECT_EQ(good("where").core, "");
    EXPECT_EQ(good("wait").seconds, 10);
    EXPECT_EQ(good("wait 2.5").seconds, 2.5);
    EXPECT_EQ(good("step").times, 1U);
    EXPECT_EQ(good("step 12").times, 12U);
    EXPECT_EQ(good("step line").kind, Verb::step_line);
    EXPECT_EQ(good("step over").kind, Verb::step_over);
    EXPECT_EQ(good("step out").kind, Verb::step_out);
    EXPECT_EQ(good("run axis.c:41 3").place, "axis.c:41");
    EXPECT_EQ(good("run axis.c:41 3").seconds, 3);
    EXPECT_EQ(good("memory 0x20000000 64").address, 0x2000'0000U);
    EXPECT_EQ(good("memory 0x20000000 64").length, 64U);
    EXPECT_EQ(good("read axis_error guide.state").names, (std::vector<std::string>{"axis_error", "guide.state"}));
    EXPECT_TRUE(good("registers").names.empty());
    EXPECT_EQ(good("write axis_error -5").value, -5);
    EXPECT_TRUE(good("write axis_error -5").writes());
    EXPECT_EQ(good("set r0 0xffffffff").value, 0xFFFF'FFFF);
    EXPECT_FALSE(good("break main").writes());
    EXPECT_EQ(good("locals").kind, Verb::locals);
    EXPECT_EQ(good("typewriter: type park  now").place, "park  now\n") << "as it is written, as one line";
    EXPECT_EQ(good("typewriter: type park  now").core, "typewriter");
}

TEST(HandCommands, OfMemoryHaveARangeAndWhatToDoWithIt) {
    EXPECT_EQ(good("search 0x20000000 4096 0x0a4011f8").bytes, (std::vector<std::uint8_t>{0xF8, 0x11, 0x40, 0x0A})) << "as the target stores it";
    EXPECT_EQ(good("search 0x20000000 4096 dark frame").bytes.size(), 10U) << "text as it is";
    EXPECT_EQ(good("fill 0x20000000 16 0xff").value, 0xFF);
    EXPECT_TRUE(good("fill 0x20000000 16 0xff").writes());
    EXPECT_TRUE(good("load 0x20000000 ram.bin").writes());
    EXPECT_FALSE(good("save 0x20000000 16 ram.bin").writes());
    EXPECT_TRUE(good("undo").writes());
    EXPECT_EQ(good("put night.mtrail 17").address, 17U);
    EXPECT_EQ(good("clear guide_task").place, "guide_task");
    EXPECT_EQ(good("together main cop").names.size(), 2U);
    for (const char* wrong : {"fill 0x20000000 16", "fill 0x20000000 16 256", "search 0 0 x", "save 0x20000000 x f", "load", "together main", "put x", "put x -1",
                              "search 0xffffffffffffffff 16 x"})
        EXPECT_FALSE(parse_hand_command(wrong)) << wrong;
}

TEST(HandCommands, OfPointsHaveConditionsCountsAndWords) {
    const HandCommand c = good("break guide_task if axis_error >= -100 count 200 say it is on its way");
    EXPECT_EQ(c.kind, Verb::break_at);
    EXPECT_EQ(c.place, "guide_task");
    ASSERT_TRUE(c.condition);
    EXPECT_EQ(c.condition->of, "axis_error");
    EXPECT_EQ(c.condition->is, HandCommand::Condition::Is::at_least);
    EXPECT_EQ(c.condition->than, -100);
    EXPECT_EQ(c.times, 200U);
    EXPECT_EQ(c.message, "it is on its way");
    const HandCommand w = good("watch guide.state read");
    EXPECT_TRUE(w.on_read);
    EXPECT_FALSE(w.on_write);
    EXPECT_TRUE(good("watch guide.state access").on_write);
    EXPECT_TRUE(good("watch guide.state").on_write);
    EXPECT_FALSE(good("watch guide.state").on_read);
    EXPECT_EQ(good("watch x count 3").times, 3U);
}

struct Wrong {
    const char *text, *says;
};
TEST(HandCommands, OfPointsSayWhetherInHardwareAndWhatRange) {
    EXPECT_TRUE(good("break main hardware count 3").hardware);
    EXPECT_EQ(good("break main hardware count 3").times, 3U);
    EXPECT_FALSE(good("break main").hardware);
    const HandCommand c = good("watch 0x20000000..0x200000ff access say somebody was there");
    EXPECT_EQ(c.address, 0x2000'0000U);
    EXPECT_EQ(c.length, 256U);
    EXPECT_TRUE(c.on_read && c.on_write);
    EXPECT_EQ(good("watch guide.state").length, 0U) << "as long as the variable";
    for (const char* wrong : {"watch 0x20000100..0x200000ff", "watch 0x20000000..", "watch 0x20000000..0x20010000", "watch ..", "watch axis hardware"})
        EXPECT_FALSE(parse_hand_command(wrong)) << wrong;
}

TEST(HandCommands, ThatAreWrongSayWhatIsAndWhatThereIs) {
    for (const Wrong& w : {Wrong{"", "empty"},
                           {"cop:", "the command is empty"},
                           {"cop: ", "the command is empty"},
                           {"cop: sit", "'sit' is no command"},
                           {"brek main", "did you mean break?"},
                           {"go faster", "'faster' is too much"},
                           {"wait long", "'long' is no time"},
                           {"wait -1", "'-1' is no time"},
                           {"wait 1e99", "is no time"},
                           {"step 0", "is no number of steps"},
                           {"step 99999999999", "is no number of steps"},
                           {"step sideways", "is no number of steps"},
                           {"run", "where to is not said"},
                           {"break", "what is not said"},
                           {"break main if x", "'if' is not understood here"},
                           {"break main if x = 5", "'=' compares nothing"},
                           {"break main if x == five", "'five' is no number"},
                           {"break main count 0", "'0' is no count"},
                           {"break main count", "'count' is not understood here"},
                           {"watch", "what is not said"},
                           {"watch x sometimes", "'sometimes' is not understood here"},
                           {"read", "what to read is not said"},
                           {"memory 0x20000000", "an address and a length are needed"},
                           {"memory 0x20000000 0", "that is no address and length"},
                           {"memory 0x20000000 99999999", "that is no address and length"},
                           {"memory 0x 4", "that is no address and length"},
                           {"write x", "what, and which number, are needed"},
                           {"write x much", "'much' is no number"},
                           {"set r0 1 2", "what, and which number, are needed"}}) {
        const auto c = parse_hand_command(w.text);
        ASSERT_FALSE(c) << w.text;
        EXPECT_NE(c.error().text().find(w.says), std::string::npos) << w.text << ": " << c.error().text();
    }
    const auto long_one = parse_hand_command(std::string(100'000, 'x'));
    ASSERT_FALSE(long_one);
    EXPECT_LT(long_one.error().where.size(), 300U);
}

TEST(HandCommands, OfACommandLineNeedNoQuotes) {
    using All = std::vector<std::string>;
    EXPECT_EQ(joined_hand_commands({"break", "guide_task", "count", "5", "go", "wait", "3", "read", "axis_error", "step", "over"}),
              (All{"break guide_task count 5", "go", "wait 3", "read axis_error", "step over"}));
    EXPECT_EQ(joined_hand_commands({"cop:", "halt", "all:", "go", "cop:", "read", "x"}), (All{"cop: halt", "all: go", "cop: read x"}));
    EXPECT_EQ(joined_hand_commands({"break x say go on", "go", "read go"}), (All{"break x say go on", "go", "read go"}))
        << "quotes keep one together";
    EXPECT_EQ(joined_hand_commands({"nonsense", "halt"}), (All{"nonsense", "halt"}));
    EXPECT_TRUE(joined_hand_commands({}).empty());
}

TEST(HandCommands, ThatAreListedCanBeParsedByTheirFirstWord) {
    for (const auto& [text, what] : hand_commands()) {
        EXPECT_FALSE(what.empty());
        const std::string verb = text.substr(0, text.find(' '));
        const auto c = parse_hand_command(verb);
        if (!c) EXPECT_EQ(c.error().text().find("is no command"), std::string::npos) << verb;
    }
}

}  // namespace
}  // namespace mt
