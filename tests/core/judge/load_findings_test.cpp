// A core that does not rest for long, and a task that never gets to run: small traces, told event by event.
#include <gtest/gtest.h>

#include <algorithm>
#include <string>
#include <vector>

#include "judge/finding.h"
#include "support.h"
#include "task_program.h"

namespace mt {
namespace {

constexpr std::uint32_t kIdle = 0, kGrind = 1, kPolish = 2;

// Two tasks with jobs of a millisecond each; times are in microseconds.
class Workshop {
  public:
    explicit Workshop(const std::string& folder) : script_(folder) {
        const char* const names[] = {"idle", "grind", "polish", "park"};
        for (std::uint32_t i = 0; i < 4; ++i) script_.task(i, names[i], static_cast<int>(i));
        script_.put(OsKind::task_switch_in, kIdle);
    }
    void job(std::uint32_t task, std::int64_t length) {
        script_.put(OsKind::task_ready, task);
        script_.put(OsKind::task_switch_in, task);
        script_.now += length;
        script_.block(task, BlockReason::activation);
    }
    void rest(std::int64_t length) {
        script_.put(OsKind::task_switch_in, kIdle);
        script_.now += length;
    }
    std::int64_t now() const { return script_.now; }
    void end() { script_.finish(); }

  private:
    test::EventScript script_;
};

std::vector<Finding> found(const std::string& folder) {
    const auto o = test::decode(folder);
    return find_all(*o.recording, *o.trail);
}

const Finding* of_kind(const std::vector<Finding>& all, FindingKind kind) {
    const auto f = std::find_if(all.begin(), all.end(), [kind](const Finding& x) { return x.kind == kind; });
    return f == all.end() ? nullptr : &*f;
}

TEST(ACoreThatDoesNotRest, IsToldWithWhoTookIt) {
    const test::Folder folder;
    Workshop shop(folder.path());
    std::int64_t from = 0, to = 0;
    for (int turn = 0; turn < 120; ++turn) {
        shop.job(kGrind, 1'000);
        if (turn % 10 == 0) shop.job(kPolish, 1'000);
        if (turn == 80) {
            from = shop.now();
            for (int k = 0; k < 100; ++k) {
                shop.job(kPolish, 1'000);
                shop.job(kGrind, 1'000 + k % 3);
                shop.job(kGrind, 1'000 + k % 5);
            }
            to = shop.now();
        }
        shop.rest(9'000 + turn % 7);
    }
    shop.end();
    const auto all = found(folder.path());
    const Finding* f = of_kind(all, FindingKind::overload);
    ASSERT_NE(f, nullptr);
    EXPECT_LE(f->begin.us(), static_cast<double>(from));
    EXPECT_GE(f->end.us(), static_cast<double>(to));
    ASSERT_EQ(f->involved.size(), 2U);
    EXPECT_EQ(f->involved[0].name + " " + f->involved[1].name, "grind polish") << "who took most first";
    EXPECT_EQ(f->involved[0].role, Role::runner);
    EXPECT_NE(f->cause.find("grind 66."), std::string::npos) << f->cause;
}

TEST(ATaskThatNeverRan, IsToldWithWhatHeldItUp) {
    const test::Folder folder;
    Workshop shop(folder.path());
    for (int turn = 0; turn < 60; ++turn) {
        shop.job(kGrind, 1'000);
        if (turn % 10 == 0) shop.job(kPolish, 1'000);
        shop.rest(9'000);
    }
    shop.end();
    const auto all = found(folder.path());
    const Finding* f = of_kind(all, FindingKind::never_ran);
    ASSERT_NE(f, nullptr);
    EXPECT_EQ(f->title, "park never ran");
    EXPECT_NE(f->cause.find("nothing ever made it ready"), std::string::npos) << f->cause;
    EXPECT_EQ(of_kind(all, FindingKind::overload), nullptr) << "there is rest enough";
}

}  // namespace
}  // namespace mt
