// What recordings of one target share: read, found from a recording, written.
#include "target/project.h"

#include <gtest/gtest.h>

#include "support.h"

namespace mt {
namespace {

TEST(Project, IsReadWithPathsSeenFromItsFolder) {
    test::Folder folder;
    test::write_file(folder / "larkspur.project.toml",
                     "format = \"mindful-trail-project/1\"\ntarget = \"larkspur.target.toml\"\nrecipes = "
                     "[\"night.recipe.toml\"]\nwaves = 3\n[[source]]\nfrom = \"/build\"\nto = \"firmware\"\n");
    const auto project = read_project(folder / "larkspur.project.toml");
    ASSERT_TRUE(project) << project.error().text();
    EXPECT_EQ(project->name, "larkspur");
    EXPECT_EQ(project->target, folder / "larkspur.target.toml");
    EXPECT_EQ(project->recipes, (std::vector<std::string>{folder / "night.recipe.toml"}));
    EXPECT_EQ(project->sources[0], (std::pair<std::string, std::string>{"/build", folder / "firmware"}));
    ASSERT_EQ(project->warnings.size(), 1U);
    EXPECT_NE(project->warnings[0].find("larkspur.project.toml:4: unknown key 'waves'"), std::string::npos);
    // What is written says the same.
    test::write_file(folder / "again.project.toml", project_text(*project, folder.path()));
    const auto again = read_project(folder / "again.project.toml");
    ASSERT_TRUE(again) << again.error().text();
    EXPECT_EQ(again->target, project->target);
    EXPECT_EQ(again->recipes, project->recipes);
    EXPECT_EQ(again->sources, project->sources);
}

TEST(Project, IsFoundInTheNearestFolderUpwards) {
    test::Folder folder;
    std::filesystem::create_directories(folder / "nights/3");
    test::write_file(folder / "nights/3/swo.bin", "x");
    EXPECT_EQ(project_of(folder / "nights/3/swo.bin").value_or("").find(folder.path()), std::string::npos);
    test::write_file(folder / "b.project.toml", "");
    test::write_file(folder / "a.project.toml", "");
    EXPECT_EQ(project_of(folder / "nights/3/swo.bin"), folder / "a.project.toml");
    test::write_file(folder / "nights/n.project.toml", "");
    EXPECT_EQ(project_of(folder / "nights/3/swo.bin"), folder / "nights/n.project.toml");
    EXPECT_EQ(project_of(folder / "nights/3"), folder / "nights/n.project.toml") << "a folder is a recording too";
}

TEST(Project, SaysWhatIsWrongInIt) {
    test::Folder folder;
    const auto wrong = [&](const std::string& text) {
        test::write_file(folder / "x.project.toml", text);
        const auto project = read_project(folder / "x.project.toml");
        return project ? std::string() : project.error().where + " " + project.error().what;
    };
    EXPECT_NE(wrong("name = \"x\"\n").find("missing key 'format'"), std::string::npos);
    EXPECT_NE(wrong("format = \"mindful-trail-project/1\"\n[[source]]\nfrom = \"a\"\n")
                  .find("x.project.toml:2 missing key 'to'"),
              std::string::npos);
    EXPECT_NE(wrong("format = \"mindful-trail-project/1\"\ntarget = 5\n").find("x.project.toml:2 key 'target'"),
              std::string::npos);
}

}  // namespace
}  // namespace mt
