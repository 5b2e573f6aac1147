#include "doubt/arrival_pace.h"

#include <gtest/gtest.h>

namespace mt {
namespace {

TEST(ArrivalPace, IsMeasuredFromTheFirstBytesSoThatALateBeginningDoesNotSlowIt) {
    ArrivalPace pace;
    for (int i = 0; i <= 50; ++i) pace.arrived(0.5 + i * 0.01, 3000);
    ASSERT_TRUE(pace.tells());
    EXPECT_NEAR(pace.rate(), 300'000, 1);
    EXPECT_NEAR(pace.doubt(), 0.02, 1e-6);
}

TEST(ArrivalPace, DoesNotCountWhatTheDeviceHadKeptBefore) {
    ArrivalPace pace;
    pace.arrived(0.01, 5'000'000);
    for (int i = 1; i <= 20; ++i) pace.arrived(0.01 + i * 0.05, 500);
    EXPECT_NEAR(pace.rate(), 10'000, 1);
}

TEST(ArrivalPace, TellsNothingOfOneLumpOrOfAMoment) {
    ArrivalPace pace;
    EXPECT_FALSE(pace.tells());
    pace.arrived(0.2, 100);
    EXPECT_FALSE(pace.tells());
    pace.arrived(0.25, 100);
    pace.arrived(0.9, 0);
    EXPECT_FALSE(pace.tells());
}

TEST(ArrivalPace, IsTheMoreUncertainTheLargerTheLumps) {
    ArrivalPace pace;
    for (int i = 0; i <= 4; ++i) pace.arrived(i * 0.25, 75'000);
    EXPECT_NEAR(pace.doubt(), 0.25, 1e-6);
}

}  // namespace
}  // namespace mt
