// mtrail as a process with a folder of its own: what the tests of recording and of saving share.
#pragma once

#include <gtest/gtest.h>

#include <memory>

#include "process.h"

namespace mt::test {

class RecorderFixture : public ::testing::Test {
  protected:
    Outcome mtrail(const std::vector<std::string>& arguments) { return test::mtrail(folder, arguments); }
    /// The command line that records after this recipe into x.mtrail.
    std::vector<std::string> arguments(const std::string& recipe, bool replace = false) {
        write_file(folder / "r.recipe.toml", recipe);
        std::vector<std::string> all{MT_CLI, "record", "--recipe", folder / "r.recipe.toml", "-o", folder / "x.mtrail"};
        if (replace) all.push_back("--replace");
        return all;
    }
    Outcome record(const std::string& recipe, bool replace = false) {
        return outcome_of(folder, arguments(recipe, replace));
    }
    /// Records from the board for a minute unless it is ended; there are bytes already. It says so into
    /// "said-meanwhile".
    std::unique_ptr<Process> recording_from(const Board& board) {
        auto p = std::make_unique<Process>(arguments(recipe_text_for(tcp(board.trace()), "[record]\nseconds = 60\n")),
                                           folder / "said-meanwhile");
        EXPECT_TRUE(wait_until([&] { return size() > 10'000; })) << said_meanwhile();
        return p;
    }
    std::string said_meanwhile() { return read_text(folder / "said-meanwhile"); }
    std::string stream(const std::string& core = "main") { return folder / ("x.mtrail/streams/" + core + ".trace"); }
    std::uint64_t size() {
        std::error_code ec;
        const auto n = std::filesystem::file_size(stream(), ec);
        return ec ? 0 : n;
    }

    Folder folder;
};

}  // namespace mt::test
