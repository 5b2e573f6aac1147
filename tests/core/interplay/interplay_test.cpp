// Who acts on whom: what was sent, taken, woken and written, and how long it was waited for.
#include <gtest/gtest.h>

#include <algorithm>
#include <numeric>

#include "interplay/interplay.h"
#include "support.h"
#include "task_program.h"

namespace mt {
namespace {

constexpr std::uint32_t kIdle = 0, kCamera = 1, kGuide = 2, kFrames = 4, kBus = 5, kDone = 6, kTimer = 9;

// Each millisecond the timer's interrupt wakes the camera, which sends a frame and gives a semaphore; the guide takes
// the frame, the semaphore and the bus. In round 3 the queue is full, in round 5 the guide waits 700 µs for the frame,
// in round 7 it waits for the bus that the camera holds.
test::Opened recorded() {
    test::Folder folder;
    test::EventScript script(folder / "t");
    std::int64_t& now = script.now;
    script.task(kIdle, "idle", 0);
    script.task(kCamera, "camera", 5);
    script.task(kGuide, "guide", 3);
    script.name(ObjectKind::queue, kFrames, "frames");
    script.name(ObjectKind::mutex, kBus, "bus");
    script.name(ObjectKind::semaphore, kDone, "done");
    script.name(ObjectKind::interrupt, kTimer, "timer");
    script.name(ObjectKind::signal, 1, "exposure");
    script.put(OsKind::task_switch_in, kCamera);
    script.block(kCamera, BlockReason::activation);
    script.put(OsKind::task_switch_in, kGuide);
    script.block(kGuide, BlockReason::queue_empty, kFrames);
    script.put(OsKind::task_switch_in, kIdle);
    const auto wake_camera = [&] {
        script.put(OsKind::isr_enter, kTimer);
        now += 5;
        script.put(OsKind::task_ready, kCamera);
        script.put(OsKind::isr_exit, kTimer);
        script.put(OsKind::task_switch_in, kCamera);
    };
    for (int round = 0; round < 10; ++round) {
        now = 1000 * (round + 1);
        wake_camera();
        script.put(OsKind::signal, 1, round);
        now += round == 5 ? 700 : 20;
        script.put(round == 3 ? OsKind::queue_send_failed : OsKind::queue_send, kFrames, 1);
        if (round != 3) script.put(OsKind::task_ready, kGuide);
        script.put(OsKind::sem_give, kDone);
        if (round == 7) script.put(OsKind::mutex_take, kBus);
        now += 10;
        if (round == 7) script.block(kCamera, BlockReason::delay);
        if (round != 7) script.block(kCamera, BlockReason::activation);
        if (round != 3) {
            script.put(OsKind::task_switch_in, kGuide);
            script.put(OsKind::queue_receive, kFrames, 0);
            script.put(OsKind::sem_take, kDone);
            if (round == 7) {
                script.put(OsKind::mutex_take_blocked, kBus);
                script.block(kGuide, BlockReason::mutex, kBus);
                script.put(OsKind::task_switch_in, kIdle);
                now += 90;
                wake_camera();
                script.put(OsKind::mutex_give, kBus);
                script.put(OsKind::task_ready, kGuide);
                script.block(kCamera, BlockReason::activation);
                script.put(OsKind::task_switch_in, kGuide);
            }
            script.put(OsKind::mutex_take, kBus);
            now += 30;
            script.put(OsKind::mutex_give, kBus);
            script.block(kGuide, BlockReason::queue_empty, kFrames);
        }
        script.put(OsKind::task_switch_in, kIdle);
    }
    script.finish();
    return test::decode(folder / "t");
}

class InterplayOfTwoTasks : public testing::Test {
  protected:
    const test::Opened opened_ = recorded();
    const Trail& trail_ = *opened_.trail;
    const Interplay all_ = interplay(trail_, Time{}, trail_.end, Progress());

    std::optional<std::size_t> edge(const std::string& from, Deed deed, const std::string& to) const {
        for (std::size_t i = 0; i < all_.edges.size(); ++i)
            if (all_.nodes[all_.edges[i].from].name == from && all_.edges[i].deed == deed &&
                all_.nodes[all_.edges[i].to].name == to)
                return i;
        return std::nullopt;
    }
    std::uint64_t count(const std::string& from, Deed deed, const std::string& to) const {
        const auto e = edge(from, deed, to);
        return e ? all_.edges[*e].count : 0;
    }
    std::vector<InterplayCall> calls(std::size_t edge) const {
        return interplay_calls(trail_, all_, {edge}, 1000, Progress());
    }
};

TEST_F(InterplayOfTwoTasks, CountsWhatWentThroughEachObject) {
    EXPECT_EQ(count("camera", Deed::sends, "frames"), 9u);
    EXPECT_EQ(count("frames", Deed::received, "guide"), 9u);
    EXPECT_EQ(count("camera", Deed::gives, "done"), 10u);
    EXPECT_EQ(count("done", Deed::taken, "guide"), 9u);
    EXPECT_EQ(count("guide", Deed::locks, "bus"), 9u);
    EXPECT_EQ(count("camera", Deed::locks, "bus"), 1u);
    EXPECT_EQ(count("camera", Deed::writes, "exposure"), 10u);
}

TEST_F(InterplayOfTwoTasks, AnInterruptWakesWhomNoObjectTellsOf) {
    EXPECT_EQ(count("timer", Deed::wakes, "camera"), 11u);  // ten activations and the end of a delay
    // The guide waits for the queue or the lock: that is told by their edges.
    EXPECT_FALSE(edge("camera", Deed::wakes, "guide"));
}

TEST_F(InterplayOfTwoTasks, SaysWhereItWasWaitedLongest) {
    const InterplayEdge& frames = all_.edges[*edge("frames", Deed::received, "guide")];
    const auto list = calls(*edge("frames", Deed::received, "guide"));
    const auto longest =
        std::max_element(list.begin(), list.end(), [](const auto& a, const auto& b) { return a.waited < b.waited; });
    EXPECT_EQ(frames.waits, 9u);
    EXPECT_EQ(frames.worst_wait, longest->waited);
    EXPECT_EQ(frames.worst_to - frames.worst_from, frames.worst_wait);
    EXPECT_NEAR(frames.worst_wait.us(), 1960, 1);  // from the end of round 2 over the frame that was lost to round 4
    const InterplayEdge& bus = all_.edges[*edge("guide", Deed::locks, "bus")];
    EXPECT_EQ(bus.waits, 1u);
    EXPECT_NEAR(bus.worst_wait.us(), 95, 1);
}

TEST_F(InterplayOfTwoTasks, ARefusedEntryIsNoSentOne) {
    const auto e = edge("camera", Deed::sends, "frames");
    ASSERT_TRUE(e);
    EXPECT_EQ(all_.edges[*e].failed, 1u);
    const auto list = calls(*e);
    ASSERT_EQ(list.size(), 10u);
    EXPECT_EQ(list[3].outcome, InterplayCall::refused);
    EXPECT_EQ(call_result(trail_, all_, list[3]), "send failed (full)");
    EXPECT_EQ(call_result(trail_, all_, list[4]), "1 entry then");
}

TEST_F(InterplayOfTwoTasks, TheHistoryOfAnObjectIsEveryCallOnItInOrder) {
    std::vector<std::size_t> of_bus;
    for (std::size_t i = 0; i < all_.edges.size(); ++i)
        if (all_.object(all_.edges[i]).name == "bus") of_bus.push_back(i);
    const auto history = interplay_calls(trail_, all_, of_bus, 1000, Progress());
    ASSERT_EQ(history.size(), 10u);
    EXPECT_TRUE(
        std::is_sorted(history.begin(), history.end(), [](const auto& a, const auto& b) { return a.time < b.time; }));
    const auto after_wait = std::find_if(history.begin(), history.end(), [](const auto& c) { return c.waited.ps > 0; });
    ASSERT_NE(after_wait, history.end());
    EXPECT_EQ(all_.actor(all_.edges[after_wait->edge]).name, "guide");
    EXPECT_EQ(call_result(trail_, all_, *after_wait), "held 30.0 µs");
}

TEST_F(InterplayOfTwoTasks, OfAStretchCountsOnlyWhatLiesInIt) {
    const Interplay part = interplay(trail_, Time::from_us(3900), Time::from_us(5950), Progress());
    std::uint64_t sent = 0, failed = 0;
    for (const InterplayEdge& e : part.edges)
        if (e.deed == Deed::sends) {
            sent += e.count;
            failed += e.failed;
        }
    EXPECT_EQ(sent, 1u);    // at 5.025 ms
    EXPECT_EQ(failed, 1u);  // at 4.025 ms
    EXPECT_NEAR(part.rate(part.edges[0]), static_cast<double>(part.edges[0].count) / 0.00205, 1);
}

TEST_F(InterplayOfTwoTasks, NamesWhoStandsAtEachEnd) {
    for (const InterplayEdge& e : all_.edges) {
        EXPECT_TRUE(all_.actor(e).acts()) << all_.actor(e).name;
        EXPECT_EQ(all_.object(e).acts(), e.deed == Deed::wakes) << all_.object(e).name;
    }
}

TEST(Interplay, OfARealSystemAgreesWithWhatItsQueuesAndLocksCount) {
    const auto o = test::decode(MT_DATA "/tasks/mount-a/trace");
    const Interplay all = interplay(*o.trail, Time{}, o.trail->end, Progress());
    std::map<std::string, std::uint64_t> sent, received, held, failed;
    for (const InterplayEdge& e : all.edges) {
        if (e.deed == Deed::sends) sent[all.object(e).name] += e.count;
        if (e.deed == Deed::sends) failed[all.object(e).name] += e.failed;
        if (e.deed == Deed::received) received[all.object(e).name] += e.count;
        if (e.deed == Deed::locks) held[all.object(e).name] += e.count;
    }
    ASSERT_FALSE(o.trail->tasks.queues.empty());
    ASSERT_FALSE(o.trail->tasks.locks.empty());
    for (const QueueLane& q : o.trail->tasks.queues) {
        EXPECT_EQ(sent[q.name], q.sent) << q.name;
        EXPECT_EQ(received[q.name], q.received) << q.name;
        EXPECT_EQ(failed[q.name], q.failed) << q.name;
    }
    for (const LockLane& l : o.trail->tasks.locks) EXPECT_EQ(held[l.name], l.holds.size()) << l.name;
    // Behind each edge stand as many calls as it says.
    for (std::size_t i = 0; i < all.edges.size(); ++i) {
        std::uint64_t done = 0, refused = 0;
        for (const InterplayCall& call : interplay_calls(*o.trail, all, {i}, 1'000'000, Progress())) {
            done += call.outcome == InterplayCall::done ? 1 : 0;
            refused += call.outcome == InterplayCall::refused ? 1 : 0;
        }
        EXPECT_EQ(done, all.edges[i].count) << all.actor(all.edges[i]).name;
        EXPECT_EQ(refused, all.edges[i].failed);
    }
}

TEST(Interplay, WithoutAnOperatingSystemTheHandlerThatRanWroteTheValue) {
    const auto o = test::decode(MT_DEMO "/larkspur.target.toml");
    const Interplay all = interplay(*o.trail, Time{}, o.trail->end, Progress());
    for (const InterplayEdge& e : all.edges) {
        if (e.deed != Deed::writes || all.actor(e).sort != InterplayNode::interrupt) continue;
        const auto at = static_cast<std::size_t>(all.object(e).number);
        for (const InterplayCall& call :
             interplay_calls(*o.trail, all, {static_cast<std::size_t>(&e - all.edges.data())}, 20, Progress())) {
            const Time t = o.trail->tasks.values[at].samples.time(call.at);
            const CoreTrail& core = o.trail->cores[all.actor(e).core];
            EXPECT_TRUE(core.running_name(core.running_at(t)) == all.actor(e).name ||
                        core.running_name(core.running_at(t - Time{1})) == all.actor(e).name)
                << all.actor(e).name;
        }
    }
}

TEST(Interplay, GivesUpWhenItIsCancelled) {
    const auto o = test::decode(MT_DATA "/tasks/mount-a/trace");
    Progress progress;
    progress.cancel();
    EXPECT_TRUE(interplay(*o.trail, Time{}, o.trail->end, progress).edges.empty());
}

}  // namespace
}  // namespace mt
