// The main core of the board with the mount's firmware: what runs, what is sent of it, and how a debugger has it in hand.
#include <gtest/gtest.h>

#include <map>

#include "flow/step_pipe.h"
#include "mount_core.h"
#include "support.h"

namespace board {
namespace {

class TheMountsFirmware : public ::testing::Test {
  protected:
    struct Event {
        mt::OsEvent event;
        double ms;
        std::uint64_t address;
    };
    MountCore& core(MountOptions options = {}, bool bare = true) {
        options.fault_at = options.fault_at < 0 ? 1e6 : options.fault_at;
        core_ = std::make_unique<MountCore>(image, options, bare, UnitTroubles{}, [this](const mt::OsEvent& e, const mt::OsBlock& block, std::uint64_t cycle) {
            events.push_back({e, static_cast<double>(cycle) / 120'000, block.faults.empty() ? 0 : block.faults[0].address});
        });
        return *core_;
    }
    std::uint32_t address(const std::string& name) const { return static_cast<std::uint32_t>(image->symbol_named(name)->address) & ~1U; }
    std::uint32_t word(std::uint32_t at) const {
        std::array<std::uint8_t, 4> bytes{};
        EXPECT_TRUE(core_->read(at, bytes)) << std::hex << at;
        return static_cast<std::uint32_t>(bytes[0] | bytes[1] << 8 | bytes[2] << 16) | static_cast<std::uint32_t>(bytes[3]) << 24;
    }
    std::uint32_t pc() const { return core_->read_register(15); }
    void run_ms(unsigned ms) {
        for (unsigned i = 0; i < ms; ++i) (void)core_->run(120'000);
    }
    void run_to(const std::string& function) {
        core_->breakpoints = {address(function)};
        for (int i = 0; i < 4000 && !core_->run(120'000); ++i) {
        }
        ASSERT_EQ(pc(), address(function));
        core_->breakpoints.clear();
    }
    /// Instructions over the pins, without frames: both sources are called 0.
    void trace_instructions(bool return_stack, unsigned sync) {
        for (const std::uint32_t base : {0xE0041000U, 0xE0043000U, 0xE0044000U, 0xE0040000U}) put(base + 0xFB0, 0xC5ACCE55);
        put(0xE0043000, 3);
        put(0xE0044028, 2);
        put(0xE0044020, 1);
        put(0xE0040304, 0x100);
        put(0xE0041300, 0);
        put(0xE0041010, 1U << 11 | (return_stack ? 1U << 12 : 0));
        put(0xE0041034, sync);
        put(0xE0041080, 0x201);
        put(0xE0041004, 1);
    }
    void put(std::uint32_t at, std::uint32_t value) { EXPECT_TRUE(core_->units().write(at, value)) << std::hex << at; }

    std::shared_ptr<const mt::Image> image = mt::Image::open(MT_DEMO "/larkspur.elf").value();
    std::unique_ptr<MountCore> core_;
    std::vector<Event> events;
};

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
    EXPECT_GT(longest_guide, 100) << "the cloudy frame takes long to refine";
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
    std::vector<std::uint32_t> pcs;
    std::vector<std::pair<std::size_t, std::uint32_t>> exceptions;
    std::vector<std::uint8_t> bytes;
    std::uint64_t idle = 0;
    for (unsigned n = 0; n < 900'000 && idle < 50; ++n) {
        const std::uint32_t at = pc(), was = core_->read_register(16) & 0x1FF;
        const std::uint64_t before = core_->instructions();
        core_->step();
        if (core_->instructions() != before) pcs.push_back(at);
        const std::uint32_t is = core_->read_register(16) & 0x1FF;
        const bool entered = core_->instructions() == before || (is != was && pc() != at && word(is * 4) == (pc() | 1));
        if (entered) exceptions.emplace_back(pcs.size(), is);
        idle = pc() == at && is == 5 ? idle + 1 : 0;
        if (GetParam().halted_each != 0 && n % GetParam().halted_each == 0) core_->halted();
        core_->drain(bytes);
    }
    EXPECT_EQ(idle, 50U) << "it came to the fault";
    core_->halted();
    core_->drain(bytes);
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
