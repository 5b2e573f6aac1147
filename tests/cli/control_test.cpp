// A target in hand from the command line: a real emulator, the board, and what is refused.
#include <gtest/gtest.h>

#include <filesystem>
#include <map>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "control/link.h"
#include "process.h"
#include "support.h"
#include "target/image.h"

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

TEST_F(InHand, LocalVariablesAreReadAndWrittenWhereverTheyAreKept) {
    start_qemu();
    ASSERT_EQ(control({"run arc 60", "step 4", "locals", "read s", "--allow-writing", "write s 77", "read s", "undo", "read s"}), 0) << said;
    const Json& frames = answers[2]["locals"];
    ASSERT_GE(frames.size(), 3U) << said;
    EXPECT_EQ(frames[0]["function"], "arc");
    EXPECT_EQ(frames[1]["function"], "interpolate") << "who called it";
    EXPECT_EQ(frames[2]["function"], "tick");
    const std::string before = answers[3]["values"]["s"];
    EXPECT_EQ(answers[5]["values"]["s"], "77") << "it is in a register: " << said;
    EXPECT_EQ(answers[7]["values"]["s"], before);
    EXPECT_NE(said.find("s (x10) = 0x0000004d"), std::string::npos) << said;
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

TEST_F(InHand, ABreakpointInHardwareAndARangeThatIsWatchedStopIt) {
    start_qemu();
    const auto image = Image::open(MT_DEMO "/larkspur-cop.elf");
    ASSERT_TRUE(image);
    const std::uint64_t angle = (*image)->symbol_named("axis_angle")->address;
    const std::string range = hex_text(angle - 4, 8) + ".." + hex_text(angle + 3, 8);
    ASSERT_EQ(control({"break interpolate hardware", "go", "wait 60", "points", "clear", "watch " + range, "go", "wait 60", "points"}), 0) << said;
    EXPECT_EQ(answers[2]["reason"], "breakpoint at interpolate") << said;
    EXPECT_EQ(answers[3]["values"]["interpolate"], "1 hit, in hardware") << said;
    EXPECT_EQ(answers[7]["reason"], range + " was accessed") << said;
    EXPECT_EQ(answers[8]["values"][range], "1 hit") << said;
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

TEST_F(InHand, MemoryIsFilledSearchedSavedLoadedComparedAndPutBack) {
    start_qemu();
    const std::string file = folder / "ram.bin";
    ASSERT_EQ(control({"--allow-writing", "halt", "read axis_angle", "save 0x80040000 300 " + file, "fill 0x80040000 300 0x5a",
                       "search 0x80040000 0x200 0x5a5a5a5a", "load 0x80040000 " + file, "write axis_angle 77", "undo", "undo", "memory 0x80040000 4",
                       "undo", "memory 0x80040000 4", "read axis_angle"}),
              0)
        << said;
    EXPECT_EQ(std::filesystem::file_size(file), 300U);
    EXPECT_EQ(answers[4]["values"].size(), 297U) << "one at each byte but the last three";
    EXPECT_EQ(answers[9]["values"]["0x80040000"], "5a 5a 5a 5a") << "loading was taken back";
    EXPECT_NE(answers[11]["values"]["0x80040000"], "5a 5a 5a 5a") << "and filling";
    EXPECT_EQ(answers[12]["values"]["axis_angle"], answers[1]["values"]["axis_angle"]);
    EXPECT_EQ(control({"--allow-writing", "halt", "save 0x80040000 4 " + file}), 2) << "a file that is there is not written over";
    EXPECT_NE(said.find("name one that is not there yet"), std::string::npos) << said;
    EXPECT_EQ(control({"--allow-writing", "undo"}), 2);
    EXPECT_EQ(control({"halt", "compare"}), 0) << said;
    EXPECT_NE(said.find("all as in the image"), std::string::npos) << said;
    EXPECT_EQ(control({"--allow-writing", "halt", "fill 0x80000010 2 0xff", "compare 0x80000000 0x40"}), 1) << said;
    EXPECT_TRUE(answers[2]["values"].contains("0x80000010")) << said;
    EXPECT_EQ(control({"halt", "fill 0x80000010 2 0xff"}), 2) << "only if it is allowed";
}

TEST_F(InHand, RegistersHaveGroupsAndOneOfManyIsWrittenWhole) {
    start_qemu();
    ASSERT_EQ(control({"--allow-writing", "run interpolate 60", "registers", "set mscratch 0x12345678", "registers mscratch"}), 0) << said;
    EXPECT_GT(answers[1]["values"].size(), 40U) << "machine registers, too";
    EXPECT_EQ(answers[3]["values"]["mscratch"], "0x12345678");
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

TEST_F(InHand, CoresThatGoTogetherRunAndStopTogether) {
    test::Board board;
    test::write_file(folder / "r.recipe.toml", "format = \"mindful-trail-recipe/1\"\nname = \"hand\"\npatience_ms = 30000\ntarget = \"" MT_DEMO
                                                   "/larkspur-live.target.toml\"\n[[connect]]\ncore = \"main\"\ndebug = \"" +
                                                   board.gdb() + "\"\n[[connect]]\ncore = \"cop\"\ndebug = \"" + board.gdb_cop() + "\"\n");
    ASSERT_EQ(control({"all: halt", "together main cop", "cop: break interpolate count 3", "cop: go", "cop: wait 30", "apart", "main: go", "cop: where"}), 0) << said;
    std::map<std::string, Json> waited;
    for (const auto& a : answers)
        if (a["command"] == "cop: wait 30") waited[a["core"]] = a;
    ASSERT_EQ(waited.size(), 2U) << said;
    EXPECT_EQ(waited["cop"]["reason"], "breakpoint at interpolate, hit 3");
    EXPECT_EQ(waited["main"]["reason"].get<std::string>().rfind("stopped with cop, ", 0), 0U) << said;
    EXPECT_GT(waited["main"]["after_s"].get<double>(), 0) << "measured";
    EXPECT_LT(waited["main"]["after_s"].get<double>(), 30);
    EXPECT_FALSE(answers.back()["running"].get<bool>()) << "apart again: the other one's going does not concern it";
}

TEST_F(InHand, AStateOfARecordingIsPutIntoTheTarget) {
    start_qemu();
    const std::string recording = test::data("steps/rv-etrace-mount/recording.target.toml");
    // Another program's state: it is put there all the same, for the registers and memory are its business.
    EXPECT_EQ(control({"halt", "put " + recording + " 1000"}), 2) << "writing is not allowed";
    ASSERT_EQ(control({"--allow-writing", "halt", "where", "put " + recording + " 1000", "registers pc", "undo", "registers pc"}), 0) << said;
    EXPECT_NE(answers[2]["reason"].get<std::string>().find("as it was before instruction 1"), std::string::npos) << said;
    EXPECT_NE(answers[2]["reason"].get<std::string>().find("not known, and left as they were"), std::string::npos) << said;
    EXPECT_EQ(answers[3]["values"]["pc"], answers[2]["pc"]);
    EXPECT_NE(answers[3]["values"]["pc"], answers[1]["pc"]);
    EXPECT_EQ(answers[5]["values"]["pc"], answers[1]["pc"]);
    EXPECT_EQ(control({"--allow-writing", "halt", "put " + recording + " 99999999999"}), 2);
    EXPECT_NE(said.find("there is no instruction"), std::string::npos) << said;
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
