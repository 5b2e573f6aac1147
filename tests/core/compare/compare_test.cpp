// Pairs of recordings with known changes, made independently of this program, and one in which nothing changed.
#include <gtest/gtest.h>

#include <cmath>
#include <random>
#include <string>

#include "compare/compare.h"
#include "compare/fixed.h"
#include "support.h"

namespace mt {
namespace {

Comparison compared(const std::string& pair) {
    const auto before = test::decode(test::data("pairs/" + pair + "-before.tar.xz"));
    const auto after = test::decode(test::data("pairs/" + pair + "-after.tar.xz"));
    return compare(*before.trail, *after.trail);
}
const Change* found(const Comparison& c, const std::string& activity, const std::string& quantity) {
    for (const Change& x : c.changes)
        if (x.activity == activity && x.quantity == quantity) return &x;
    return nullptr;
}
bool because(const Comparison& c, const Change& of, const std::string& cause, int depth = 0) {
    for (const std::string& b : of.because) {
        if (b == cause) return true;
        for (const Change& x : c.changes)
            if (x.name() == b && depth < 5 && because(c, x, cause, depth + 1)) return true;
    }
    return false;
}

TEST(ComparedRecordings, OfOneSystemDifferInNothing) {
    const Comparison c = compared("c");
    for (const Change& x : c.changes) ADD_FAILURE() << x.name() << " " << statistic_name(x.statistic) << " " << x.strength;
    EXPECT_TRUE(c.appeared.empty());
    EXPECT_TRUE(c.vanished.empty());
    EXPECT_GT(c.unchanged.size(), 40U);
    EXPECT_FALSE(c.too_short);
}

TEST(ComparedRecordings, WorkThatGrewAndALockHeldLongerAreTheCausesOfWhatElseChanged) {
    const Comparison c = compared("a");
    const Change* running = found(c, "guide", "running");
    ASSERT_NE(running, nullptr);
    EXPECT_EQ(running->role, Change::Role::cause);
    EXPECT_EQ(running->direction, Change::Direction::worse);
    EXPECT_NEAR(running->relative(), 0.1, 0.03);
    const Change* hold = found(c, "dome map", "hold");
    ASSERT_NE(hold, nullptr);
    EXPECT_EQ(hold->role, Change::Role::cause);
    EXPECT_EQ(found(c, "dome", "running"), nullptr);  // its own work stayed
    for (const auto& [activity, quantity, cause] :
         {std::tuple("dome map", "wait", "dome map hold"), {"site record", "hold", "dome map hold"},
          {"guide", "response", "guide running"}, {"pointing_model", "response", "dome map hold"}}) {
        const Change* x = found(c, activity, quantity);
        ASSERT_NE(x, nullptr) << activity;
        EXPECT_EQ(x->role, Change::Role::effect) << activity;
        EXPECT_EQ(x->direction, Change::Direction::worse) << activity;
        EXPECT_TRUE(because(c, *x, cause)) << activity << " " << quantity;
    }
    for (const char* alike : {"axis_ra", "axis_dec", "journal", "weather", "encoder"})
        for (const char* quantity : {"running", "response", "period", "duration"})
            EXPECT_EQ(found(c, alike, quantity), nullptr) << alike << " " << quantity;
}

TEST(ComparedRecordings, ATailThatGrewANewInterruptAndAMendedOverlapAreTold) {
    const Comparison c = compared("b");
    const Change* tail = found(c, "axis_dec", "running");
    ASSERT_NE(tail, nullptr);
    EXPECT_EQ(tail->statistic, Statistic::p99);
    EXPECT_EQ(tail->role, Change::Role::cause);
    ASSERT_TRUE(std::any_of(c.appeared.begin(), c.appeared.end(), [](const OneSided& o) { return o.activity == "limit switch" && o.count == 589; }));
    const Change* overlap = found(c, "star table", "overlap");
    ASSERT_NE(overlap, nullptr);
    EXPECT_EQ(overlap->direction, Change::Direction::better);
    EXPECT_EQ(overlap->role, Change::Role::cause);
    const Change* response = found(c, "axis_dec", "response");
    ASSERT_NE(response, nullptr);
    EXPECT_TRUE(because(c, *response, "axis_dec running"));
    EXPECT_EQ(found(c, "guide", "running"), nullptr);
    // Causes stand before their effects.
    const auto place = [&](const Change* x) { return x - c.changes.data(); };
    EXPECT_LT(place(tail), place(response));
}

TEST(ComparedRecordings, TheOtherWayRoundTheSameIsBetter) {
    const auto before = test::decode(test::data("pairs/a-before.tar.xz")), after = test::decode(test::data("pairs/a-after.tar.xz"));
    const Comparison c = compare(*after.trail, *before.trail);
    const Change* hold = found(c, "dome map", "hold");
    ASSERT_NE(hold, nullptr);
    EXPECT_EQ(hold->direction, Change::Direction::better);
    EXPECT_EQ(c.worse(), 0U);
}

// What only one of two recordings tells of has not vanished.
TEST(ComparedRecordings, OfWhichOneTellsMoreAreComparedInWhatBothTell) {
    const auto night = test::decode(test::demo("larkspur.target.toml")), repaired = test::decode(test::demo("larkspur-repaired.target.toml"));
    const Comparison c = compare(*night.trail, *repaired.trail);
    EXPECT_TRUE(c.vanished.empty());
    EXPECT_EQ(c.not_told.count("functions of cop"), 1U);
    EXPECT_EQ(c.worse(), 0U);
}

TEST(ComparedRecordings, AFindingThatIsMendedIsToldWithHowOftenItWasPutToTheTest) {
    const auto night = test::decode(test::demo("larkspur.target.toml")), repaired = test::decode(test::demo("larkspur-repaired.target.toml"));
    const auto all = what_is_mended(*night.trail, find_all(*night.recording, *night.trail), *repaired.trail,
                                    find_all(*repaired.recording, *repaired.trail));
    const auto of = [&](FindingKind kind) {
        const auto at = std::find_if(all.begin(), all.end(), [&](const Mended& m) { return m.kind == kind; });
        return at == all.end() ? nullptr : &*at;
    };
    const Mended* inversion = of(FindingKind::priority_inversion);
    ASSERT_NE(inversion, nullptr);
    EXPECT_EQ(inversion->situation, "clock asks for bus_lock while another has it");
    EXPECT_EQ(inversion->found_after, 0U);
    EXPECT_EQ(inversion->now, inversion->after == 0 ? Mended::Now::untested : Mended::Now::gone) << mended_text(*inversion);
    // Once in ten frames, and not in ten more: that is no proof.
    if (const Mended* frame = of(FindingKind::duration_outlier); frame != nullptr && frame->found_after == 0) {
        EXPECT_EQ(frame->now, Mended::Now::not_enough) << mended_text(*frame);
        EXPECT_GE(frame->needed, 25U);
    }
    // The same recording again: everything is still there.
    for (const Mended& m : what_is_mended(*night.trail, find_all(*night.recording, *night.trail), *night.trail,
                                          find_all(*night.recording, *night.trail)))
        EXPECT_EQ(m.now, Mended::Now::still) << mended_text(m);
}

// Jobs that depend on each other, as heavy spells do: taken as independent they would differ nearly every time.
QuantityPair spells(std::uint64_t seed, double factor) {
    QuantityPair pair;
    std::mt19937_64 random(seed);
    std::exponential_distribution<double> spell(1 / 0.4);
    std::normal_distribution<double> noise(0, 0.05);
    for (Measurements* side : {&pair.before, &pair.after}) {
        double until = 0, level = 1;
        for (int i = 0; i < 2400; ++i) {
            const double t = i * 0.01;
            if (t >= until) {
                until = t + spell(random);
                level = 1 + 0.2 * static_cast<double>(random() % 3);
            }
            side->add(Time{static_cast<std::int64_t>(t * 1e12)}, 1e9 * level * (1 + noise(random)) * (side == &pair.after ? factor : 1));
        }
    }
    return pair;
}

TEST(Chance, OfAnyFalseAlarmIsWhatIsStated) {
    std::size_t alarms = 0;
    for (std::uint64_t seed = 0; seed < 40; ++seed) {
        std::vector<QuantityPair> all;
        for (std::uint64_t q = 0; q < 10; ++q) all.push_back(spells(seed * 100 + q, 1));
        ChanceSettings settings;
        settings.permutations = 1000;
        settings.level = 0.05;
        const Extent extent{Time{}, Time{24'000'000'000'000}, {}};
        const ChanceResult result = compare_quantities(all, extent, extent, settings);
        alarms += std::any_of(result.all.begin(), result.all.end(), [](const Compared& c) { return c.beyond; });
    }
    EXPECT_LE(alarms, 6U);  // 2 of 40 are expected
}

TEST(Chance, AChangeIsSeenThroughTheSpells) {
    std::size_t seen = 0;
    for (std::uint64_t seed = 0; seed < 10; ++seed) {
        const Extent extent{Time{}, Time{24'000'000'000'000}, {}};
        ChanceSettings settings;
        settings.permutations = 1000;
        const ChanceResult result = compare_quantities({spells(seed, 1.3)}, extent, extent, settings);
        seen += std::any_of(result.all.begin(), result.all.end(), [](const Compared& c) { return c.beyond; });
    }
    EXPECT_GE(seen, 9U);
}

TEST(Chance, WhatIsTooShortIsNotCompared) {
    const Extent extent{Time{}, Time{}, {}};
    EXPECT_TRUE(compare_quantities({spells(1, 2)}, extent, extent).too_short);
}

}  // namespace
}  // namespace mt
