// The main core of the board with the mount's firmware: what runs, what is sent of it, and how a debugger has it in hand.
#include <gtest/gtest.h>

#include <map>

#include "flow/step_pipe.h"
#include "mount_in_hand.h"

namespace board {
namespace {

using test::TheMountsFirmware;

TEST_F(TheMountsFirmware, GivesItsTasksTheCoreAndItsLockToOneAtATime) {
    core();
    run_ms(3200);
    std::map<std::uint32_t, unsigned> switched, blocked;
    unsigned taken = 0;
    bool held = false;
    double last_track = 0, longest_guide = 0, guide_since = -1;
    for (const auto& [e, ms, fault] : events) {
        if (e.kind == mt::OsKind::task_switch_in) {
            ++switched[e.subject];
            if (e.subject == kTrack && last_track > 0) EXPECT_NEAR(ms - last_track, 10, 10.1) << ms;
            if (e.subject == kTrack) last_track = ms;
        }
        if (e.kind == mt::OsKind::task_block) ++blocked[e.subject];
        if (e.kind == mt::OsKind::task_ready && e.subject == kGuide) guide_since = ms;
        if (e.kind == mt::OsKind::task_block && e.subject == kGuide && guide_since > 0) longest_guide = std::max(longest_guide, ms - guide_since);
        if (e.kind == mt::OsKind::mutex_take) {
            EXPECT_FALSE(std::exchange(held, true)) << ms;
            ++taken;
        }
        if (e.kind == mt::OsKind::mutex_give) EXPECT_TRUE(std::exchange(held, false)) << ms;
    }
    EXPECT_NEAR(blocked[kTrack], 320, 2);
    EXPECT_EQ(blocked[kGuide], 3U) << "it waits, then two frames came";
    EXPECT_GT(blocked[kFocus], 12U);
    EXPECT_GT(blocked[kClock], 3U);
    EXPECT_GE(taken, 16U);
    EXPECT_GT(longest_guide, 40) << "the cloudy frame takes long to refine";
    EXPECT_LT(longest_guide, 400);
    EXPECT_EQ(word(address("current_task")), kIdle);
}

TEST_F(TheMountsFirmware, FallsOverTheTableOfTheOtherSideWhenTheAxisTurnsOver) {
    MountOptions options;
    options.fault_at = 0.5;
    core(options);
    run_ms(600);
    const auto fault = std::find_if(events.begin(), events.end(), [](const Event& e) { return e.event.kind == mt::OsKind::fault; });
    ASSERT_NE(fault, events.end());
    EXPECT_NEAR(fault->ms, 500, 20);
    EXPECT_EQ(fault->address & ~31ULL, 0x0A4011E0U);
    EXPECT_EQ(core_->read_register(16) & 0x1FF, 5U) << "BusFault has a handler of its own";
    std::uint32_t cfsr = 0, bfar = 0;
    EXPECT_TRUE(core_->units().read(0xE000ED28, cfsr) && core_->units().read(0xE000ED38, bfar));
    EXPECT_EQ(cfsr, 1U << 15 | 1U << 9) << "PRECISERR with an address (B3.2.15)";
    EXPECT_EQ(bfar, fault->address);
    const std::uint32_t stacked = word(core_->read_register(18) + 24);
    EXPECT_GT(stacked, address("track_loop"));
    EXPECT_LT(stacked, address("step_timer_handler"));
}

TEST_F(TheMountsFirmware, IsSteppedInstructionByInstructionAndTakesWhatIsWritten) {
    core();
    run_to("refraction");
    const std::uint64_t before = core_->instructions();
    const std::uint32_t at = pc();
    core_->step();
    EXPECT_EQ(core_->instructions(), before + 1);
    EXPECT_EQ(pc(), at + 4) << "UBFX has four bytes";
    EXPECT_LT(core_->read_register(3), 0x4000U);
    core_->write_register(3, 0x1234);
    core_->step();
    EXPECT_EQ(core_->read_register(3), 0x5234U) << "r3 | 0x4000, of what was written";
    core_->write_register(15, at);
    core_->step();
    EXPECT_EQ(pc(), at + 4) << "again from the begin";
    EXPECT_EQ(core_->read_register(18), core_->read_register(13)) << "a task has the process stack";
    EXPECT_NE(core_->read_register(17), core_->read_register(13));
    const std::vector<std::uint8_t> five{5, 0, 0, 0};
    EXPECT_TRUE(core_->write(address("current_task"), five));
    EXPECT_EQ(word(address("current_task")), 5U);
    EXPECT_FALSE(core_->write(0x08000000, five)) << "flash";
    EXPECT_EQ(word(0x40013004) & ~1U, 0U) << "a device may be looked at";
    std::array<std::uint8_t, 4> bytes{};
    EXPECT_FALSE(core_->read(0x60000000, bytes));
    core_->reset();
    EXPECT_EQ(pc(), address("Reset_Handler"));
    EXPECT_EQ(word(address("current_task")), 0U);
}

TEST_F(TheMountsFirmware, StopsBeforeAnInstructionAndBehindAnAccess) {
    core();
    run_to("star_table_at");
    const std::uint32_t loads = address("star_table_at") + 6;
    core_->breakpoints = {loads};
    const auto stop = core_->run(120'000);
    ASSERT_TRUE(stop);
    EXPECT_EQ(stop->why, Stop::Why::breakpoint);
    EXPECT_EQ(pc(), loads) << "in the middle of a function, too";
    EXPECT_FALSE(core_->run(1'000'000)) << "it goes on over it, and comes again only with the next round";
    EXPECT_TRUE(core_->run(1'200'000));
    core_->breakpoints.clear();
    core_->watches = {{address("axis_error"), 2, 'w'}};
    const auto written = core_->run(2'400'000);
    ASSERT_TRUE(written);
    EXPECT_EQ(written->why, Stop::Why::watchpoint);
    EXPECT_EQ(written->address, address("axis_error"));
    EXPECT_GT(pc(), address("track_loop"));
    core_->watches = {{0x40013004, 4, 'r'}};
    const auto polled = core_->run(120'000'000);
    ASSERT_TRUE(polled) << "a register of a device";
    EXPECT_GT(pc(), address("poll_status"));
    EXPECT_LT(pc(), address("wait_ready"));
}

TEST_F(TheMountsFirmware, IsWokenFromItsSleepByAStep) {
    core();
    run_ms(5);
    ASSERT_EQ(pc(), address("idle_task") + 2) << "behind WFI";
    const std::uint64_t slept_at = core_->cycle();
    core_->step();
    EXPECT_GT(core_->cycle(), slept_at + 12) << "until something woke it";
    EXPECT_NE(core_->read_register(16) & 0x1FF, 0U) << "in a handler";
}

struct Followed {
    const mt::Code& code;
    std::vector<std::uint32_t> pcs;
    std::vector<std::pair<std::size_t, std::uint32_t>> exceptions;
    std::map<std::string, unsigned> gaps;
    void run(const mt::StepRun& r) {
        std::uint32_t s = r.first;
        for (std::uint32_t n = 0; n < r.count; ++n, s = code.next(s)) pcs.push_back(static_cast<std::uint32_t>(code.address(s)));
    }
    void trap(const mt::StepTrap& t) { exceptions.emplace_back(pcs.size(), t.number); }
    void trap_return() {}
    void gap(const mt::StepGap& g) { ++gaps[std::string(g.reason)]; }
    void time(const mt::StepTime&) {}
    void sync(std::uint64_t) {}
};

struct HowTraced {
    const char* name;
    bool return_stack;
    unsigned sync;
    unsigned halted_each;  ///< instructions; 0: never
};
class TheTraceOfTheFirmware : public TheMountsFirmware, public ::testing::WithParamInterface<HowTraced> {};

// Stepped, so that each instruction is known; from the start-up over tasks, interrupts, chained ones, to the fault.
TEST_P(TheTraceOfTheFirmware, HasEveryInstructionAndException) {
    MountOptions options;
    options.fault_at = 0.05;
    core(options);
    run_to("main");
    trace_instructions(GetParam().return_stack, GetParam().sync);
    const auto [pcs, exceptions, bytes] = stepped(GetParam().halted_each, [](std::size_t) {});
    ASSERT_GT(pcs.size(), 50'000U);
    const auto code = mt::Code::of(*image, "armv7e-m");
    mt::StreamSpec spec;
    spec.protocol = mt::Protocol::etm4;
    spec.etm4.return_stack = GetParam().return_stack;
    mt::StepPipe pipe(spec, code, {});
    Followed f{*code, {}, {}, {}};
    pipe.feed(bytes, f);
    pipe.finish(f);
    EXPECT_EQ(pipe.bad_bytes(), 0U);
    for (const auto& [reason, n] : f.gaps) EXPECT_TRUE(reason == "the core was halted" || reason == "tracing was off") << reason << " " << n;
    ASSERT_EQ(f.pcs.size(), pcs.size());
    for (std::size_t i = 0; i < pcs.size(); ++i) ASSERT_EQ(f.pcs[i], pcs[i]) << "instruction " << i;
    EXPECT_EQ(f.exceptions, exceptions);
    EXPECT_GT(exceptions.size(), 200U);
}

INSTANTIATE_TEST_SUITE_P(Ways, TheTraceOfTheFirmware,
                         ::testing::Values(HowTraced{"plain", false, 0, 0}, HowTraced{"with_a_return_stack", true, 0, 0},
                                           HowTraced{"with_synchronisations", false, 8, 0}, HowTraced{"halted_again_and_again", true, 0, 97},
                                           HowTraced{"halted_behind_each_step", false, 0, 1}),
                         [](const auto& info) { return std::string(info.param.name); });

}  // namespace
}  // namespace board
