// The recorder built for both architectures, run in QEMU, drained through its GDB server while it runs.
#include <gtest/gtest.h>

#include <cmath>

#include "control/debug_server.h"
#include "control/link.h"
#include "doubt/ring_check.h"
#include "measure/tasks.h"
#include "process.h"
#include "target/image.h"

namespace mt {
namespace {

using namespace std::chrono_literals;

struct Machine {
    const char *name, *isa, *elf;
    std::uint64_t hz;
    std::uint32_t ram;
    std::vector<std::string> command;
};
const Machine kMachines[] = {
    {"Thumb2",
     "armv7e-m",
     MT_FIRMWARE "/recorder-arm.elf",
     25'000'000,
     0x2000'0000,
     {"qemu-system-arm", "-M", "mps2-an386"}},
    {"RiscV",
     "rv32imac",
     MT_FIRMWARE "/recorder-riscv.elf",
     10'000'000,
     0x8000'0000,
     {"qemu-system-riscv32", "-M", "virt", "-bios", "none"}},
};

class RecorderInQemu : public testing::TestWithParam<Machine> {
  protected:
    void SetUp() override {
        if (std::filesystem::exists(GetParam().elf)) return;
        if (std::getenv("CI") != nullptr) FAIL() << "clang-14 and lld-14 are needed to build the firmware";
        GTEST_SKIP() << "clang-14 and lld-14 are not installed: the firmware was not built";
    }
    std::vector<std::string> machine() const {
        auto all = GetParam().command;
        for (const char* a : {"-display", "none", "-monitor", "none", "-serial", "none", "-kernel"}) all.push_back(a);
        all.push_back(GetParam().elf);
        all.push_back("-gdb");
        all.push_back("tcp:" + address());
        // Time is counted by instructions, so that a busy machine changes nothing.
        for (const char* a : {"-S", "-icount", "shift=0"}) all.push_back(a);
        return all;
    }
    std::string address() const { return "127.0.0.1:" + port_; }
    void wait_for_it() const {
        ASSERT_TRUE(test::wait_until([&] { return Link::connect_tcp(address(), 200ms).has_value(); }));
    }
    /// Lets the machine run for a while and halts it.
    std::unique_ptr<DebugServer> run_for(std::chrono::milliseconds time) const {
        wait_for_it();
        auto server = DebugServer::connect(address(), 30000ms);
        EXPECT_TRUE(server) << (server ? "" : server.error().text());
        if (!server) return nullptr;
        EXPECT_TRUE((*server)->resume());
        std::this_thread::sleep_for(time);
        EXPECT_TRUE((*server)->halt());
        return std::move(*server);
    }
    static std::vector<std::uint32_t> words(DebugServer& server, const char* symbol, std::size_t n) {
        const auto elf = Image::open(GetParam().elf);
        std::vector<std::uint8_t> bytes(n * 4);
        EXPECT_TRUE(server.read_memory(*(*elf)->address_of(symbol), bytes));
        std::vector<std::uint32_t> out;
        for (std::size_t i = 0; i < n; ++i)
            out.push_back(bytes[4 * i] | bytes[4 * i + 1] << 8 | bytes[4 * i + 2] << 16 |
                          static_cast<std::uint32_t>(bytes[4 * i + 3]) << 24);
        return out;
    }
    std::string port_ = std::to_string(test::free_port());
    test::Folder folder_;
};

TEST_P(RecorderInQemu, IsDrainedWhileItRunsAndDecodedToItsTasks) {
    test::Process qemu(machine());
    wait_for_it();
    test::write_file(folder_ / "r.target.toml",
                     std::string("format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\nisa = \"") +
                         GetParam().isa + "\"\nimage = \"" + GetParam().elf +
                         "\"\n[[stream]]\nprotocol = \"ctf\"\ncore = \"main\"\n[stream.ctf]\nrecorder_hz = " +
                         std::to_string(GetParam().hz) + "\n");
    test::write_file(
        folder_ / "r.recipe.toml",
        "format = \"mindful-trail-recipe/1\"\nname = \"example\"\ntarget = \"r.target.toml\"\n[[connect]]\ncore = "
        "\"main\"\ndebug = \"" +
            address() +
            "\"\ntrace = \"ring\"\nsymbol = \"mt_ring\"\n[before]\ncheck_image = true\nreset = "
            "true\nreset_command = \"system_reset\"\nrun_to = { place = \"board_start_timer\" }\n"
            "[record]\nbytes = 12000\n[after]\nleave = \"halted\"\n");
    {
        test::Process record({MT_CLI, "record", "--recipe", folder_ / "r.recipe.toml", "-o", folder_ / "x.mtrail"},
                             folder_ / "said");
        ASSERT_EQ(record.wait(), 0) << test::read_text(folder_ / "said");
    }
    const auto o = test::decode(folder_ / "x.mtrail");
    EXPECT_TRUE(o.trail->gaps.empty()) << "16 KiB are enough for the pauses between two reads";
    EXPECT_EQ(o.trail->tasks.contradictions, 0U);
    EXPECT_EQ(o.trail->tasks.streams[0].backwards, 0U);
    const TaskRow pointing = task_row(*o.trail, 1), log = task_row(*o.trail, 2);
    EXPECT_EQ(pointing.name, "pointing");
    EXPECT_EQ(log.name, "sky log");
    EXPECT_GT(pointing.run.count, 60U);
    EXPECT_EQ(o.trail->tasks.order().size(), 3U) << "and idle";

    auto server = DebugServer::connect(address(), 30000ms);
    ASSERT_TRUE(server) << server.error().text();
    const auto done = words(**server, "jobs_done", 3);
    EXPECT_LE(pointing.run.count, done[1]) << "no job is made up";
    // A job of it writes 40 bytes and more; what was not taken, and one open packet, is still in the target.
    const auto ring = words(**server, "mt_ring", 8);
    const std::uint32_t left = ring[4] - ring[5] + 512;
    EXPECT_GE(pointing.run.count + left / 40 + 2, done[1]) << "but for those still in the target none is missing";
    EXPECT_LE(log.run.count, done[2]);
    // A machine that has no time to run QEMU stretches many periods; by a wrong clock none would be what was asked for.
    std::size_t periods = 0, right = 0;
    for (const auto& lane : o.trail->tasks.tasks)
        for (std::size_t i = 0; lane.id == 1 && i < lane.jobs.size(); ++i)
            if (const auto period = ready_period(lane, i)) {
                ++periods;
                right += std::abs(period->seconds() - 0.002) < 0.0002 ? 1 : 0;
            }
    EXPECT_GT(5 * right, periods) << "its clock is the right one";
    // What the firmware did in each job is what is read: a lock each, a line into the queue, or all lines out of it.
    ASSERT_EQ(o.trail->tasks.locks.size(), 1U);
    EXPECT_NEAR(static_cast<double>(o.trail->tasks.locks[0].holds.size()),
                static_cast<double>(pointing.run.count + log.run.count), 2);
    const QueueLane* queue = o.trail->tasks.queue(9);
    ASSERT_NE(queue, nullptr);
    EXPECT_EQ(queue->name, "log lines");
    EXPECT_NEAR(static_cast<double>(queue->sent), static_cast<double>(pointing.run.count), 2);
    std::int64_t fill = 0;
    for (std::size_t i = 0; i < queue->ops.size(); ++i) {
        fill += queue->ops[i].kind == QueueOp::send ? 1 : -1;
        ASSERT_EQ(queue->ops[i].fill, static_cast<std::uint32_t>(fill)) << "at " << i;
    }
}

TEST_P(RecorderInQemu, AnImageOfItsMemoryIsReadTheSame) {
    test::Process qemu(machine());
    auto server = run_for(100ms);
    ASSERT_TRUE(server);
    // Nobody reads: the ring fills, and what comes then is lost.
    for (int i = 0; i < 200 && (words(*server, "jobs_done", 2)[1] == 0 || words(*server, "mt_ring", 8)[6] == 0); ++i) {
        ASSERT_TRUE(server->resume());
        std::this_thread::sleep_for(100ms);
        ASSERT_TRUE(server->halt());
    }
    std::vector<std::uint8_t> memory(64 * 1024);
    ASSERT_TRUE(server->read_memory(GetParam().ram, memory));
    const auto report = check_ring(memory, GetParam().ram, GetParam().hz);
    ASSERT_TRUE(report) << report.error().text();
    EXPECT_TRUE(report->good());
    EXPECT_EQ(report->size, 16U * 1024);
    EXPECT_GT(report->events, 1000U);
    EXPECT_EQ(report->packets, 32U);
    test::write_file(folder_ / "memory.bin", memory);
    test::Process ring({MT_CLI, "ring", folder_ / "memory.bin", "--at", std::to_string(GetParam().ram), "--hz",
                        std::to_string(GetParam().hz), "-o", folder_ / "trace"},
                       folder_ / "said");
    ASSERT_EQ(ring.wait(), 1) << "events were dropped: the verdict is bad" << test::read_text(folder_ / "said");
    EXPECT_NE(test::read_text(folder_ / "said").find("were dropped because it was full"), std::string::npos);
    const auto o = test::decode(folder_ / "trace");
    EXPECT_EQ(task_row(*o.trail, 1).name, "pointing");
    EXPECT_EQ(o.trail->tasks.streams[0].events, report->events);
}

TEST_P(RecorderInQemu, CostsAsManyInstructionsAsItsGuideSays) {
    test::Process qemu(machine());
    auto server = run_for(200ms);
    ASSERT_TRUE(server);
    for (int i = 0; i < 100 && words(*server, "recorder_cost", 4)[3] == 0; ++i) {
        ASSERT_TRUE(server->resume());
        std::this_thread::sleep_for(100ms);
        ASSERT_TRUE(server->halt());
    }
    const auto cost = words(*server, "recorder_cost", 4);
    for (std::size_t i = 0; i < 4; ++i) {
        RecordProperty("cost_" + std::to_string(i), static_cast<int>(cost[i]));
        EXPECT_GT(cost[i], 40U) << i;
        EXPECT_LT(cost[i], i == 3 ? 280U : 200U) << i;
    }
    EXPECT_LT(cost[0], cost[2]) << "fields cost something";
}

INSTANTIATE_TEST_SUITE_P(Machines, RecorderInQemu, testing::ValuesIn(kMachines),
                         [](const auto& info) { return std::string(info.param.name); });

}  // namespace
}  // namespace mt
