// Losses that no packet tells of, told by global timestamps (Armv7-M ARM D4.2.4, D4.2.5).
#include "flow/global_check.h"

#include <gtest/gtest.h>

#include <random>

#include "hostile/damage.h"
#include "support.h"

namespace mt {
namespace {

constexpr Clock kClock{120'000'000};
constexpr std::int64_t kStep = 1'600'000;  // cycles between two global timestamps

struct Steps {
    GlobalCheck check{kClock};
    std::int64_t global = 5'000'000, local = 0;

    /// The next timestamp, `missing` cycles more than local ones tell.
    std::optional<GlobalCheck::Stray> next(std::int64_t missing = 0, unsigned size = 4) {
        global += kStep + missing;
        local += kStep;
        return check.take(static_cast<std::uint32_t>(global & ((1 << 26) - 1)), size, kClock.at(local));
    }
};

TEST(GlobalTimestamps, SayNothingWhereLocalOnesTellTheSame) {
    Steps s;
    for (int i = 0; i < 200; ++i) EXPECT_FALSE(s.next(0, i % 2 == 0 ? 4 : 3)) << i;
}

TEST(GlobalTimestamps, SayWhereAndHowMuchTimeWasLostUnseen) {
    Steps s;
    for (int i = 0; i < 5; ++i) ASSERT_FALSE(s.next());
    const auto stray = s.next(24'000);
    ASSERT_TRUE(stray);
    EXPECT_EQ(stray->from, kClock.at(5 * kStep));
    EXPECT_EQ(stray->to, kClock.at(6 * kStep));
    EXPECT_NEAR(stray->missing.us(), 200, 0.01);
    EXPECT_FALSE(s.next()) << "what follows is right again";
    const auto doubled = s.next(-12'000);
    ASSERT_TRUE(doubled);
    EXPECT_NEAR(doubled->missing.us(), -100, 0.01);
}

TEST(GlobalTimestamps, BelieveNothingAcrossALossThatIsTold) {
    Steps s;
    for (int i = 0; i < 5; ++i) ASSERT_FALSE(s.next());
    s.check.begin_anew();
    EXPECT_FALSE(s.next(900'000, 3)) << "not all of its bits";
    EXPECT_FALSE(s.next(900'000)) << "it may be dated by what was before";
    EXPECT_FALSE(s.next(900'000));
    EXPECT_FALSE(s.next());
    EXPECT_TRUE(s.next(24'000));
}

TEST(GlobalTimestamps, AllowWhatATargetIsUsuallyOffBy) {
    Steps s;
    std::mt19937 random(5);
    for (int i = 0; i < 300; ++i) {
        const auto off = static_cast<std::int64_t>(random() % 300) - 150;
        EXPECT_FALSE(s.next(i < 60 ? off / 8 * std::min(i / 6, 8) : off)) << i;
    }
}

TEST(GlobalTimestamps, TellOfBytesThatAreMissingInARecording) {
    const auto whole = test::decode(test::data("mount/mount.target.toml"));
    EXPECT_EQ(whole.trail->streams[0].strays.size(), 0U);
    const auto raw = test::read_bytes(test::data("mount/capture.bin"));
    int unseen = 0;
    for (std::uint64_t seed = 0; seed < 60; ++seed) {
        std::mt19937_64 random(seed);
        std::vector<std::uint8_t> bytes = raw;
        hostile::damage(bytes, hostile::Damage::missing, random);
        const test::Folder folder;
        const auto o = test::decode_bytes(folder, bytes, "72_000_000");
        const StreamTrail& s = o.trail->streams[0];
        const Time lost = whole.trail->end - o.trail->end;
        if (s.bad_bytes > 0 || o.trail->cores[0].contradictions > 0 || lost < Time::from_us(20)) continue;
        ++unseen;
        EXPECT_EQ(s.strays.size(), 1U) << "seed " << seed;
        if (s.strays.size() == 1) {
            EXPECT_NEAR(s.strays[0].missing.us(), lost.us(), 1) << "seed " << seed;
        }
    }
    EXPECT_GT(unseen, 0);
}

}  // namespace
}  // namespace mt
