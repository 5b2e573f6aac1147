// The board's RISC-V core: single instructions by the manual, and the same program on QEMU.
#include <gtest/gtest.h>

#include <cstring>

#include "control/debug_server.h"
#include "process.h"
#include "rv_core.h"

namespace mt {
namespace {

using board::RvCore;

// A core with these words at the start of its memory.
std::unique_ptr<RvCore> with_program(const std::vector<std::uint32_t>& words) {
    auto core = std::make_unique<RvCore>(nullptr, 1);
    for (std::size_t i = 0; i < words.size(); ++i) {
        std::array<std::uint8_t, 4> b{};
        std::memcpy(b.data(), &words[i], 4);
        core->write(static_cast<std::uint32_t>(RvCore::kRam + 4 * i), b);
    }
    return core;
}

std::uint32_t result_of(std::uint32_t instruction, std::uint32_t a, std::uint32_t b) {
    auto core = with_program({instruction});
    core->write_register(11, a);
    core->write_register(12, b);
    core->step();
    return core->read_register(10);
}

TEST(RiscVCore, DividesAsTheManualSays) {
    EXPECT_EQ(result_of(0x02C5C533, 100, 7), 14U);  // div a0, a1, a2
    EXPECT_EQ(result_of(0x02C5C533, 100, 0), 0xFFFFFFFFU) << "by zero: all ones";
    EXPECT_EQ(result_of(0x02C5C533, 0x80000000, 0xFFFFFFFF), 0x80000000U) << "overflow gives the dividend";
    EXPECT_EQ(result_of(0x02C5E533, 0x80000000, 0xFFFFFFFF), 0U);  // rem
    EXPECT_EQ(result_of(0x02C5E533, 7, 0), 7U);
    EXPECT_EQ(result_of(0x02C59533, 0x80000000, 0x80000000), 0x40000000U);  // mulh
    EXPECT_EQ(result_of(0x02C5B533, 0xFFFFFFFF, 0xFFFFFFFF), 0xFFFFFFFEU);  // mulhu
}

TEST(RiscVCore, ShiftsAndComparesWithSign) {
    EXPECT_EQ(result_of(0x40C5D533, 0x80000000, 4), 0xF8000000U);  // sra
    EXPECT_EQ(result_of(0x00C5D533, 0x80000000, 4), 0x08000000U);  // srl
    EXPECT_EQ(result_of(0x00C5A533, 0xFFFFFFFF, 0), 1U);           // slt
    EXPECT_EQ(result_of(0x00C5B533, 0xFFFFFFFF, 0), 0U);           // sltu
}

TEST(RiscVCore, ExpandsCompressedInstructions) {
    auto core = with_program({0x55754505});  // c.li a0, 1; c.li a0, -3
    core->step();
    EXPECT_EQ(core->read_register(10), 1U);
    EXPECT_EQ(core->pc(), RvCore::kRam + 2);
    core->step();
    EXPECT_EQ(core->read_register(10), 0xFFFFFFFDU);
}

TEST(RiscVCore, StoreConditionalNeedsItsReservation) {
    // lr.w a0, (a1); sc.w a3, a2, (a1); sc.w a4, a2, (a1)
    auto core = with_program({0x1005A52F, 0x18C5A6AF, 0x18C5A72F});
    core->write_register(11, RvCore::kRam + 0x1000);
    core->write_register(12, 77);
    for (int i = 0; i < 3; ++i) core->step();
    EXPECT_EQ(core->read_register(13), 0U) << "the first succeeds";
    EXPECT_EQ(core->read_register(14), 1U) << "the second has no reservation";
}

TEST(RiscVCore, TrapsWhereItCannotGoOn) {
    for (const auto& [instruction, cause, what] :
         {std::tuple{0x00000000u, 2u, "all zeros"}, std::tuple{0xFFFFFFFFu, 2u, "all ones"},
          std::tuple{0x00002503u, 5u, "lw a0, 0(zero): no memory"},
          std::tuple{0x0015A503u, 4u, "lw a0, 1(a1): misaligned"}, std::tuple{0x00000073u, 11u, "ecall"},
          std::tuple{0x00100073u, 3u, "ebreak"}}) {
        // csrw mtvec, a2; the instruction; at the trap vector csrr a0, mcause
        auto core = with_program({0x30561073, instruction, 0, 0, 0x34202573});
        core->write_register(11, RvCore::kRam + 0x1000);
        core->write_register(12, RvCore::kRam + 0x10);
        for (int i = 0; i < 3; ++i) core->step();
        EXPECT_EQ(core->read_register(10), cause) << what;
    }
}

TEST(RiscVCore, RunsTheFirmwareForASecond) {
    RvCore core(*Image::open(MT_DEMO "/larkspur-cop.elf"), 1);
    core.run(RvCore::kHz);
    const auto elf = *Image::open(MT_DEMO "/larkspur-cop.elf");
    const auto value = [&](const char* name) {
        std::array<std::uint8_t, 4> b{};
        EXPECT_TRUE(core.read(static_cast<std::uint32_t>(elf->symbol_named(name)->address), b));
        std::uint32_t v = 0;
        std::memcpy(&v, b.data(), 4);
        return v;
    };
    EXPECT_NEAR(value("millis"), 1000, 2);
    EXPECT_NEAR(value("doorbells"), 40, 1);
    EXPECT_NEAR(value("edges"), 500, 60);
}

// Calls `interpolate` with several arguments here and on QEMU: the same results and, step by step, the same path.
TEST(RiscVCore, WalksTheSamePathAsQemu) {
    const std::string port = std::to_string(test::free_port());
    test::Process qemu({"qemu-system-riscv32", "-M", "virt", "-bios", "none", "-kernel", MT_DEMO "/larkspur-cop.elf",
                        "-S", "-gdb", "tcp:127.0.0.1:" + port, "-display", "none", "-monitor", "none", "-serial",
                        "none"});
    std::unique_ptr<DebugServer> server;
    test::wait_until([&] {
        auto s = DebugServer::connect("127.0.0.1:" + port, std::chrono::milliseconds(30000));
        if (s) server = std::move(*s);
        return server != nullptr;
    });
    ASSERT_TRUE(server);
    const auto elf = *Image::open(MT_DEMO "/larkspur-cop.elf");
    RvCore core(elf, 1);
    const auto entry = static_cast<std::uint32_t>(*elf->address_of("interpolate"));
    const std::uint32_t back = RvCore::kRam;  // where it returns to
    std::size_t steps = 0;
    for (const std::uint32_t argument : {1u, 12345u, 0xFFFFFFF0u}) {
        for (unsigned n = 1; n < 32; ++n) {
            const std::uint32_t v = n == 1 ? back : n == 2 ? RvCore::kRam + 0x40000 : n == 10 ? argument : 0x1000 * n;
            core.write_register(n, v);
            ASSERT_TRUE(server->write_register(n, v));
        }
        core.write_register(32, entry);
        ASSERT_TRUE(server->write_register(32, entry));
        for (; core.pc() != back && steps < 20'000; ++steps) {
            core.step();
            if (steps % 8 == 0) {  // each step on QEMU, each eighth compared in full
                ASSERT_TRUE(server->step());
                for (const unsigned n : {1u, 2u, 10u, 14u, 15u, 32u})
                    ASSERT_EQ(*server->read_register(n), core.read_register(n))
                        << "register " << n << " after step " << steps;
            } else {
                ASSERT_TRUE(server->step());
                ASSERT_EQ(*server->pc(), core.pc()) << "after step " << steps;
            }
        }
        ASSERT_EQ(core.pc(), back);
        EXPECT_EQ(*server->read_register(10), core.read_register(10)) << argument;
    }
    EXPECT_GT(steps, 500U);
}

}  // namespace
}  // namespace mt
