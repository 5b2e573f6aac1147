// The recorder that users compile into their firmware, compiled for this machine: what it writes is read back.
#include <gtest/gtest.h>

#include <random>

#include "measure/tasks.h"
#include "mt_recorder.h"
#include "support.h"

namespace mt {
namespace {

std::uint32_t ticks = 0;
std::vector<std::uint8_t> written;
bool full = false;

std::uint32_t now() { return ticks; }
int take(const void* packet, std::size_t bytes) {
    if (full) return 0;
    const auto* b = static_cast<const std::uint8_t*>(packet);
    written.insert(written.end(), b, b + bytes);
    return 1;
}

class Recorder : public testing::Test {
  protected:
    void SetUp() override {
        ticks = 1000;
        written.clear();
        full = false;
        mt_init(now, take);
    }
    test::Opened read() {
        mt_flush();
        std::filesystem::create_directories(folder_ / "trace");
        test::write_file(folder_ / "trace/core0", written);
        test::write_file(folder_ / "trace/metadata", test::read_text(std::string(MT_RECORDER) + "/metadata"));
        return test::decode(folder_ / "trace");
    }
    test::Folder folder_;
};

TEST_F(Recorder, WritesJobsThatAreReadBack) {
    MT_TASK_CREATE(0, 0, "idle");
    MT_TASK_CREATE(1, 5, "sampler");
    MT_NAME(MT_KIND_MUTEX, 7, "bus");
    MT_TASK_BLOCK(1, MT_ACTIVATION, 0);
    MT_TASK_SWITCH_IN(0);
    for (int job = 0; job < 300; ++job) {
        ticks += 50'000;
        MT_ISR_ENTER(15);
        ticks += 300;
        MT_TASK_READY(1);
        MT_ISR_EXIT(15);
        MT_TASK_SWITCH_IN(1);
        ticks += 1000;
        MT_MUTEX_TAKE(7);
        ticks += 2000;
        MT_MUTEX_GIVE(7);
        MT_VALUE(3, -job);
        MT_TASK_BLOCK(1, MT_ACTIVATION, 0);
        ticks += 100;
        MT_TASK_SWITCH_IN(0);
    }
    const auto o = read();
    EXPECT_TRUE(o.trail->doubts.empty()) << o.trail->doubts[0].text;
    const TaskRow row = task_row(*o.trail, 1);
    EXPECT_EQ(row.name, "sampler");
    EXPECT_EQ(row.priority, 5);
    EXPECT_EQ(row.run.count, 300U);
    EXPECT_EQ(row.run.least, Time::from_us(30)) << "3000 ticks of 10 ns";
    EXPECT_EQ(row.run.greatest, Time::from_us(30));
    EXPECT_EQ(row.period.mean, Time::from_us(534));
    const auto locks = lock_rows(*o.trail);
    ASSERT_EQ(locks.size(), 1U);
    EXPECT_EQ(locks[0].name, "bus");
    EXPECT_EQ(locks[0].hold.count, 300U);
    EXPECT_EQ(locks[0].hold.mean, Time::from_us(20));
    EXPECT_EQ(o.trail->cores[0].lanes[0].size(), 300U);
    ASSERT_EQ(o.trail->tasks.values.size(), 1U);
    const ValueLane& value = o.trail->tasks.values[0];
    EXPECT_EQ(value.value_of(value.least).text(), "-299");
}

TEST_F(Recorder, KeepsTimeOverLongPausesAndWraps) {
    MT_TASK_CREATE(1, 1, "slow");
    for (int i = 0; i < 20; ++i) {
        MT_MARK(0, i);
        ticks += 0x7000'0000u;  // far beyond 27 bits, and the counter wraps now and then
    }
    const auto o = read();
    ASSERT_EQ(o.trail->tasks.marks.size(), 1U);
    const auto& marks = o.trail->tasks.marks[0].marks;
    ASSERT_EQ(marks.size(), 20U);
    for (std::size_t i = 1; i < marks.size(); ++i)
        EXPECT_EQ(marks[i].time - marks[i - 1].time, (Clock{100'000'000}.at(0x7000'0000)));
}

TEST_F(Recorder, CountsWhatItCouldNotHandOver) {
    MT_TASK_CREATE(1, 1, "a");
    const auto some = [](int n) {
        for (int i = 0; i < n; ++i) {
            ticks += 10;
            MT_MARK(0, i);
        }
    };
    some(500);
    mt_flush();
    full = true;
    some(400);
    mt_flush();
    full = false;
    EXPECT_EQ(mt_lost(0), 400U);
    some(500);
    const auto o = read();
    EXPECT_EQ(o.trail->tasks.streams[0].discarded, 400U);
    EXPECT_EQ(o.trail->gaps.size(), 1U);
    EXPECT_EQ(o.trail->tasks.marks[0].marks.size(), 1000U);
}

TEST_F(Recorder, WhoBeginsToListenLateGetsToKnowNamesAndPriorities) {
    MT_TASK_CREATE(0, 0, "idle");
    MT_TASK_CREATE(1, 5, "sampler");
    MT_NAME(MT_KIND_MUTEX, 7, "bus");
    MT_TASK_PRIORITY(1, 6);
    const auto jobs = [](int n) {
        for (int job = 0; job < n; ++job) {
            ticks += 50'000;
            MT_TASK_READY(1);
            MT_TASK_SWITCH_IN(1);
            ticks += 1000;
            MT_MUTEX_TAKE(7);
            MT_MUTEX_GIVE(7);
            MT_TASK_BLOCK(1, MT_ACTIVATION, 0);
            MT_TASK_SWITCH_IN(0);
        }
    };
    jobs(50);
    mt_flush();
    written.clear();  // nobody listened until now
    jobs(5 * MT_NAMES_EVERY * MT_PACKET_BYTES / 40);
    const auto o = read();
    const TaskRow row = task_row(*o.trail, o.trail->tasks.tasks[0].name == "sampler" ? 0 : 1);
    EXPECT_EQ(row.name, "sampler");
    EXPECT_EQ(row.priority, 6) << "what it was set to last";
    EXPECT_EQ(lock_rows(*o.trail)[0].name, "bus");
    for (const TaskLane& lane : o.trail->tasks.tasks) {
        EXPECT_FALSE(lane.was_created) << lane.name << " is only named again";
        EXPECT_EQ(lane.idle, lane.name == "idle");
    }
    EXPECT_EQ(o.trail->tasks.contradictions, 0U);
}

TEST_F(Recorder, FillsItsRingAsTheFormatSays) {
    const std::uint32_t before = mt_ring.written;
    MT_TASK_CREATE(1, 1, "a");
    mt_flush();
    EXPECT_EQ(mt_ring.magic, 0x4252544DU);
    EXPECT_EQ(mt_ring.size, static_cast<std::uint32_t>(MT_RING_BYTES));
    EXPECT_EQ(mt_ring.written - before, written.size());
    for (int i = 0; i < 20'000; ++i) MT_MARK(1, i);  // nobody takes from the ring
    EXPECT_LE(mt_ring.written - mt_ring.taken, mt_ring.size);
    EXPECT_GT(mt_ring.lost, 0U);
}

}  // namespace
}  // namespace mt
