// Findings that say the same, and findings that need no attention.
#include "judge/muted.h"

#include <gtest/gtest.h>

#include "judge/alike.h"
#include "share/tables.h"
#include "support.h"

namespace mt {
namespace {

Finding finding(FindingKind kind, std::vector<std::string> names, double severity = 0.5) {
    Finding f;
    f.kind = kind;
    f.core = "main";
    f.severity = severity;
    f.title = "something about " + names[0];
    for (const std::string& name : names) f.involve(f.involved.empty() ? Role::subject : Role::holder, name);
    return f;
}

TEST(FindingsInGroups, ThoseThatSayTheSameOfTheSameActivitiesAreOne) {
    const std::vector<Finding> all = {finding(FindingKind::priority_inversion, {"clock", "focus"}, 0.9),
                                      finding(FindingKind::fault, {"BusFault"}, 0.8),
                                      finding(FindingKind::priority_inversion, {"clock", "focus"}, 0.95),
                                      finding(FindingKind::priority_inversion, {"guide", "focus"}, 0.4),
                                      finding(FindingKind::lock_convoy, {"clock", "focus"}, 0.3)};
    const auto groups = in_groups(all);
    ASSERT_EQ(groups.size(), 4U);
    EXPECT_EQ(groups[0], (FindingGroup{2, 0})) << "the worst of them first";
    EXPECT_EQ(groups[1], FindingGroup{1});
    EXPECT_EQ(groups[2], FindingGroup{3}) << "another victim";
    EXPECT_EQ(groups[3], FindingGroup{4}) << "another kind";
}

TEST(FindingsInGroups, TraceThatOverflowedAndTraceThatIsDamagedAreNotTheSame) {
    std::vector<Finding> all(3);
    for (Finding& f : all) f.kind = FindingKind::gap;
    all[1].fact("offset", Address{0x100});
    EXPECT_EQ(in_groups(all), (std::vector<FindingGroup>{{0, 2}, {1}}));
}

TEST(FindingsInGroups, TheTextTellsAGroupOnceWithItsOtherPlaces) {
    std::vector<Finding> all;
    for (int i = 0; i < 9; ++i) {
        all.push_back(finding(FindingKind::late_response, {"ENC_INDEX"}));
        all.back().begin = Time::from_ms(100 * (i + 1));
    }
    const std::string text = findings_text(all);
    EXPECT_NE(text.find("1. something about ENC_INDEX"), std::string::npos);
    EXPECT_EQ(text.find("2. "), std::string::npos) << text;
    EXPECT_NE(text.find("the same at 8 other places: 0.200 000 000 s, "), std::string::npos) << text;
}

TEST(MutedFindings, AreThoseOfTheKindThatNameAllTheActivities) {
    const auto muted = parse_muted(
        "format = \"mindful-trail-muted/1\"\n"
        "[[muted]]\nkind = \"priority_inversion\"\nof = [\"clock\"]\nreason = \"known\"\n"
        "[[muted]]\ncore = \"cop\"\nreason = \"not ours\"\n",
        "x.toml");
    ASSERT_TRUE(muted) << muted.error().text();
    EXPECT_NE(muted->find(finding(FindingKind::priority_inversion, {"clock", "focus"})), nullptr);
    EXPECT_EQ(muted->find(finding(FindingKind::priority_inversion, {"guide", "focus"})), nullptr);
    EXPECT_EQ(muted->find(finding(FindingKind::deadlock, {"clock", "focus"})), nullptr);
    Finding elsewhere = finding(FindingKind::fault, {"trap"});
    elsewhere.core = "cop";
    ASSERT_NE(muted->find(elsewhere), nullptr);
    EXPECT_EQ(muted->find(elsewhere)->reason, "not ours");
    EXPECT_EQ(findings_json({elsewhere}, *muted)[0]["muted"], "not ours");
    EXPECT_FALSE(findings_json({elsewhere})[0].contains("muted"));
}

TEST(MutedFindings, WhatIsWrittenIsReadBack) {
    test::Folder folder;
    Muted muted;
    const Finding f = finding(FindingKind::late_response, {"ENC \"INDEX\"", "focus\n"});
    muted.all.push_back(mute_of(f, "said \"so\": ü"));
    const std::string path = folder / "larkspur.muted.toml";
    ASSERT_TRUE(write_muted(muted, path));
    const auto again = read_muted(path);
    ASSERT_TRUE(again) << again.error().text();
    ASSERT_EQ(again->all.size(), 1U);
    EXPECT_EQ(again->all[0].of, muted.all[0].of);
    EXPECT_EQ(again->all[0].reason, muted.all[0].reason);
    EXPECT_NE(again->find(f), nullptr);
    EXPECT_TRUE(again->warnings.empty());
    EXPECT_TRUE(read_muted(folder / "nothing.toml")->all.empty()) << "no file mutes nothing";
}

TEST(MutedFindings, WhatCannotBeUnderstoodIsAnErrorWithItsLine) {
    const auto wrong = [](const std::string& text) {
        const auto m = parse_muted("format = \"mindful-trail-muted/1\"\n" + text, "x.toml");
        return m ? std::string("read") : m.error().text();
    };
    EXPECT_NE(wrong("[[muted]]\nreason = \"x\"\n").find("x.toml:2"), std::string::npos)
        << "would mute everything: " << wrong("[[muted]]\nreason = \"x\"\n");
    EXPECT_NE(wrong("[[muted]]\nkind = \"moonshine\"\nreason = \"x\"\n").find("moonshine"), std::string::npos);
    EXPECT_NE(wrong("[[muted]]\nkind = \"fault\"\n").find("reason"), std::string::npos);
    EXPECT_NE(wrong("[[muted]]\nkind = \"fault\"\nreason = \"\"\n").find("not empty"), std::string::npos);
    EXPECT_FALSE(parse_muted("format = \"other/1\"\n", "x.toml"));
}

TEST(MutedFindings, AreKeptBesideTheTargetFileOrInTheRecording) {
    test::Folder folder;
    EXPECT_EQ(muted_path("a/larkspur.target.toml"), "a/larkspur.muted.toml");
    EXPECT_EQ(muted_path("a/x.toml"), "a/x.muted.toml");
    EXPECT_EQ(muted_path("a/night.mtrail/trail.toml"), "a/night.mtrail/muted.toml");
    EXPECT_EQ(muted_path(folder / "."), (std::filesystem::path(folder / ".") / "muted.toml").string());
}

}  // namespace
}  // namespace mt
