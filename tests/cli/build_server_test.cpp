// The script of docs/build-server.md, as it stands there, against the simulated board and QEMU.
#include <gtest/gtest.h>
#include <sys/wait.h>

#include <filesystem>

#include "control/link.h"
#include "process.h"
#include "support.h"

namespace mt {
namespace {

namespace fs = std::filesystem;

class BuildServer : public ::testing::Test {
  protected:
    void SetUp() override {
        const std::string page = test::read_text(MT_DOCS "/build-server.md");
        const std::size_t begin = page.find("```sh\n") + 6, end = page.find("```\n", begin);
        ASSERT_LT(begin, end);
        test::write_file(folder / "judge-build.sh", page.substr(begin, end - begin));
    }
    /// Its exit code, with this recipe and these rules.
    int run(const std::string& recipe, const std::string& rules) {
        test::write_file(folder / "x.recipe.toml", recipe);
        test::write_file(folder / "x.rules.toml", "format = \"mindful-trail-rules/1\"\n" + rules);
        const int status = std::system(("MTRAIL=" MT_CLI " sh " + (folder / "judge-build.sh") + " " + (folder / "x.recipe.toml") + " " +
                                        (folder / "x.rules.toml") + " " + (folder / "kept") + " >" + (folder / "said") + " 2>&1")
                                           .c_str());
        return WEXITSTATUS(status);
    }
    std::string said() { return test::read_text(folder / "said"); }
    test::Folder folder;
};

TEST_F(BuildServer, TheScriptOfTheDocumentationRecordsJudgesComparesAndKeeps) {
    const auto board_run = [&](const std::string& rules) {
        test::Board board;
        return run(test::recipe_text_for("debug = \"" + board.gdb() + "\"\n" + test::tcp(board.trace()),
                                         "[before]\nreset = true\n[record]\nseconds = 1.5\n"),
                   rules);
    };
    const std::string good = "[[rule]]\nname = \"steps\"\nof = \"STEP_TIMER\"\nwhat = \"duration\"\nmax = \"1 ms\"\n";
    const std::string strict = "[[rule]]\nname = \"steps\"\nof = \"STEP_TIMER\"\nwhat = \"duration\"\nmax = \"1 ns\"\n";
    EXPECT_EQ(board_run(good), 0) << said();
    EXPECT_TRUE(fs::exists(folder / "kept/good.mtrail"));
    EXPECT_TRUE(fs::exists(folder / "kept/report.html"));
    const auto first = fs::last_write_time(folder / "kept/good.mtrail");
    // A build that breaks a rule does not take the place of the good one.
    EXPECT_EQ(board_run(strict), 1) << said();
    EXPECT_EQ(fs::last_write_time(folder / "kept/good.mtrail"), first);
    EXPECT_NE(test::read_text(folder / "kept/judge.xml").find("failures=\"1\""), std::string::npos);
    EXPECT_FALSE(test::read_text(folder / "kept/compare.txt").empty());
    EXPECT_EQ(board_run("[[rule]]\nname = \"no\"\nof = \"nobody\"\nwhat = \"duration\"\nmax = \"1 ns\"\n"), 2);
}

// The recipe of the page, with the recorder's example in QEMU as the target.
TEST_F(BuildServer, TheSameScriptJudgesFirmwareThatRunsInQemu) {
    const std::string elf = MT_FIRMWARE "/recorder-riscv.elf";
    if (!fs::exists(elf)) {
        if (std::getenv("CI") != nullptr) FAIL() << "clang-14 and lld-14 are needed to build the firmware";
        GTEST_SKIP() << "clang-14 and lld-14 are not installed: the firmware was not built";
    }
    const std::string page = test::read_text(MT_DOCS "/build-server.md");
    const std::size_t begin = page.find("```toml\n") + 8, end = page.find("```\n", begin);
    ASSERT_LT(begin, end);
    const std::string port = std::to_string(test::free_port());
    std::string recipe = page.substr(begin, end - begin);
    recipe.replace(recipe.find("127.0.0.1:1234"), 14, "127.0.0.1:" + port);
    test::write_file(folder / "qemu.target.toml",
                     "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\nisa = \"rv32imac\"\nimage = \"" + elf +
                         "\"\n[[stream]]\nprotocol = \"ctf\"\ncore = \"main\"\n[stream.ctf]\nrecorder_hz = 10_000_000\n");
    test::Process qemu({"qemu-system-riscv32", "-M", "virt", "-bios", "none", "-display", "none", "-monitor", "none", "-serial",
                        "none", "-kernel", elf, "-gdb", "tcp:127.0.0.1:" + port, "-S", "-icount", "shift=0"});
    ASSERT_TRUE(test::wait_until(
        [&] { return Link::connect_tcp("127.0.0.1:" + port, std::chrono::milliseconds(200)).has_value(); }));
    const std::string good = "[[rule]]\nname = \"pointing runs\"\nof = \"pointing\"\nwhat = \"count\"\nmin = 20\n"
                             "[[rule]]\nname = \"pointing is short\"\nof = \"pointing\"\nwhat = \"running\"\nmax = \"1 s\"\n";
    EXPECT_EQ(run(recipe, good), 0) << said();
    EXPECT_TRUE(fs::exists(folder / "kept/good.mtrail"));
    EXPECT_EQ(run(recipe, good + "[[rule]]\nname = \"far too short\"\nof = \"pointing\"\nwhat = \"running\"\nmax = \"1 ns\"\n"), 1) << said();
    EXPECT_NE(test::read_text(folder / "kept/judge.xml").find("failures=\"1\""), std::string::npos);
    EXPECT_FALSE(test::read_text(folder / "kept/compare.txt").empty());
}

}  // namespace
}  // namespace mt
