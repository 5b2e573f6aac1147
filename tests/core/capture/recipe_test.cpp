// Recipe files: what they say, and what is said about wrong ones.
#include <gtest/gtest.h>

#include "capture/recipe.h"
#include "process.h"

namespace mt {
namespace {

const std::string kHead =
    "format = \"mindful-trail-recipe/1\"\nname = \"night start\"\ntarget = \"sub/larkspur.target.toml\"\n";
const std::string kConnect =
    "[[connect]]\ncore = \"main\"\ndebug = \"127.0.0.1:3333\"\ntrace = \"tcp\"\naddress = \":3344\"\n";

std::string problem(const std::string& text) {
    const auto r = parse_recipe(text, "/x/night.recipe.toml");
    return r ? "" : r.error().text();
}

TEST(Recipes, SayHowToRecord) {
    const auto r = parse_recipe(
        kHead + kConnect +
            "[[connect]]\ncore = \"cop\"\ndebug = \":3334\"\ntrace = \"ring\"\nsymbol = \"trail_ring\"\nevery_ms = 5\n"
            "[before]\ncheck_image = true\nreset = true\nrun_to = { place = \"main.c:41\", core = \"main\" }\n"
            "[record]\nseconds = 20\nuntil = { place = \"guide_task\", times = 3 }\nwatch = { symbol = \"bus_lock\", "
            "on = \"read\" }\n"
            "mark = { port = 31, value = 0xF5 }\nkeep = \"newest\"\nlimit = 1_000_000\n"
            "[after]\nleave = \"halted\"\nfindings = \"f.json\"\nbad_if = [\"fault\"]\n",
        "/x/night.recipe.toml");
    ASSERT_TRUE(r) << r.error().text();
    EXPECT_EQ(r->target, "/x/sub/larkspur.target.toml");
    ASSERT_EQ(r->connects.size(), 2U);
    EXPECT_EQ(r->connects[0].trace->address, ":3344");
    EXPECT_EQ(r->connects[1].trace->kind, SourceSpec::Kind::ring);
    EXPECT_EQ(r->connects[1].trace->every_ms, 5U);
    EXPECT_EQ(r->run_to->where, "main.c:41");
    EXPECT_EQ(r->until->times, 3U);
    EXPECT_TRUE(r->watch->on_read);
    EXPECT_FALSE(r->watch->on_write);
    EXPECT_EQ(r->mark->value, 0xF5U);
    EXPECT_EQ(r->keep, Recipe::Keep::newest);
    EXPECT_EQ(r->leave, Recipe::Leave::halted);
    EXPECT_EQ(r->findings_json, "/x/f.json");
    EXPECT_TRUE(r->judges());
    EXPECT_TRUE(r->warnings.empty());
}

TEST(Recipes, AreWrittenAsTheyAreRead) {
    const auto r = parse_recipe(kHead + kConnect + "thread = 2\n[record]\nseconds = 1.5\n[after]\nleave = \"halted\"\n",
                                "/x/night.recipe.toml");
    ASSERT_TRUE(r);
    EXPECT_EQ(r->connects[0].thread, 2U);
    const std::string text = recipe_text(*r, "/x/night.recipe.toml");
    const auto again = parse_recipe(text, "/x/night.recipe.toml");
    ASSERT_TRUE(again) << again.error().text() << "\n" << text;
    EXPECT_EQ(recipe_text(*again, "/x/night.recipe.toml"), text);
    EXPECT_EQ(again->target, r->target);
    EXPECT_EQ(again->seconds, 1.5);
    EXPECT_EQ(again->connects[0].thread, 2U) << "which core of its server";
}

TEST(Recipes, WrongOnesNameKeyAndLine) {
    EXPECT_NE(problem(kHead).find("missing key 'connect'"), std::string::npos) << problem(kHead);
    EXPECT_NE(problem(kHead + kConnect + "[record]\nseconds = \"long\"\n").find("/x/night.recipe.toml:10"),
              std::string::npos);
    EXPECT_NE(problem(kHead + kConnect + "[record]\nkeep = \"newest\"\n").find("missing key 'limit'"),
              std::string::npos);
    EXPECT_NE(problem(kHead + "[[connect]]\ncore = \"main\"\ntrace = \"carrier pigeon\"\n").find("one of tcp, serial"),
              std::string::npos);
    EXPECT_NE(
        problem(kHead + "[[connect]]\ncore = \"main\"\ntrace = \"tcp\"\naddress = \":1\"\n[before]\nreset = true\n")
            .find("reset needs a debug server"),
        std::string::npos);
    EXPECT_NE(problem(kHead + "[[connect]]\ncore = \"main\"\ntrace = \"ring\"\nsymbol = \"r\"\n")
                  .find("needs a debug server"),
              std::string::npos);
    EXPECT_NE(problem(kHead + "[[connect]]\ncore = \"main\"\nthread = 2\ntrace = \"tcp\"\naddress = \":1\"\n")
                  .find("thread names one of a debug server"),
              std::string::npos);
    EXPECT_NE(problem(kHead + kConnect + kConnect).find("connected twice"), std::string::npos);
    EXPECT_NE(problem("format = 3\n").find("format"), std::string::npos);
    EXPECT_NE(problem("[[[").find("not valid TOML"), std::string::npos);
}

TEST(Recipes, UnknownKeysAreWarnings) {
    const auto r = parse_recipe(kHead + kConnect + "[record]\nsecnds = 3\n", "/x/r.toml");
    ASSERT_TRUE(r);
    ASSERT_EQ(r->warnings.size(), 1U);
    EXPECT_NE(r->warnings[0].find("secnds"), std::string::npos);
}

TEST(Recipes, ThePatternFindsTheFirstFreeNumber) {
    test::Folder folder;
    auto r = *parse_recipe(kHead + kConnect, folder / "night.recipe.toml");
    r.save = "{name}-{n}.mtrail";
    EXPECT_EQ(save_path(r), folder / "night-start-1.mtrail");
    std::filesystem::create_directory(folder / "night-start-1.mtrail");
    EXPECT_EQ(save_path(r), folder / "night-start-2.mtrail");
}

}  // namespace
}  // namespace mt
