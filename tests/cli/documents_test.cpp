// What the documents say is what the program does: names of kinds and commands, headings of tables, examples.
#include <gtest/gtest.h>

#include <regex>

#include "base/finding_kinds.h"
#include "capture/recipe.h"
#include "process.h"

namespace mt {
namespace {

std::string document(const std::string& name) { return test::read_text(test::data("../../docs/" + name)); }

std::string section(const std::string& text, const std::string& heading) {
    const std::size_t from = text.find(heading + "\n");
    EXPECT_NE(from, std::string::npos) << heading;
    const std::size_t to = text.find("\n## ", from + 1);
    return text.substr(from, to - from);
}

/// The first block of code in the text.
std::string example(const std::string& text) {
    const std::size_t from = text.find('\n', text.find("```")) + 1;
    return text.substr(from, text.find("```", from) - from);
}

TEST(Documents, NameEveryKindOfFinding) {
    const std::string kinds = section(document("user-guide.md"), "### Kinds of findings");
    for (const std::string_view name : kFindingKindNames)
        EXPECT_NE(kinds.find("`" + std::string(name) + "`"), std::string::npos) << name;
}

TEST(Documents, NameNoKindOfFindingThatThereIsNot) {
    const std::string kinds = section(document("user-guide.md"), "### Kinds of findings");
    const std::regex row("\n\\| (`[a-z_`, ]+) \\|");
    std::size_t named = 0;
    for (std::sregex_iterator it(kinds.begin(), kinds.end(), row), end; it != end; ++it) {
        const std::string cell = (*it)[1];
        const std::regex name("`([a-z_]+)`");
        for (std::sregex_iterator n(cell.begin(), cell.end(), name); n != std::sregex_iterator(); ++n, ++named)
            EXPECT_TRUE(is_finding_kind((*n)[1].str())) << (*n)[1];
    }
    EXPECT_EQ(named, kFindingKindNames.size());
}

TEST(Documents, NameEveryCommand) {
    const test::Folder folder;
    const std::string guide = section(document("user-guide.md"), "## Work without a window");
    const std::string help = test::mtrail(folder, {"--help"}).said;
    const std::string list = help.substr(help.find("Subcommands:"));
    std::size_t commands = 0;
    const std::regex line("\n +([a-z]+) ");
    for (std::sregex_iterator it(list.begin(), list.end(), line), end; it != end; ++it, ++commands)
        EXPECT_NE(document("user-guide.md").find("mtrail " + (*it)[1].str()), std::string::npos) << (*it)[1];
    EXPECT_GE(commands, 11U) << help;
}

TEST(Documents, SayTheHeadingOfEachTable) {
    const std::string tables = document("formats/tables.md");
    const std::string mount = test::data("mount/mount.target.toml"),
                      steps = test::data("steps/rv-ntrace-mount-htm/recording.target.toml");
    const test::Folder folder;
    for (const std::vector<std::string>& command : {std::vector<std::string>{"events", mount, "--csv", "--to", "1us"},
                                                    {"packets", mount, "--csv", "--to", "1us"},
                                                    {"stats", mount, "--of", "interrupts", "--csv"},
                                                    {"instances", mount, "--of", "SysTick", "--csv"},
                                                    {"steps", steps, "--csv", "--to", "1us"},
                                                    {"instances", steps, "--of", "main", "--csv"}}) {
        const auto outcome = test::mtrail(folder, command);
        ASSERT_EQ(outcome.code, 0) << command[0] << ": " << outcome.said;
        const std::string heading = test::lines(outcome.said).at(0);
        EXPECT_NE(tables.find("`" + heading + "`"), std::string::npos) << command[0] << ": " << heading;
    }
}

TEST(Documents, GiveARecipeThatCanBeRead) {
    const std::string text = example(document("formats/recipe.md"));
    const auto recipe = parse_recipe(text, "night.recipe.toml");
    ASSERT_TRUE(recipe) << recipe.error().text();
    EXPECT_EQ(recipe->name, "night start");
    for (const std::string& kind : recipe->bad_if) EXPECT_TRUE(is_finding_kind(kind)) << kind;
}

TEST(Documents, LinkToFilesThatAreThere) {
    namespace fs = std::filesystem;
    const fs::path top = fs::path(test::data("../..")).lexically_normal();
    std::vector<fs::path> all{top / "README.md", top / "tests/hostile/README.md"};
    for (const auto& e : fs::recursive_directory_iterator(top / "docs"))
        if (e.path().extension() == ".md") all.push_back(e.path());
    std::size_t links = 0;
    for (const fs::path& file : all) {
        const std::string text = test::read_text(file.string());
        const std::regex link("\\]\\(([^)#:]+)(#[^)]*)?\\)");
        for (std::sregex_iterator it(text.begin(), text.end(), link), end; it != end; ++it, ++links)
            EXPECT_TRUE(fs::exists(file.parent_path() / (*it)[1].str())) << file << " links to " << (*it)[1];
    }
    EXPECT_GT(links, 40U);
}

}  // namespace
}  // namespace mt
