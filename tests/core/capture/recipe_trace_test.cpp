// [trace] and [parameters] of a recipe: read, written again, and refused where they say nothing.
#include <gtest/gtest.h>

#include "capture/recipe.h"

namespace mt {
namespace {

Result<Recipe> parsed(const std::string& rest, const std::vector<std::string>& given = {}) {
    return parse_recipe(
        "format = \"mindful-trail-recipe/1\"\nname = \"x\"\ntarget = \"t.target.toml\"\n[[connect]]\ncore = \"main\"\n"
        "debug = \":3333\"\ntrace = \"tcp\"\naddress = \":3344\"\n" +
            rest,
        "/tmp/x.recipe.toml", given);
}
std::string refusal(const std::string& rest, const std::vector<std::string>& given = {}) {
    const auto r = parsed(rest, given);
    return r ? "" : r.error().text();
}

const std::string kWhole = R"([trace]
core = "main"
keep = false
exceptions = true
pc_samples = "1024 cycles"
sleep = true
counters = ["cpi", "fold"]
timestamps = { local = true, prescaler = 16, global = false }
sync = "16777216 cycles"
ports = [0, 8, 31]
privileged_ports = [8]
variables = [{ of = "axis_error", on = "write", tell = "value" }, { of = "table[0..15]", on = "access", tell = "address" }]
instructions = { of = ["guide_*", "0x08000000..0x080003ff", "axis.c"], return_stack = true, cycle_counts = 4, timestamps = true, context = false }
start = { access = "axis_error", on = "write", value = 5 }
stop = { at = "guide_end", after = 3, after_bytes = "64 kB" }
to = "buffer"
swo = { baud = 2_000_000, coding = "manchester" }
port = { width = 2 }
buffer = { mode = "until-full" }
memory = { at = 0x20010000, size = "8 KiB" }
formatter = true
)";

TEST(ATraceWish, IsReadAsItIsWritten) {
    const auto r = parsed(kWhole);
    ASSERT_TRUE(r) << r.error().text();
    EXPECT_TRUE(r->warnings.empty()) << r->warnings.front();
    ASSERT_EQ(r->traces.size(), 1U);
    const TraceWish& w = r->traces[0];
    EXPECT_FALSE(w.keep);
    EXPECT_EQ(w.pc_samples, 1024U);
    EXPECT_EQ(w.sync, 16'777'216U);
    EXPECT_EQ(w.prescaler, 16U);
    EXPECT_EQ(w.ports, (std::vector<unsigned>{0, 8, 31}));
    ASSERT_EQ(w.variables.size(), 2U);
    EXPECT_EQ(w.variables[1].on, Access::any);
    EXPECT_EQ(w.variables[1].tell, Tell::address);
    ASSERT_TRUE(w.instructions);
    EXPECT_EQ(w.instructions->of.size(), 3U);
    EXPECT_EQ(w.instructions->cycle_counts, 4U);
    EXPECT_EQ(w.start->value, 5U);
    EXPECT_EQ(w.stop->after, 3U);
    EXPECT_EQ(w.stop->after_bytes, 64'000U);
    EXPECT_EQ(w.to, TraceWish::To::buffer);
    EXPECT_TRUE(w.manchester);
    EXPECT_TRUE(w.until_full);
    EXPECT_EQ(w.memory_size, 8192U);
    EXPECT_EQ(wish_for(*r, "main"), &w);
    EXPECT_EQ(wish_for(*r, "cop"), nullptr);
}

TEST(ATraceWish, WrittenAgainSaysTheSame) {
    const auto once = parsed(kWhole);
    ASSERT_TRUE(once) << once.error().text();
    const auto twice = parse_recipe(recipe_text(*once, once->path), once->path);
    ASSERT_TRUE(twice) << twice.error().text();
    EXPECT_TRUE(twice->warnings.empty());
    EXPECT_EQ(trace_wish_text(twice->traces[0], false), trace_wish_text(once->traces[0], false));
    for (const TracePreset& preset : trace_presets())
        if (preset.wish.variables.empty() || !preset.wish.variables[0].of.empty()) {
            const auto again = parsed(trace_wish_text(preset.wish, false));
            ASSERT_TRUE(again) << preset.name << ": " << again.error().text();
            EXPECT_EQ(trace_wish_text(again->traces.at(0), false), trace_wish_text(preset.wish, false));
        }
}

TEST(ATraceWish, ThatSaysNothingIsRefusedWithItsLine) {
    EXPECT_NE(refusal("[trace]\npc_samples = true\n").find("how often"), std::string::npos);
    EXPECT_NE(refusal("[trace]\npc_samples = \"often\"\n").find("1024 cycles"), std::string::npos);
    EXPECT_NE(refusal("[trace]\ncounters = [\"cpu\"]\n").find("cpi, exc, sleep, lsu, fold"), std::string::npos);
    EXPECT_NE(refusal("[trace]\nports = [40]\n").find("0 to 31"), std::string::npos);
    EXPECT_NE(refusal("[trace]\nstart = { }\n").find("a place or a variable"), std::string::npos);
    EXPECT_NE(refusal("[trace]\nto = \"moon\"\n").find("memory"), std::string::npos);
    EXPECT_NE(refusal("[trace]\nstop = { at = \"x\", after_bytes = \"many\" }\n").find("64 kB"), std::string::npos);
    EXPECT_NE(refusal("[[trace]]\nexceptions = true\n[[trace]]\nsleep = true\n").find("same core"), std::string::npos);
    EXPECT_NE(refusal("[trace]\ncore = \"cop\"\n").find("debug server"), std::string::npos);
    const auto unknown = parsed("[trace]\nexeptions = true\n");
    ASSERT_TRUE(unknown);
    EXPECT_NE(unknown->warnings.at(0).find("exeptions"), std::string::npos);
}

const std::string kParametrised =
    "[parameters]\nseconds = 5\nplace = \"main\"\nsave_it = true\n[before]\nrun_to = { place = \"{place}\" }\n"
    "[record]\nseconds = \"{seconds}\"\n";

TEST(AParameter, StandsForItsValueWithItsType) {
    const auto r = parsed(kParametrised);
    ASSERT_TRUE(r) << r.error().text();
    EXPECT_EQ(r->seconds, 5.0);
    EXPECT_EQ(r->run_to->where, "main");
    const auto other = parsed(kParametrised, {"seconds=20.5", "place=guide_task"});
    ASSERT_TRUE(other) << other.error().text();
    EXPECT_EQ(other->seconds, 20.5);
    EXPECT_EQ(other->run_to->where, "guide_task");
    const auto silent = parsed("[parameters]\nseconds = 7\n[record]\nkeep = \"oldest\"\n", {"seconds=8"});
    ASSERT_TRUE(silent) << silent.error().text();
    EXPECT_EQ(silent->seconds, 8.0) << "it stands nowhere, and is named like the key";
}

TEST(AParameter, OfAnotherNameOrKindIsRefused) {
    EXPECT_NE(refusal(kParametrised, {"secnds=3"}).find("seconds"), std::string::npos);
    EXPECT_NE(refusal(kParametrised, {"seconds=soon"}).find("number"), std::string::npos);
    EXPECT_NE(refusal(kParametrised, {"save_it=1"}).find("true or false"), std::string::npos);
    EXPECT_NE(refusal(kParametrised, {"seconds"}).find("NAME=VALUE"), std::string::npos);
    EXPECT_NE(refusal(kParametrised, {"seconds=1\nname = 3"}).find("number"), std::string::npos)
        << "no way to set other keys";
    EXPECT_NE(refusal("[parameters]\nx = [1]\n").find("neither"), std::string::npos);
}

TEST(AParameter, IsStillThereWhenTheRecipeIsWrittenAgain) {
    const auto r = parsed(kParametrised, {"seconds=9"});
    ASSERT_TRUE(r) << r.error().text();
    const std::string text = recipe_text(*r, r->path);
    EXPECT_NE(text.find("seconds = 5\n"), std::string::npos) << text;
    EXPECT_NE(text.find("seconds = \"{seconds}\""), std::string::npos) << text;
    EXPECT_NE(text.find("place = \"{place}\""), std::string::npos) << text;
    const auto again = parse_recipe(text, r->path, {"seconds=3"});
    ASSERT_TRUE(again) << again.error().text() << text;
    EXPECT_EQ(again->seconds, 3.0);
}

}  // namespace
}  // namespace mt
