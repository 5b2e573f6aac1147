// The board's core of M profile: beside a real emulator, instruction by instruction, and by itself where exceptions come
// and go. Sections are of DDI 0403E.
#include <gtest/gtest.h>

#include <random>
#include <set>

#include "base/text.h"
#include "emulated.h"
#include "thumb_core.h"

namespace board {
namespace {

/// Remembers what the core told it. Beyond its memory there are a device that says 0 and the system control space.
class Around : public ThumbSurroundings {
  public:
    std::optional<std::uint32_t> load(std::uint32_t address, unsigned size) override {
        if (address >> 24 == 0x40) return 0;
        if (!SystemControl::holds(address)) return std::nullopt;
        return core->system().read(address, size, core->cycle());
    }
    bool store(std::uint32_t address, unsigned size, std::uint32_t value) override {
        if (!SystemControl::holds(address)) return false;
        core->system().write(address, size, value, core->cycle());
        return true;
    }
    void accessed(std::uint32_t address, unsigned, bool is_write, std::uint32_t value, std::uint32_t) override {
        told.push_back((is_write ? "write " : "read ") + mt::hex_text(address, 8) + " " + mt::hex_text(value, 8));
    }
    void branched(const ThumbBranch& b) override { branches.push_back(b); }
    void entered(unsigned number, std::uint32_t, std::uint32_t, std::uint32_t, std::uint32_t, bool chained) override {
        told.push_back((chained ? "chain " : "enter ") + std::to_string(number));
    }
    void left(unsigned number) override { told.push_back("left " + std::to_string(number)); }
    void returned(unsigned number, std::uint32_t) override { told.push_back("back in " + std::to_string(number)); }
    void masked(bool is) override { told.push_back(is ? "masked" : "unmasked"); }

    ThumbCore* core = nullptr;
    std::vector<std::string> told;
    std::vector<ThumbBranch> branches;
};

class ABesideAnEmulatedCore : public mt::test::Emulated {
  protected:
    void begin_both(const std::string& elf) {
        begin(elf, {"qemu-system-arm", "-M", "mps2-an386"});
        if (server == nullptr) return;
        around.core = &core;
        for (const auto& piece : image->pieces()) core.program(static_cast<std::uint32_t>(piece.loaded_at), piece.bytes);
        core.reset();
        for (const auto& piece : image->pieces())
            if (piece.loaded_at >= ThumbCore::kRam) core.write(static_cast<std::uint32_t>(piece.loaded_at), piece.bytes);
        for (unsigned n = 0; n < 15; ++n) core.write_register(n, static_cast<std::uint32_t>(*server->read_register(n)));
        xpsr = static_cast<std::uint32_t>(*server->register_named("xpsr"));
        core.write_register(16, static_cast<std::uint32_t>(*server->read_register(xpsr)));
    }
    /// r0 to pc, and the flags with Q, GE and the exception.
    ::testing::AssertionResult same() {
        for (unsigned n = 0; n < 16; ++n)
            if (const auto is = static_cast<std::uint32_t>(*server->read_register(n)); is != core.read_register(n))
                return ::testing::AssertionFailure() << "r" << n << " is " << mt::hex_text(is, 8) << ", here " << mt::hex_text(core.read_register(n), 8);
        const auto is = static_cast<std::uint32_t>(*server->read_register(xpsr));
        if (((is ^ core.read_register(16)) & 0xFE0FFFFF) != 0)
            return ::testing::AssertionFailure() << "xPSR is " << mt::hex_text(is, 8) << ", here " << mt::hex_text(core.read_register(16), 8);
        return ::testing::AssertionSuccess();
    }
    Around around;
    ThumbCore core{around};
    std::uint32_t xpsr = 16;
};

TEST_F(ABesideAnEmulatedCore, ExecutesAllKindsOfInstructionsAsItDoes) {
    begin_both("instructions-arm.elf");
    if (server == nullptr) return;
    const std::uint64_t handler = *image->address_of("supervisor") & ~std::uint64_t{1};
    unsigned steps = 0, traps = 0;
    while (*server->pc() != done && steps < 5000) {
        const std::uint64_t at = *server->pc();
        ASSERT_TRUE(server->step());
        ASSERT_TRUE(core.step());
        if (*server->pc() == handler && core.pc() != handler) {  // the call is one step, and being taken another
            ASSERT_TRUE(core.step());
            ++traps;
        }
        ASSERT_TRUE(same()) << "behind " << mt::hex_text(at, 8);
        ++steps;
    }
    EXPECT_EQ(core.pc(), done);
    EXPECT_EQ(traps, 3U);
    EXPECT_GT(steps, 480U);
    std::vector<std::uint8_t> is(0x8000), here(0x8000);
    ASSERT_TRUE(server->read_memory(0x2000'0000, is));
    ASSERT_TRUE(core.read(0x2000'0000, here));
    EXPECT_EQ(is, here);
}

// What works on registers alone: 16 bits; 32 bits with an operand that is shifted, constant or rotated; halves and bytes
// at once, saturated, multiplied. Numbers at the edge come more often than chance would have them.
TEST_F(ABesideAnEmulatedCore, ReckonsAsItDoesWithWhateverNumbers) {
    begin_both("instructions-arm.elf");
    if (server == nullptr) return;
    std::mt19937 random(7);
    const auto below = [&](std::uint32_t n) { return static_cast<std::uint32_t>(random() % n); };
    const auto low = [&] { return below(13); };  // no stack pointer, no program counter
    const auto number = [&]() -> std::uint32_t {
        constexpr std::uint32_t edges[] = {0, 1, 0x7F, 0x80, 0xFF, 0x7FFF, 0x8000, 0xFFFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF, 0x80008000, 0x7FFF8000, 31, 32, 33};
        return below(2) == 0 ? edges[below(std::size(edges))] : static_cast<std::uint32_t>(random());
    };
    const auto instruction = [&]() -> std::uint64_t {  // the second half above the first
        const auto two = [](std::uint32_t i, std::uint32_t j) { return std::uint64_t{j} << 16 | i; };
        switch (below(11)) {
            case 0:
                return below(0x4000);
            case 1:
                return 0x4000 | below(0x400);
            case 2:
                return 0xB200 | below(0x100);
            case 3:
                return 0xBA00 | below(0x100);
            case 4:
                return two(0xEA00 | below(32) << 4 | low(), below(8) << 12 | low() << 8 | below(16) << 4 | low());
            case 5:
                return two(0xF000 | below(2) << 10 | below(32) << 4 | low(), below(8) << 12 | low() << 8 | below(256));
            case 6:
                return below(2) == 0 ? two(0xF200 | below(2) << 10 | below(16) << 4 | low(), below(8) << 12 | low() << 8 | below(256))
                                     : two(0xF300 | below(16) << 4 | low(), below(8) << 12 | low() << 8 | (below(256) & ~32u));
            case 7:
                return below(4) == 0 ? two(0xFA0F | below(6) << 4, 0xF080 | low() << 8 | below(4) << 4 | low())
                                     : two(0xFA00 | below(16) << 4 | low(), 0xF000 | low() << 8 | below(16) << 4 | low());
            case 8:
                return two(0xFB00 | below(8) << 4 | low(), (below(3) == 0 ? 15 : low()) << 12 | low() << 8 | below(4) << 4 | low());
            case 9:
                return two(0xFB90 | below(2) << 5 | low(), 0xF0F0 | low() << 8 | low());
            default:
                return two(0xFB80 | below(8) << 4 | low(), below(6) << 12 | (6 + below(6)) << 8 | below(16) << 4 | low());
        }
    };
    constexpr std::uint32_t kAt = 0x2000'6000;
    unsigned reckoned = 0;
    std::set<std::uint32_t> changed;
    for (unsigned n = 0; n < 4000; ++n) {
        const std::uint64_t code = instruction();
        const bool wide = (code & 0xFFFF) >= 0xE800;
        const std::vector<std::uint8_t> bytes{static_cast<std::uint8_t>(code), static_cast<std::uint8_t>(code >> 8), static_cast<std::uint8_t>(code >> 16), static_cast<std::uint8_t>(code >> 24)};
        ASSERT_TRUE(core.write(kAt, bytes));
        for (const std::uint32_t r : {low(), low()}) {
            core.write_register(r, number());
            changed.insert(r);
        }
        core.write_register(15, kAt);
        core.write_register(16, below(32) << 27 | below(16) << 16 | 1u << 24);
        ThumbCore tried(core);
        (void)tried.step();
        if (tried.exception() != 0 || tried.pc() != kAt + (wide ? 4 : 2)) continue;  // none that is defined
        ASSERT_TRUE(server->write_memory(kAt, bytes));
        for (const std::uint32_t r : changed) ASSERT_TRUE(server->write_register(r, core.read_register(r)));
        changed.clear();
        ASSERT_TRUE(server->write_register(15, kAt));
        ASSERT_TRUE(server->write_register(xpsr, core.read_register(16)));
        ASSERT_TRUE(server->step());
        ASSERT_TRUE(core.step());
        ASSERT_TRUE(same()) << "behind " << mt::hex_text(code & 0xFFFF, 4) << " " << mt::hex_text(code >> 16, 4);
        ++reckoned;
    }
    EXPECT_GT(reckoned, 2000U);
}

}  // namespace
}  // namespace board
