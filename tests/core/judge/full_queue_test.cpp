// A queue that is full for once, and one whose senders are meant to wait for their reader.
#include <gtest/gtest.h>

#include "judge/finding.h"
#include "support.h"
#include "task_program.h"

namespace mt {
namespace {

// A sampler sends each millisecond, a writer takes; between `from` and `to` (rounds) the writer takes nothing, and the
// sampler waits once eight entries stand there. `always`: the queue holds one entry only, so that it waits in each
// round.
std::vector<Finding> findings(int rounds, int from, int to, bool always) {
    constexpr std::uint32_t kIdle = 0, kSampler = 1, kWriter = 2, kQueue = 4;
    test::Folder folder;
    test::EventScript script(folder / "t");
    std::int64_t& now = script.now;
    const auto put = [&](OsKind kind, std::uint32_t subject, std::int64_t value = 0) {
        script.put(kind, subject, value);
    };
    const auto block = [&](std::uint32_t task, BlockReason reason, std::uint32_t object) {
        script.block(task, reason, object);
    };
    script.task(kIdle, "idle", 0);
    script.task(kSampler, "sampler", 5);
    script.task(kWriter, "writer", 3);
    script.name(ObjectKind::queue, kQueue, "samples");
    block(kSampler, BlockReason::activation, 0);
    block(kWriter, BlockReason::activation, 0);
    put(OsKind::task_switch_in, kIdle);
    const int room = always ? 1 : 8;
    int fill = 0;
    bool blocked = false;
    for (int i = 0; i < rounds; ++i) {
        now = 1000 * (i + 1);
        const auto send = [&] {
            now += 50;
            put(OsKind::queue_send, kQueue, ++fill);
            now += 10;
            block(kSampler, BlockReason::activation, 0);
            put(OsKind::task_switch_in, kIdle);
        };
        if (!blocked) {
            put(OsKind::task_ready, kSampler);
            put(OsKind::task_switch_in, kSampler);
            if (fill >= room) {
                now += 20;
                block(kSampler, BlockReason::queue_full, kQueue);
                put(OsKind::task_switch_in, kIdle);
                blocked = true;
            } else {
                send();
            }
        }
        if (i >= from && i < to) continue;
        now += 100;
        put(OsKind::task_ready, kWriter);
        put(OsKind::task_switch_in, kWriter);
        // In a pipeline the writer leaves the last entry until the next round.
        const int left = always && i % 2 == 0 ? 1 : 0;
        while (fill > left) {
            now += 15;
            put(OsKind::queue_receive, kQueue, --fill);
        }
        if (blocked && fill < room) {
            put(OsKind::task_ready, kSampler);
            blocked = false;
            put(OsKind::task_switch_in, kSampler);
            send();
            put(OsKind::task_switch_in, kWriter);
        }
        now += 20;
        block(kWriter, BlockReason::activation, 0);
        put(OsKind::task_switch_in, kIdle);
    }
    script.finish();
    const auto o = test::decode(folder / "t");
    return find_all(*o.recording, *o.trail);
}

const Finding* of_queue(const std::vector<Finding>& all) {
    for (const Finding& f : all)
        if (f.kind == FindingKind::queue_overflow) return &f;
    return nullptr;
}

TEST(AFullQueue, ThatLetItsSenderWaitOnceIsFoundWithTheLengthOfTheWait) {
    const auto all = findings(2000, 1000, 1020, false);
    const Finding* f = of_queue(all);
    ASSERT_NE(f, nullptr);
    EXPECT_EQ(f->title, "samples was full: sampler waited 12.2 ms");
    EXPECT_NE(f->cause.find("It held 8 entries"), std::string::npos) << f->cause;
    EXPECT_NE(f->cause.find("Nothing was lost"), std::string::npos) << f->cause;
    EXPECT_NEAR(f->begin.us(), 1'009'020, 1);
}

TEST(AFullQueue, ThatSlowsItsSenderDownAgainAndAgainIsMeantTo) {
    EXPECT_EQ(of_queue(findings(2000, 5000, 5000, true)), nullptr);
}

TEST(AFullQueue, ThatNeverFillsIsNotMentioned) { EXPECT_EQ(of_queue(findings(2000, 5000, 5000, false)), nullptr); }

}  // namespace
}  // namespace mt
