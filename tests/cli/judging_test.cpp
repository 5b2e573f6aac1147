// judge, cover, compare and report as a build server calls them.
#include <gtest/gtest.h>
#include <sys/wait.h>

#include <filesystem>

#include <nlohmann/json.hpp>

#include "support.h"

namespace mt {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;

struct JudgeRun {
    int code;
    std::string out, err;
};
JudgeRun run_judge(const std::string& arguments) {
    test::Folder folder;
    const int status = std::system((std::string(MT_CLI) + " " + arguments + " >" + (folder / "out") + " 2>" + (folder / "err")).c_str());
    return {WEXITSTATUS(status), test::read_text(folder / "out"), test::read_text(folder / "err")};
}
const std::string kClean = test::data("tasks/mount-clean/trace"), kPaddle = test::data("steps/arm-mtb-paddle/recording.target.toml");

std::string rules_in(const test::Folder& folder, const std::string& rules) {
    test::write_file(folder / "x.rules.toml", "format = \"mindful-trail-rules/1\"\n" + rules);
    return " --rules " + (folder / "x.rules.toml");
}
const std::string kKept = "[[rule]]\nname = \"slow enough\"\nof = \"axis_ra\"\nwhat = \"response\"\nmax = \"1 s\"\nnote = \"MC-1\"\n";
const std::string kBroken = "[[rule]]\nname = \"<too> fast & \\\"so\\\"\"\nof = \"axis_ra\"\nwhat = \"response\"\nmax = \"1 us\"\n";
const std::string kOpen = "[[rule]]\nname = \"open\"\nof = \"nobody\"\nwhat = \"response\"\nmax = \"1 us\"\noptional = true\n";

TEST(JudgeCommand, TheExitCodeIsTheVerdict) {
    test::Folder folder;
    EXPECT_EQ(run_judge("judge " + kClean + rules_in(folder, kKept)).code, 0);
    EXPECT_EQ(run_judge("judge " + kClean + rules_in(folder, kKept + kBroken)).code, 1);
    EXPECT_EQ(run_judge("judge " + kClean + rules_in(folder, kKept + kOpen)).code, 0);
    EXPECT_EQ(run_judge("judge " + kClean + rules_in(folder, kKept + kOpen) + " --strict").code, 1);
    const auto wrong = run_judge("judge " + kClean + rules_in(folder, "[[rule]]\nname = \"a\"\nof = \"axis_rra\"\nwhat = \"response\"\nmax = \"1 s\"\n"));
    EXPECT_EQ(wrong.code, 2);
    EXPECT_NE(wrong.err.find("x.rules.toml:2"), std::string::npos) << wrong.err;
    EXPECT_NE(wrong.err.find("axis_ra"), std::string::npos) << wrong.err;
}

TEST(JudgeCommand, ManyRecordingsAreJudgedAtOnceAndEachStandsInItsOwnRows) {
    test::Folder folder;
    const auto r = run_judge("judge " + kClean + " " + test::data("tasks/mount-a/trace") + rules_in(folder, kKept + kBroken) + " --json");
    EXPECT_EQ(r.code, 1) << r.err;
    const Json all = Json::parse(r.out);
    ASSERT_EQ(all.size(), 4U);
    EXPECT_EQ(all[0]["input"], kClean);
    EXPECT_EQ(all[0]["verdict"], "kept");
    EXPECT_EQ(all[3]["verdict"], "broken");
    EXPECT_EQ(all[1]["violations"], 3000);
    EXPECT_EQ(all[1]["places"].size(), 100U);
    EXPECT_EQ(all[1]["places"][0]["value"], all[1]["worst"]);
}

TEST(JudgeCommand, JUnitHasACaseForEachRuleAndSurvivesItsNames) {
    test::Folder folder;
    const auto r = run_judge("judge " + kClean + rules_in(folder, kKept + kBroken + kOpen) + " --csv --junit " + (folder / "j.xml"));
    EXPECT_EQ(r.code, 1) << r.err;
    const std::string xml = test::read_text(folder / "j.xml");
    EXPECT_NE(xml.find("tests=\"3\" failures=\"1\""), std::string::npos) << xml;
    EXPECT_NE(xml.find("fast &amp; &quot;so&quot;\""), std::string::npos) << xml;
    EXPECT_NE(xml.find("<property name=\"note\" value=\"MC-1\" />"), std::string::npos) << xml;
    EXPECT_NE(xml.find("<skipped"), std::string::npos);
    EXPECT_EQ(test::lines(r.out).size(), 4U);
}

TEST(JudgeCommand, ProposedRulesAreKeptByTheRecordingTheyComeFrom) {
    test::Folder folder;
    ASSERT_EQ(run_judge("judge " + kClean + " --propose " + (folder / "p.rules.toml") + " --margin 10").code, 0);
    const auto kept = run_judge("judge " + kClean + " --rules " + (folder / "p.rules.toml") + " --strict --csv");
    EXPECT_EQ(kept.code, 0) << kept.out;
    EXPECT_GT(test::lines(kept.out).size(), 20U);
    // The recording with its injected trouble does not keep them.
    EXPECT_EQ(run_judge("judge " + test::data("tasks/mount-a/trace") + " --rules " + (folder / "p.rules.toml")).code, 1);
    EXPECT_EQ(run_judge("judge " + kClean).code, 2);
}

TEST(CoverCommand, TellsFunctionsInstructionsLinesAndPages) {
    test::Folder folder;
    const auto csv = run_judge("cover " + kPaddle + " --csv --lcov " + (folder / "x.info") + " --html " + (folder / "pages"));
    ASSERT_EQ(csv.code, 0) << csv.err;
    const auto rows = test::lines(csv.out);
    EXPECT_EQ(rows[0],
              "function,file,line,lines,lines_run,instructions,instructions_run,branches,branches_taken,branches_not_taken,"
              "branches_both,calls");
    EXPECT_EQ(rows.size(), 17U);
    EXPECT_NE(test::read_text(folder / "x.info").find("DA:4,3945"), std::string::npos);
    const std::string index = test::read_text(folder / "pages/index.html");
    EXPECT_NE(index.find("href=\"file-1.html\""), std::string::npos);
    EXPECT_TRUE(fs::exists(folder / "pages/file-1.html"));
    EXPECT_EQ(index.find("<script"), std::string::npos);
    // What is there is not written over.
    EXPECT_EQ(run_judge("cover " + kPaddle + " --html " + (folder / "pages")).code, 2);
    const auto twice = run_judge("cover " + kPaddle + " " + kPaddle + " --instructions");
    const auto once = run_judge("cover " + kPaddle + " --instructions");
    EXPECT_EQ(test::lines(twice.out).size(), test::lines(once.out).size());
    EXPECT_NE(twice.out, once.out);
    const auto one = run_judge("cover " + kPaddle + " --of key_action --csv");
    EXPECT_EQ(test::lines(one.out).size(), 2U);
    EXPECT_NE(run_judge("cover " + kPaddle + " --of key_actoin").err.find("key_action"), std::string::npos);
    EXPECT_EQ(run_judge("cover " + kClean).code, 2);  // no instruction trace
}

TEST(CoverCommand, AStoreAddsUpKnowsWhoContributedAndTellsWhatIsJustifiedButRuns) {
    test::Folder folder;
    const std::string store = " --store " + (folder / "s.mtcover"), window = test::data("steps/arm-mtb-paddle-window/recording.target.toml");
    const auto first = run_judge("cover " + window + store + " --json");
    ASSERT_EQ(first.code, 0) << first.err;
    const auto both = run_judge("cover " + kPaddle + store + " --json");
    ASSERT_EQ(both.code, 0) << both.err;
    const Json all = Json::parse(both.out), one = Json::parse(run_judge("cover " + kPaddle + " --json").out),
               other = Json::parse(first.out);
    ASSERT_EQ(all["recordings"].size(), 2U);
    const auto run_of = [](const Json& j) { return j["cores"][0]["sums"]["instructions_run"].get<int>(); };
    EXPECT_GE(run_of(all), std::max(run_of(one), run_of(other)));
    EXPECT_EQ(all["recordings"][0]["fresh"].get<int>() + all["recordings"][1]["fresh"].get<int>(), run_of(all));
    const auto calls = [](const Json& j, const char* name) {
        for (const Json& f : j["cores"][0]["functions"])
            if (f["function"] == name) return f["calls"].get<int>();
        return -1;
    };
    EXPECT_EQ(calls(all, "key_action"), calls(one, "key_action") + calls(other, "key_action"));
    // Once more: the same recording does not count twice.
    const Json again = Json::parse(run_judge("cover " + kPaddle + store + " --json").out);
    EXPECT_EQ(calls(again, "key_action"), calls(all, "key_action"));
    const auto justified = run_judge("cover " + kPaddle + store + " --justify key_action --reason \"only by hand\"");
    EXPECT_NE(justified.err.find("key_action ran, though it is justified: only by hand"), std::string::npos) << justified.err;
}

TEST(CoverCommand, WhatIsNoStoreIsLeftAsItIs) {
    test::Folder folder;
    test::write_file(folder / "s.mtcover", std::string("this is no database, but a text that somebody needs"));
    const auto r = run_judge("cover " + kPaddle + " --store " + (folder / "s.mtcover"));
    EXPECT_EQ(r.code, 2);
    EXPECT_NE(r.err.find("no store of coverage"), std::string::npos) << r.err;
    EXPECT_EQ(test::read_text(folder / "s.mtcover"), "this is no database, but a text that somebody needs");
    // Cut off, and of a later version.
    ASSERT_EQ(run_judge("cover " + kPaddle + " --store " + (folder / "t.mtcover")).code, 0);
    auto bytes = test::read_bytes(folder / "t.mtcover");
    auto cut = bytes;
    cut.resize(cut.size() / 2);
    test::write_file(folder / "cut.mtcover", cut);
    EXPECT_EQ(run_judge("cover " + kPaddle + " --store " + (folder / "cut.mtcover")).code, 2);
    bytes[63] = 9;  // the user version, big endian, in the file's header
    test::write_file(folder / "later.mtcover", bytes);
    const auto later = run_judge("cover " + kPaddle + " --store " + (folder / "later.mtcover"));
    EXPECT_EQ(later.code, 2);
    EXPECT_NE(later.err.find("version 9"), std::string::npos) << later.err;
}

TEST(CompareCommand, ExitsWithOneIfAnythingGotWorse) {
    const std::string before = test::data("pairs/a-before.tar.xz"), after = test::data("pairs/a-after.tar.xz");
    const auto worse = run_judge("compare " + before + " " + after + " --json");
    EXPECT_EQ(worse.code, 1) << worse.err;
    const Json c = Json::parse(worse.out);
    EXPECT_FALSE(c["changes"].empty());
    for (const char* key : {"activity", "kind", "quantity", "statistic", "before", "after", "relative", "direction", "role", "because", "confidence"})
        EXPECT_TRUE(c["changes"][0].contains(key)) << key;
    const auto same = run_judge("compare " + before + " " + before);
    EXPECT_EQ(same.code, 0);
    EXPECT_NE(same.out.find("0 figures worse, 0 better"), std::string::npos) << same.out;
    EXPECT_EQ(run_judge("compare " + before + " /nowhere").code, 2);
}

TEST(ReportCommand, IsOnePageWithoutAnythingFromElsewhere) {
    test::Folder folder;
    const auto r = run_judge("report " + test::data("tasks/mount-a/trace") + rules_in(folder, kKept + kBroken) + " --html " + (folder / "r.html"));
    ASSERT_EQ(r.code, 0) << r.err;
    const std::string page = test::read_text(folder / "r.html");
    for (const char* id : {"id=\"summary\"", "id=\"findings\"", "id=\"rules\"", "id=\"measures\"", "<svg", "class=\"broken\"", "MC-1"})
        EXPECT_NE(page.find(id), std::string::npos) << id;
    EXPECT_NE(page.find("&lt;too&gt; fast"), std::string::npos);
    for (const char* not_there : {"http://", "https://", "<script", "<link", "<too>"}) EXPECT_EQ(page.find(not_there), std::string::npos) << not_there;
    // Only what is chosen, in a frame of one's own.
    test::write_file(folder / "frame.html", "<p>Our logo</p><h1>{{title}}</h1>{{body}}");
    ASSERT_EQ(run_judge("report " + kClean + " --sections summary --frame " + (folder / "frame.html") + " --html " + (folder / "s.html")).code, 0);
    const std::string framed = test::read_text(folder / "s.html");
    EXPECT_EQ(framed.rfind("<p>Our logo</p>", 0), 0U);
    EXPECT_EQ(framed.find("id=\"findings\""), std::string::npos);
    EXPECT_EQ(run_judge("report " + kClean + " --sections nothing --html " + (folder / "t.html")).code, 2);
}

}  // namespace
}  // namespace mt
