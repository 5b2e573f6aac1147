// A scale of even steps: ascending both ways, and each step as wide as the next.
#include <gtest/gtest.h>

#include "model/even_scale.h"
#include "replay/step_window.h"
#include "support.h"

namespace mt {
namespace {

void expect_inverse(const EvenScale& scale, Time end) {
    double before = -1;
    for (int i = 0; i <= 2000; ++i) {
        const Time t{end.ps / 2000 * i};
        const double place = scale.place(t);
        EXPECT_GE(place, before);
        before = place;
        const double again = scale.place(scale.time(place));
        EXPECT_NEAR(again, place, 1e-3 * std::max(1.0, place)) << "at " << t.ps;
    }
}

TEST(EvenScale, OfInstructionsGivesEachInstructionTheSameWidthAndASleepNone) {
    const auto opened = test::decode(test::demo("larkspur.target.toml"));
    std::size_t core = 0;
    const StepTrail& t = opened.trail->steps.at(0);
    core = t.core_index;
    const EvenScale scale(opened.trail, core);
    EXPECT_EQ(scale.steps(), EvenScale::Steps::instructions);
    expect_inverse(scale, opened.trail->end);
    // At each instruction looked at, so many were executed before.
    std::uint64_t looked_at = 0;
    each_step_piece(*opened.recording, t, t.steps / 2, [&](const StepPiece& p) {
        EXPECT_NEAR(scale.place(p.begin), static_cast<double>(p.step), 200) << "at " << p.begin.ps;
        return ++looked_at < 5000;
    });
    EXPECT_EQ(looked_at, 5000u);
}

// A mount without instruction trace, as long as is asked for.
test::Opened mount(double seconds) {
    board::MountOptions options;
    options.seconds = seconds;
    const test::Folder folder;
    return test::decode_bytes(folder, test::mount_bytes(options));
}

TEST(EvenScale, OfHandlersCountsTheChangesBetweenThem) {
    const auto opened = mount(0.2);
    const EvenScale scale(opened.trail, 0);
    EXPECT_EQ(scale.steps(), EvenScale::Steps::changes);
    expect_inverse(scale, opened.trail->end);
    const auto& changes = opened.trail->cores[0].change_time;
    ASSERT_GT(changes.size(), 100u);
    for (std::size_t i = 1; i + 1 < changes.size(); ++i) {
        if (changes[i] == changes[i - 1] || changes[i] == changes[i + 1]) continue;
        EXPECT_NEAR(scale.place(changes[i]), static_cast<double>(i + 1), 1e-6);
    }
}

TEST(EvenScale, BeyondTheEndsItStaysThere) {
    const auto opened = mount(0.1);
    const EvenScale scale(opened.trail, 0);
    EXPECT_EQ(scale.time(-5), Time{});
    EXPECT_EQ(scale.time(1e12), opened.trail->end);
    EXPECT_EQ(scale.place(Time{-5}), 0);
}

}  // namespace
}  // namespace mt
