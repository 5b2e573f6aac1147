// Clocks brought together by what both saw.
#include "signals/clock_fit.h"

#include <gtest/gtest.h>

#include <random>

namespace mt {
namespace {

/// Edges at random distances, seen by both; some are missing on either side, some are extra, all are a little off.
struct Seen {
    Seen(double offset_ns, double drift_ppm, double missing, double extra, double noise_ns, std::size_t n = 600,
         unsigned seed = 1) {
        std::mt19937 random(seed);
        std::uniform_real_distribution<double> gap(2e6, 3e7), share(0, 1);
        std::normal_distribution<double> noise(0, noise_ns);
        double t = 5e6;
        for (std::size_t i = 0; i < n; ++i) {
            t += gap(random);
            const double there = offset_ns + (1 + drift_ppm * 1e-6) * t + noise(random);
            if (share(random) >= missing) both.here.push_back(Time::from_ns(t));
            if (share(random) >= missing) both.there.push_back(Time::from_ns(there));
            if (share(random) < extra) both.there.push_back(Time::from_ns(there + 1e6 * share(random)));
        }
        std::sort(both.there.begin(), both.there.end());
    }
    SeenByBoth both;
};

class Clocks : public ::testing::TestWithParam<std::tuple<double, double, double, double>> {};

TEST_P(Clocks, AreBroughtTogetherThoughEdgesAreMissingAndExtra) {
    const auto [offset, drift, missing, noise] = GetParam();
    for (unsigned seed = 1; seed <= 5; ++seed) {
        const Seen seen(offset, drift, missing, missing, noise, 600, seed);
        const auto fit = fit_clocks({seen.both});
        ASSERT_TRUE(fit) << fit.error().text();
        EXPECT_NEAR(fit->drift_ppm, drift, 0.02 + noise * 1e-4);
        const double middle = 4e9;
        EXPECT_NEAR(fit->offset_ns + fit->drift_ppm * 1e-6 * middle, offset + drift * 1e-6 * middle, 1 + noise / 4);
        EXPECT_LT(fit->uncertainty_ns, 1 + noise / 2);
        EXPECT_GT(fit->uncertainty_ns, noise / 50);
        EXPECT_GT(fit->matched, 200U);
    }
}

INSTANTIATE_TEST_SUITE_P(Each, Clocks,
                         ::testing::Values(std::tuple{0.0, 0.0, 0.0, 1.0}, std::tuple{1.25e9, -20.0, 0.05, 50.0},
                                           std::tuple{-3.0e9, 140.0, 0.2, 1000.0}, std::tuple{7e8, -400.0, 0.1, 5.0},
                                           std::tuple{2e10, 3.0, 0.3, 10'000.0}));

TEST(ClocksThatCannotBeKnown, AreAProblemWithTheReason) {
    SeenByBoth even;
    for (int i = 0; i < 400; ++i) {
        even.here.push_back(Time::from_ms(10 * i));
        even.there.push_back(Time::from_ms(10 * i + 3));
    }
    EXPECT_NE(fit_clocks({even}).error().what.find("several offsets would do"), std::string::npos);
    Seen one(0, 0, 0, 0, 1, 300, 1), other(0, 0, 0, 0, 1, 300, 9);
    const auto strange = fit_clocks({{one.both.here, other.both.there}});
    ASSERT_FALSE(strange);
    EXPECT_NE(strange.error().what.find("do not meet"), std::string::npos) << strange.error().text();
    const auto hinted = fit_clocks({even}, ClockHint{even.there[0].ps / 1e3 - even.here[0].ps / 1e3 + 3e5, 1e6});
    ASSERT_TRUE(hinted) << "what is known before settles it: " << hinted.error().text();
    EXPECT_NEAR(hinted->offset_ns + hinted->drift_ppm * 1e-6 * even.here[0].ps / 1e3,
                static_cast<double>((even.there[0] - even.here[0]).ps) / 1e3, 2000);
    EXPECT_NE(fit_clocks({even}, ClockHint{-5e9, 1e6}).error().what.find("do not meet"), std::string::npos) << "and it is far from the even edges";
    EXPECT_FALSE(fit_clocks({}));
    EXPECT_FALSE(fit_clocks({{{}, {Time::from_ms(1)}}}));
}

// A busy computer takes the first byte far later than it came: what is known before is wrong then.
TEST(ClocksWithAHintThatIsFarOff, AreFoundByTheirManyEdgesAndNotByAFew) {
    const Seen many(4e8, 38, 0.05, 0.05, 3, 300, 1);
    const auto found = fit_clocks({many.both}, ClockHint{0, 1e8});
    ASSERT_TRUE(found) << found.error().text();
    EXPECT_NEAR(found->offset_ns, 4e8, 10'000);
    EXPECT_NEAR(found->drift_ppm, 38, 1);
    const SeenByBoth few{{Time::from_ms(40), Time::from_ms(50)}, {Time::from_ms(1040), Time::from_ms(1050)}};
    EXPECT_TRUE(fit_clocks({few}));
    EXPECT_FALSE(fit_clocks({few}, ClockHint{0, 1e8}));
}

TEST(AFewEdges, AreEnoughWhereTheyFitInOneWayAlone) {
    const auto single = fit_clocks({{{Time::from_ms(40)}, {Time::from_ms(1040)}}});
    ASSERT_TRUE(single) << single.error().text();
    EXPECT_EQ(single->offset_ns, 1e9);
    EXPECT_FALSE(single->drift_known);
    EXPECT_FALSE(fit_clocks({{{Time::from_ms(40)}, {Time::from_ms(1040), Time::from_ms(1100)}}}))
        << "which of the two?";
    const auto three = fit_clocks({{{Time::from_ms(10), Time::from_ms(400), Time::from_ms(900)},
                                    {Time::from_ms(70), Time::from_ms(110), Time::from_ms(500), Time::from_ms(1000)}}});
    ASSERT_TRUE(three) << three.error().text();
    EXPECT_NEAR(three->offset_ns, 1e8, 10);
    EXPECT_EQ(three->matched, 3U);
    EXPECT_EQ(three->unmatched, 1U);
}

TEST(AFit, GoesBothWays) {
    ClockFit fit;
    fit.offset_ns = 1250731204.6;
    fit.drift_ppm = -20;
    for (const double ms : {0.0, 1.0, 12'000.0, -500.0}) {
        const Time t = Time::from_ns(ms * 1e6);
        EXPECT_LE(std::abs((fit.to_here(fit.to_there(t)) - t).ps), 2);
    }
}

}  // namespace
}  // namespace mt
