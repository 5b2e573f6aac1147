// Signals beside a recording: clocks, lanes, what is said of them.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "share/tables.h"
#include "share/value_tables.h"
#include "support.h"

namespace mt {
namespace {

using Json = nlohmann::json;

class Beside : public ::testing::Test {
  protected:
    test::Opened open(const std::string& signals) {
        test::write_file(folder / "t.target.toml",
                         "format = \"mindful-trail-target/1\"\n[[stream]]\nprotocol = \"ctf\"\nfile = \"" +
                             test::data("tasks/mount-a/trace") + "\"\n" + signals);
        return test::decode(folder / "t.target.toml");
    }
    static std::string file(const char* name) {
        return "[[signals]]\nfile = \"" + test::data(std::string("signals/") + name) + "\"\n";
    }
    static Json truth() { return Json::parse(test::read_text(test::data("signals/signals-truth.json"))); }
    static std::string doubts(const test::Opened& o) {
        std::string all;
        for (const Doubt& d : o.trail->doubts) all += d.text + " " + d.advice + "\n";
        return all;
    }
    test::Folder folder;
};

TEST_F(Beside, TheClockOfADumpIsBroughtToTheRecordings) {
    const auto o = open(file("vcd-mount.vcd") +
                        "name = \"bench\"\nalign = [{ resource = \"star table\", edge = \"star_table_use both\" }]\n");
    const Json s = summary_json(*o.recording, *o.trail)["signals"][0];
    EXPECT_NEAR(s["offset_ns"], truth()["offset_ns"].get<double>(), 1000);
    EXPECT_NEAR(s["drift_ppm"], truth()["drift_ppm"].get<double>(), 0.2);
    EXPECT_LT(s["uncertainty_ns"], 1000);
    EXPECT_LE(std::abs(s["offset_ns"].get<double>() - truth()["offset_ns"].get<double>()),
              s["uncertainty_ns"].get<double>() + 1);
    EXPECT_GT(s["matched"], 1100U);
    const ValueLane* current = nullptr;
    for (const auto& l : o.trail->tasks.values)
        if (l.name == "supply_current_mA") current = &l;
    ASSERT_NE(current, nullptr);
    EXPECT_EQ(current->core, ValueLane::kNoCore);
    EXPECT_NEAR(static_cast<double>(current->samples.time(0).ps) / 1000, -1250731204.6 / (1 - 20e-6), 1000);
    std::ostringstream rows;
    write_values_csv(*o.trail, {{}, Time{}, std::nullopt}, rows);
    EXPECT_NE(rows.str().find(",,supply_current_mA,"), std::string::npos) << "of no core";
}

TEST_F(Beside, TheClockOfATableIsKnownToHalfASample) {
    const auto o =
        open(file("current-mount.csv") + "align = [{ resource = \"star table\", edge = \"star table use both\" }]\n");
    const Json s = summary_json(*o.recording, *o.trail)["signals"][0];
    const double at = 2.2e9, drift = s["drift_ppm"].get<double>();
    EXPECT_NEAR(s["offset_ns"].get<double>() + drift * 1e-6 * at,
                truth()["offset_ns"].get<double>() + truth()["drift_ppm"].get<double>() * 1e-6 * at, 5'000)
        << "sampled each 20 us";
    EXPECT_GT(s["uncertainty_ns"], 500);
}

TEST_F(Beside, WithoutAlignTheRhythmIsProposedAndNotTaken) {
    const auto o = open(file("vcd-mount.vcd"));
    EXPECT_EQ(o.trail->beside.at(0).offset_ns, 0);
    EXPECT_EQ(o.trail->beside[0].how, LaidSignals::How::by_start);
    EXPECT_NE(doubts(o).find("align = [{ resource = \"star table\", edge = \"star_table_use rising\" }]"),
              std::string::npos)
        << doubts(o);
}

TEST_F(Beside, ByHandIsTakenAsItIs) {
    const auto o = open(file("mdf-mount.mf4") + "offset_ns = -2_000_000_000\ndrift_ppm = 0\n");
    for (const auto& l : o.trail->tasks.values) {
        if (l.name == "supply current") {
            EXPECT_EQ(l.samples.time(0).ps, 2'000'000'000'000);
        }
    }
    EXPECT_EQ(doubts(o).find("signals"), std::string::npos) << doubts(o);
}

TEST_F(Beside, WhatCannotBeIsADoubtAndTheRecordingOpens) {
    const auto missing = open("[[signals]]\nfile = \"nowhere.vcd\"\n");
    EXPECT_NE(doubts(missing).find("signals are missing"), std::string::npos) << doubts(missing);
    EXPECT_FALSE(missing.trail->tasks.tasks.empty());
    const auto strange =
        open(file("vcd-mount.vcd") + "align = [{ resource = \"star tabel\", edge = \"star_table_use both\" }]\n");
    EXPECT_NE(doubts(strange).find("no resource called 'star tabel'"), std::string::npos) << doubts(strange);
    const auto unknown =
        open(file("vcd-mount.vcd") + "align = [{ resource = \"star table\", edge = \"star_use both\" }]\n");
    EXPECT_NE(doubts(unknown).find("no signal 'star_use'"), std::string::npos) << doubts(unknown);
}

TEST_F(Beside, KeysThatAreWrongAreNamed) {
    const auto what = [](const std::string& keys) {
        const auto t = parse_target_file(
            "format = \"mindful-trail-target/1\"\n[[stream]]\nprotocol = \"ctf\"\nfile = \"t\"\n"
            "[[signals]]\n" +
                keys,
            "t.target.toml");
        return t ? std::string("fine") : t.error().text();
    };
    EXPECT_EQ(what("file = \"a.vcd\"\nalign = [{ mark = \"sync\", value = 3, edge = \"S falling\" }]\n"), "fine");
    EXPECT_NE(what("name = \"x\"\n").find("missing key 'file'"), std::string::npos);
    EXPECT_NE(what("file = \"a\"\nalign = [{ mark = \"sync\", edge = \"S up\" }]\n").find("rising, falling or both"),
              std::string::npos);
    EXPECT_NE(what("file = \"a\"\nalign = [{ edge = \"S both\" }]\n").find("names nothing of the recording"),
              std::string::npos);
    EXPECT_NE(what("file = \"a\"\noffset_ns = \"1\"\n").find("it must be a number"), std::string::npos);
}

}  // namespace
}  // namespace mt
