// Completion and manual page know every command and option.
#include <gtest/gtest.h>

#include <algorithm>
#include <regex>
#include <set>

#include "process.h"
#include "support.h"

namespace mt {
namespace {

std::string told(const test::Folder& folder, const std::string& as) {
    return test::mtrail(folder, {"describe", "--as", as}).said;
}

std::set<std::string> all_of(const std::string& text, const std::string& pattern) {
    std::set<std::string> found;
    const std::regex each(pattern);
    for (std::sregex_iterator it(text.begin(), text.end(), each), end; it != end; ++it) found.insert((*it)[1]);
    return found;
}

TEST(Describe, KnowsEveryCommandAndEachOfItsOptions) {
    const test::Folder folder;
    const std::string help = test::mtrail(folder, {"--help"}).said;
    const auto commands = all_of(help.substr(help.find("Subcommands:")), "\n  ([a-z]+) ");
    ASSERT_GE(commands.size(), 14u) << help;
    const std::string bash = told(folder, "bash"), zsh = told(folder, "zsh"), fish = told(folder, "fish");
    std::string man = told(folder, "man");
    for (std::size_t at; (at = man.find("\\-")) != std::string::npos;) man.erase(at, 1);
    for (const std::string& command : commands) {
        EXPECT_NE(bash.find(" " + command + ") options="), std::string::npos) << command;
        EXPECT_NE(man.find("\n.SS " + command + "\n"), std::string::npos) << command;
        const std::string page = test::mtrail(folder, {command, "--help"}).said;
        const auto options = all_of(page, "(--[a-z][a-z-]*)");
        EXPECT_GE(options.size(), 1u) << page;
        const std::size_t from = man.find("\n.SS " + command + "\n");
        const std::string section = man.substr(from, man.find("\n.S", from + 4) - from);
        const std::size_t line = bash.find(" " + command + ") options=");
        const std::string words = bash.substr(line, bash.find('\n', line) - line);
        for (const std::string& option : options) {
            EXPECT_NE(section.find(option), std::string::npos) << command << " " << option;
            EXPECT_NE(words.find(option + " "), std::string::npos) << command << " " << option;
            EXPECT_NE(zsh.find("'" + option + "["), std::string::npos) << command << " " << option;
            EXPECT_NE(fish.find(" -l " + option.substr(2)), std::string::npos) << command << " " << option;
        }
    }
}

TEST(Describe, TheShellTakesItsCompletion) {
    const test::Folder folder;
    test::write_file(folder / "mtrail.bash", told(folder, "bash"));
    test::write_file(folder / "try.sh", "source \"" + (folder / "mtrail.bash") +
                                            "\"\nCOMP_WORDS=(mtrail interplay --c)\nCOMP_CWORD=2\n_mtrail\n"
                                            "printf '%s\\n' \"${COMPREPLY[@]}\" > \"" +
                                            (folder / "out") + "\"\n");
    ASSERT_EQ(std::system(("bash " + (folder / "try.sh")).c_str()), 0);
    EXPECT_EQ(test::read_text(folder / "out"), "--csv\n");
}

}  // namespace
}  // namespace mt
