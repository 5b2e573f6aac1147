// The script of docs/build-server.md, as it stands there, against the simulated board.
#include <gtest/gtest.h>
#include <sys/wait.h>

#include <filesystem>

#include "process.h"
#include "support.h"

namespace mt {
namespace {

namespace fs = std::filesystem;

TEST(BuildServer, TheScriptOfTheDocumentationRecordsJudgesComparesAndKeeps) {
    test::Folder folder;
    const std::string page = test::read_text(MT_DOCS "/build-server.md");
    const std::size_t begin = page.find("```sh\n") + 6, end = page.find("```\n", begin);
    ASSERT_LT(begin, end);
    test::write_file(folder / "judge-build.sh", page.substr(begin, end - begin));
    const auto run = [&](const std::string& rules) {
        test::Board board;
        test::write_file(folder / "x.recipe.toml",
                         test::recipe_text_for("debug = \"" + board.gdb() + "\"\n" + test::tcp(board.trace()),
                                               "[before]\nreset = true\n[record]\nseconds = 1.5\n"));
        test::write_file(folder / "x.rules.toml", "format = \"mindful-trail-rules/1\"\n" + rules);
        const int status = std::system(("MTRAIL=" MT_CLI " sh " + (folder / "judge-build.sh") + " " + (folder / "x.recipe.toml") + " " +
                                        (folder / "x.rules.toml") + " " + (folder / "kept") + " >" + (folder / "said") + " 2>&1")
                                           .c_str());
        return WEXITSTATUS(status);
    };
    const std::string good = "[[rule]]\nname = \"steps\"\nof = \"STEP_TIMER\"\nwhat = \"duration\"\nmax = \"1 ms\"\n";
    const std::string strict = "[[rule]]\nname = \"steps\"\nof = \"STEP_TIMER\"\nwhat = \"duration\"\nmax = \"1 ns\"\n";
    EXPECT_EQ(run(good), 0) << test::read_text(folder / "said");
    EXPECT_TRUE(fs::exists(folder / "kept/good.mtrail"));
    EXPECT_TRUE(fs::exists(folder / "kept/report.html"));
    const auto first = fs::last_write_time(folder / "kept/good.mtrail");
    // A build that breaks a rule does not take the place of the good one.
    EXPECT_EQ(run(strict), 1) << test::read_text(folder / "said");
    EXPECT_EQ(fs::last_write_time(folder / "kept/good.mtrail"), first);
    EXPECT_NE(test::read_text(folder / "kept/judge.xml").find("failures=\"1\""), std::string::npos);
    EXPECT_FALSE(test::read_text(folder / "kept/compare.txt").empty());
    EXPECT_EQ(run("[[rule]]\nname = \"no\"\nof = \"nobody\"\nwhat = \"duration\"\nmax = \"1 ns\"\n"), 2);
}

}  // namespace
}  // namespace mt
