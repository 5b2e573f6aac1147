// A target in hand from the command line: a real emulator, the board, and what is refused.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "control/link.h"
#include "process.h"
#include "support.h"

namespace mt {
namespace {

using Json = nlohmann::json;

class InHand : public ::testing::Test {
  protected:
    /// Recipe for one core of this target file.
    void reach(const std::string& server, const std::string& target, const std::string& core) {
        test::write_file(folder / "r.recipe.toml", "format = \"mindful-trail-recipe/1\"\nname = \"hand\"\npatience_ms = 30000\ntarget = \"" +
                                                       target + "\"\n[before]\nreset_command = \"system_reset\"\n[[connect]]\ncore = \"" + core +
                                                       "\"\ndebug = \"" + server + "\"\n");
    }
    void start_qemu() {
        const std::string server = "127.0.0.1:" + std::to_string(test::free_port());
        qemu = std::make_unique<test::Process>(std::vector<std::string>{
            "qemu-system-riscv32", "-M", "virt", "-bios", "none", "-kernel", MT_DEMO "/larkspur-cop.elf", "-S", "-gdb", "tcp:" + server,
            "-display", "none", "-monitor", "none", "-serial", "none"});
        ASSERT_TRUE(test::wait_until([&] { return Link::connect_tcp(server, std::chrono::milliseconds(200)).has_value(); }));
        reach(server, MT_DEMO "/larkspur-cop.target.toml", "cop");
    }
    int control(std::vector<std::string> commands, bool json = true) {
        std::vector<std::string> all{"control", "--recipe", folder / "r.recipe.toml"};
        if (json) all.emplace_back("--json");
        all.insert(all.end(), commands.begin(), commands.end());
        const auto r = test::mtrail(folder, all);
        said = r.said;
        const auto from = said.find("[\n"), to = said.rfind("\n]");
        answers = json && from != std::string::npos && to != std::string::npos ? Json::parse(said.substr(from, to + 2 - from), nullptr, false)
                                                                             : Json();
        return r.code;
    }
    test::Folder folder;
    std::unique_ptr<test::Process> qemu;
    std::string said;
    Json answers;
};

TEST_F(InHand, ACoreRunsToAPlaceStepsByLineOverCallsAndOut) {
    start_qemu();
    ASSERT_EQ(control({"run interpolate 60", "registers pc a0", "step", "step line", "step over", "step out", "where"}), 0) << said;
    ASSERT_EQ(answers.size(), 7U) << said;
    EXPECT_EQ(answers[0]["place"].get<std::string>().rfind("interpolate (interpolate.c:", 0), 0U) << said;
    EXPECT_EQ(answers[1]["values"]["pc"], answers[0]["pc"]);
    EXPECT_NE(answers[2]["pc"], answers[0]["pc"]) << "one instruction on";
    EXPECT_NE(answers[3]["place"], answers[2]["place"]) << "another line";
    EXPECT_NE(answers[4]["place"], answers[3]["place"]);
    EXPECT_EQ(answers[5]["place"].get<std::string>().rfind("tick (main.c:", 0), 0U) << "back at its caller: " << said;
    EXPECT_EQ(answers[6]["pc"], answers[5]["pc"]);
}

TEST_F(InHand, ABreakpointStopsAtItsNthHitAndWhereItsConditionHolds) {
    start_qemu();
    ASSERT_EQ(control({"break interpolate count 5", "go", "wait 60", "points", "clear", "points"}), 0) << said;
    EXPECT_EQ(answers[2]["reason"], "breakpoint at interpolate, hit 5") << said;
    EXPECT_EQ(answers[3]["values"]["interpolate"], "5 hits");
    EXPECT_FALSE(answers[5].contains("values"));
    EXPECT_NE(said.find("halted briefly 4 times to look"), std::string::npos) << said;
    // a0 is the millisecond, which counts.
    ASSERT_EQ(control({"reset", "break interpolate if a0 >= 7", "go", "wait 60", "read a0"}), 0) << said;
    EXPECT_EQ(answers[4]["values"]["a0"], "0x00000007") << said;
}

TEST_F(InHand, AWatchpointNamesWhoAccessedItAndAMessageIsSaidWithoutAStop) {
    start_qemu();
    ASSERT_EQ(control({"watch axis_angle", "go", "wait 60", "clear", "break interpolate say a millisecond", "go", "wait 1"}), 1)
        << "it goes on after each message, so that waiting ends with the time: " << said;
    EXPECT_EQ(answers[2]["reason"], "axis_angle was accessed") << said;
    EXPECT_TRUE(answers[6]["running"].get<bool>());
    ASSERT_FALSE(answers[6]["said"].empty());
    EXPECT_EQ(answers[6]["said"][0], "a millisecond");
}

TEST_F(InHand, NothingIsWrittenUnlessItIsAllowedAndWhatIsWrittenIsTold) {
    start_qemu();
    EXPECT_EQ(control({"write axis_angle 5"}), 2);
    EXPECT_NE(said.find("the target may only be looked at"), std::string::npos) << said;
    EXPECT_EQ(control({"set a0 5"}), 2);
    ASSERT_EQ(control({"--allow-writing", "run interpolate 60", "write axis_angle 1234", "read axis_angle", "set a0 0x55", "read a0"}), 0) << said;
    EXPECT_EQ(answers[2]["values"]["axis_angle"], "1234");
    EXPECT_EQ(answers[4]["values"]["a0"], "0x00000055");
    EXPECT_NE(said.find("written: core cop: axis_angle = 1234, was "), std::string::npos) << said;
    EXPECT_NE(said.find("written: core cop: a0 = 0x00000055, was 0x"), std::string::npos) << said;
}

TEST_F(InHand, ARunningCoreIsNotSteppedAndAPlaceThatIsNeverReachedEndsInTime) {
    start_qemu();
    EXPECT_EQ(control({"go", "step"}), 2);
    EXPECT_NE(said.find("core 'cop' runs"), std::string::npos) << said;
    EXPECT_EQ(control({"halt", "run 0x80000000 0.3"}), 1) << said;
    EXPECT_NE(said.find("it did not come there within"), std::string::npos) << said;
    EXPECT_FALSE(answers[1]["running"].get<bool>());
}

TEST_F(InHand, BothCoresOfTheBoardAreReachedByTheirNames) {
    test::Board board;
    test::write_file(folder / "r.recipe.toml", "format = \"mindful-trail-recipe/1\"\nname = \"hand\"\npatience_ms = 30000\ntarget = \"" MT_DEMO
                                                   "/larkspur-live.target.toml\"\n[[connect]]\ncore = \"main\"\ndebug = \"" +
                                                   board.gdb() + "\"\n[[connect]]\ncore = \"cop\"\ndebug = \"" + board.gdb_cop() + "\"\n");
    ASSERT_EQ(control({"all: halt", "all: where", "cop: run interpolate 30", "main: read current_task"}), 0) << said;
    ASSERT_EQ(answers.size(), 6U) << said;
    EXPECT_EQ(answers[2]["core"], "main");
    EXPECT_EQ(answers[3]["core"], "cop");
    EXPECT_EQ(answers[4]["place"].get<std::string>().rfind("interpolate", 0), 0U);
    EXPECT_TRUE(answers[5]["values"].contains("current_task"));
    EXPECT_EQ(control({"third: halt"}), 2);
    EXPECT_NE(said.find("there are: main, cop"), std::string::npos) << said;
}

TEST_F(InHand, WhatIsWrongIsSaidBeforeAnythingIsDone) {
    reach("127.0.0.1:1", MT_DEMO "/larkspur-cop.target.toml", "cop");
    EXPECT_EQ(control({"halt", "brek main"}), 2);
    EXPECT_NE(said.find("did you mean break?"), std::string::npos) << said;
    EXPECT_EQ(control({"halt"}), 2);
    EXPECT_NE(said.find("127.0.0.1:1"), std::string::npos) << said;
    test::write_file(folder / "r.recipe.toml", "format = \"mindful-trail-recipe/1\"\nname = \"hand\"\ntarget = \"" MT_DEMO
                                               "/larkspur-cop.target.toml\"\n[[connect]]\ncore = \"cop\"\ntrace = \"tcp\"\naddress = \"127.0.0.1:1\"\n");
    EXPECT_EQ(control({"halt"}), 2);
    EXPECT_NE(said.find("names no debug server"), std::string::npos) << said;
}

}  // namespace
}  // namespace mt
