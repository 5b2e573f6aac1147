// A recording as MDF 4, read again as a file of signals.
#include <gtest/gtest.h>

#include <sstream>

#include "share/mdf_export.h"
#include "signals/signal_file.h"
#include "support.h"

namespace mt {
namespace {

Result<SignalFile> written_and_read(const Trail& trail) {
    std::stringstream out(std::ios::in | std::ios::out | std::ios::binary);
    Progress progress;
    const auto done = write_mdf(trail, "a night", out, progress);
    if (!done) return tl::make_unexpected(done.error());
    const std::string text = out.str();
    return read_mdf({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, "written.mf4", {});
}

const ValueLane* lane_of(const SignalFile& f, const std::string& name) {
    for (const ValueLane& l : f.lanes)
        if (l.name == name) return &l;
    return nullptr;
}

TEST(ARecordingAsMdf, HoldsItsTasksInterruptsAndValues) {
    const auto o = test::decode(test::data("tasks/mount-a/trace"));
    const auto f = written_and_read(*o.trail);
    ASSERT_TRUE(f) << f.error().text();
    EXPECT_TRUE(f->warnings.empty()) << f->warnings[0];
    const TaskLane* task = nullptr;
    for (const TaskLane& t : o.trail->tasks.tasks)
        if (t.name == "guide") task = &t;
    ASSERT_NE(task, nullptr);
    const ValueLane* lane = lane_of(*f, "guide");
    ASSERT_NE(lane, nullptr);
    std::size_t runs = 0;
    Time ran;
    for (std::size_t i = 0; i + 1 < lane->samples.size(); ++i) {
        if (lane->text(i) != "runs") continue;
        ++runs;
        ran += lane->samples.time(i + 1) - lane->samples.time(i);
    }
    EXPECT_GT(runs, 100U);
    Time jobs;
    for (std::size_t i = 0; i < task->jobs.size(); ++i) jobs += task->jobs[i].run;
    EXPECT_NEAR(static_cast<double>(ran.ps), static_cast<double>(jobs.ps), 0.02 * static_cast<double>(jobs.ps));
    for (const ValueLane& v : o.trail->tasks.values) {
        const ValueLane* again = lane_of(*f, v.name);
        ASSERT_NE(again, nullptr) << v.name;
        ASSERT_EQ(again->samples.size(), v.samples.size()) << v.name;
        for (std::size_t i = 0; i < v.samples.size(); ++i) {
            EXPECT_LE(std::abs((again->samples.time(i) - v.samples.time(i)).ps), 1000) << v.name;
            if (v.value_names.empty()) {
                EXPECT_EQ(again->value(i).number(), v.value(i).number()) << v.name;
            }
        }
    }
}

TEST(ARecordingAsMdf, KeepsWhatIsNotKnownAndUnits) {
    auto trail = std::make_shared<Trail>();
    trail->end = Time::from_ms(10);
    trail->complete = true;
    ValueLane lane;
    lane.name = "supply";
    lane.unit = "mA";
    lane.core = ValueLane::kNoCore;
    lane.sort = ValueSort::real;
    ValueOrigin measured, invalid;
    measured.access = invalid.access = ValueAccess::measured;
    invalid.worth = ValueOrigin::Worth::invalid;
    lane.append(Time::from_ms(-1), Value::of(17.5).bits, measured);
    lane.append_unknown(Time::from_ms(2), invalid);
    lane.append(Time::from_ms(4), Value::of(-3.25).bits, measured);
    trail->tasks.values.push_back(lane);
    const auto f = written_and_read(*trail);
    ASSERT_TRUE(f) << f.error().text();
    ASSERT_EQ(f->lanes.size(), 1U);
    EXPECT_EQ(f->lanes[0].unit, "mA");
    EXPECT_EQ(f->lanes[0].text(0), "17.5");
    EXPECT_EQ(f->lanes[0].text(1), "invalid");
    EXPECT_EQ(f->lanes[0].text(2), "-3.25");
    EXPECT_EQ(f->lanes[0].samples.time(0), Time::from_ms(-1));
}

TEST(ARecordingAsMdf, CanBeCancelled) {
    const auto o = test::decode(test::data("tasks/mount-a/trace"));
    std::stringstream out;
    Progress progress;
    progress.cancel();
    EXPECT_FALSE(write_mdf(*o.trail, "", out, progress));
}

}  // namespace
}  // namespace mt
