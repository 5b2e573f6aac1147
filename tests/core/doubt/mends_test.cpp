// What is offered to set a setting right, and that it does.
#include <gtest/gtest.h>

#include "judge/finding.h"
#include "judge/mends.h"
#include "support.h"
#include "target/target_edit.h"

namespace mt {
namespace {

// All mends of a recording's doubts that ask for nothing.
std::vector<Mend> offered(const Trail& trail) {
    std::vector<Mend> all;
    for (const Doubt& d : trail.doubts)
        for (const Mend& m : d.mends)
            if (m.asks == Mend::Asks::nothing) all.push_back(m);
    return all;
}

std::string changed(const std::string& text, const std::vector<KeyChange>& changes) {
    const auto now = changed_target(text, changes);
    EXPECT_TRUE(now) << (now ? "" : now.error().text());
    return now ? *now : text;
}

// A setting that is wrong in one place: the first mend offered makes the recording what it is with the right one.
struct Wrong {
    const char* name;
    const char* target;
    std::vector<KeyChange> wrong;
    const char* label;
};
class AWrongSetting : public testing::TestWithParam<Wrong> {};

TEST_P(AWrongSetting, IsMendedByWhatIsOffered) {
    const std::string path = test::data(GetParam().target), good = test::read_text(path);
    const test::Opened truth = test::decode(path);
    const std::string bad = changed(good, GetParam().wrong);
    const test::Opened wrong = test::decode(path, bad);
    const auto mends = offered(*wrong.trail);
    ASSERT_FALSE(mends.empty()) << (wrong.trail->doubts.empty() ? "no doubt" : wrong.trail->doubts[0].text);
    EXPECT_EQ(mends[0].label, GetParam().label);
    const test::Opened mended = test::decode(path, changed(bad, mends[0].changes));
    ASSERT_EQ(mended.trail->streams.size(), truth.trail->streams.size());
    for (std::size_t i = 0; i < truth.trail->streams.size(); ++i) {
        EXPECT_EQ(mended.trail->streams[i].packets, truth.trail->streams[i].packets);
        EXPECT_EQ(mended.trail->streams[i].bad_bytes, truth.trail->streams[i].bad_bytes);
    }
    for (std::size_t i = 0; i < truth.trail->steps.size(); ++i)
        EXPECT_EQ(mended.trail->steps[i].steps, truth.trail->steps[i].steps);
    EXPECT_EQ(mended.trail->end, truth.trail->end);
}

INSTANTIATE_TEST_SUITE_P(Mends, AWrongSetting,
                         testing::Values(Wrong{"framing",
                                               "mount-framed/mount.target.toml",
                                               {{"stream", 0, "framing", "\"none\""}, {"stream", 0, "trace_id", ""}},
                                               "Read formatter frames, trace ID 1"},
                                         Wrong{"prescaler",
                                               "mount/mount.target.toml",
                                               {{"stream.itm", 0, "timestamp_prescaler", "4"}},
                                               "Set timestamp_prescaler to 1"},
                                         Wrong{"iaddress_width",
                                               "steps/rv-etrace-mount/recording.target.toml",
                                               {{"stream.etrace", 0, "iaddress_width", "48"}},
                                               "Set iaddress_width to 32"},
                                         Wrong{"commopt",
                                               "steps/arm-etm-mount-cc/recording.target.toml",
                                               {{"stream.etm4", 0, "commopt", "0"}},
                                               "Set commopt to 1"},
                                         Wrong{"privilege_width",
                                               "steps/rv-etrace-mount-full/recording.target.toml",
                                               {{"stream.etrace", 0, "privilege_width", "3"}},
                                               "Set privilege_width to 2"},
                                         Wrong{"src_bits",
                                               "steps/rv-ntrace-mount-btm/recording.target.toml",
                                               {{"stream.ntrace", 0, "src_bits", "3"}},
                                               "Set src_bits to 0"}),
                         [](const auto& i) { return std::string(i.param.name); });

TEST(Mends, AnImageForAnotherMachineOffersAnotherImageOrItsOwnInstructionSet) {
    const std::string path = test::data("mount/mount.target.toml");
    const test::Opened wrong = test::decode(path, changed(test::read_text(path), {{"core", 0, "isa", "\"rv32imac\""}}));
    ASSERT_FALSE(wrong.trail->doubts.empty());
    const auto& mends = wrong.trail->doubts[0].mends;
    ASSERT_EQ(mends.size(), 2U);
    EXPECT_EQ(mends[0].asks, Mend::Asks::image);
    EXPECT_EQ(mends[1].label, "Set isa to armv7e-m");
    EXPECT_EQ(mends[1].changes, (std::vector<KeyChange>{{"core", 0, "isa", "\"armv7e-m\""}}));
}

TEST(Mends, APortThatWasWrittenOnAnotherPageIsOffered) {
    test::Folder folder;
    // Synchronisation (D4.2.1); page 1 (extension, D4.2.6: 0x18); port 5 with a byte; a timestamp.
    std::vector<std::uint8_t> bytes;
    for (int i = 0; i < 40; ++i)
        for (const int b : {0, 0, 0, 0, 0, 0x80, 0x18, 0x29, 7, 0xC0, 0x05})
            bytes.push_back(static_cast<std::uint8_t>(b));
    const test::Opened opened =
        test::decode_bytes(folder, bytes, "120_000_000", "[[port]]\nnumber = 5\nname = \"steps\"\nkind = \"value\"\n");
    const auto mends = offered(*opened.trail);
    ASSERT_EQ(mends.size(), 1U);
    EXPECT_EQ(mends[0].label, "Set number to 37");
}

TEST(Mends, AnOddTickOffersTheClockThatMakesItRound) {
    const std::string path = test::data("mount/mount.target.toml");
    const test::Opened wrong =
        test::decode(path, changed(test::read_text(path), {{"core", 0, "clock_hz", "50000000"}}));
    Progress progress;
    const auto findings = find_all(*wrong.recording, *wrong.trail, &progress);
    for (const Finding& f : findings) {
        if (f.kind != FindingKind::clock_doubt) {
            EXPECT_TRUE(mends_of(f, *wrong.recording).empty()) << f.title;
            continue;
        }
        const auto mends = mends_of(f, *wrong.recording);
        ASSERT_EQ(mends.size(), 1U);
        EXPECT_EQ(mends[0].label, "Set clock_hz to 72000000");
        const test::Opened mended = test::decode(path, changed(test::read_text(path), mends[0].changes));
        EXPECT_EQ(clock_check(*mended.trail, 0), ClockCheck::agrees);
        return;
    }
    FAIL() << "the clock is not doubted";
}

TEST(Mends, AMissingImageOrStreamCanBeChosen) {
    test::Folder folder;
    test::write_file(folder / "x.target.toml",
                     test::itm_target("there.bin") +
                         "[[core]]\nname = \"b\"\nclock_hz = 5\nisa = \"armv7-m\"\n[[stream]]\n"
                         "file = \"gone.bin\"\nprotocol = \"itm\"\ncore = \"b\"\n");
    test::write_file(folder / "there.bin", test::read_bytes(test::data("mount/capture.bin")));
    const test::Opened opened = test::decode(folder / "x.target.toml");
    std::vector<KeyChange> asked;
    for (const Doubt& d : opened.trail->doubts)
        for (const Mend& m : d.mends)
            if (m.asks != Mend::Asks::nothing) asked.push_back(m.changes.back());
    EXPECT_EQ(asked,
              (std::vector<KeyChange>{{"core", 0, "image", ""}, {"core", 1, "image", ""}, {"stream", 1, "file", ""}}));
}

}  // namespace
}  // namespace mt
