// Rates of a recording, for what the next one will cost: held against its known events.
#include <gtest/gtest.h>

#include <numeric>

#include "judge/trace_rates.h"
#include "support.h"

namespace mt {
namespace {

double bytes_of(const std::vector<CostLine>& lines) {
    return std::accumulate(lines.begin(), lines.end(), 0.0,
                           [](double sum, const CostLine& l) { return sum + l.bytes_per_s; });
}

TEST(Rates, AreThoseOfTheRecording) {
    const auto opened = test::decode(test::data("mount/mount.target.toml"));
    const auto rates = rates_of(*opened.trail, opened.trail->cores[0].name);
    ASSERT_TRUE(rates);
    EXPECT_TRUE(rates->measured);
    const double seconds = opened.trail->end.ns() * 1e-9;
    const auto& counts = opened.trail->streams[0].counts;
    EXPECT_NEAR(rates->exceptions_per_s * seconds,
                static_cast<double>(counts[static_cast<std::size_t>(ItmKind::exc_enter)]), 0.5);
    EXPECT_NEAR(rates->accesses_per_s * seconds * 4, 6471, 1) << "of four variables";
    EXPECT_FALSE(rates_of(*opened.trail, "nobody"));
}

TEST(Rates, GiveEachKindOfPacketItsBytesAndNoneTwice) {
    for (const char* folder : {"mount", "mount-framed"}) {
        const auto opened = test::decode(test::data(std::string(folder) + "/mount.target.toml"));
        const auto lines = measured_cost(*opened.trail, opened.trail->cores[0].name);
        ASSERT_GE(lines.size(), 3u);
        for (std::size_t i = 1; i < lines.size(); ++i) EXPECT_GE(lines[i - 1].bytes_per_s, lines[i].bytes_per_s);
        const double seconds = opened.trail->end.ns() * 1e-9,
                     all = static_cast<double>(opened.trail->streams[0].raw_bytes);
        EXPECT_LE(bytes_of(lines) * seconds, all * 1.001) << folder;
        EXPECT_GT(bytes_of(lines) * seconds, all * 0.98) << folder;
        const bool frames =
            std::any_of(lines.begin(), lines.end(), [](const CostLine& l) { return l.what == "frames"; });
        EXPECT_EQ(frames, std::string(folder) == "mount-framed");
    }
}

TEST(Rates, OfInstructionsAreTheirBytes) {
    const auto opened = test::decode(test::data("steps/arm-etm-mount/recording.target.toml"));
    const StepTrail& steps = opened.trail->steps.at(0);
    const auto rates = rates_of(*opened.trail, steps.core);
    if (opened.trail->end.ns() * 1e-9 < 0.1) {
        EXPECT_FALSE(rates) << "too short to tell";
        return;
    }
    ASSERT_TRUE(rates);
    EXPECT_NEAR(rates->bytes_per_instruction, static_cast<double>(steps.raw_bytes) / static_cast<double>(steps.steps),
                1e-9);
}

TEST(Rates, OfAShortRecordingAreNotTold) {
    const test::Folder folder;
    const auto opened = test::decode_bytes(folder, {0, 0, 0, 0, 0, 0x80, 0x0E, 0x11, 0x10, 0xC0, 0x10});
    EXPECT_FALSE(rates_of(*opened.trail, "main"));
    EXPECT_TRUE(measured_cost(*opened.trail, "main").empty());
}

}  // namespace
}  // namespace mt
