// States of the past beside the core that executed them: over tasks, interrupts and the fault, nothing that is said to be
// known is wrong.
#include <gtest/gtest.h>

#include <algorithm>

#include "base/text.h"
#include "core/replay/past_of.h"
#include "mount_in_hand.h"

namespace board {
namespace {

/// Where its trace begins: out of reset, or at `main` with what a debugger read there; how often it is halted on the way, and
/// what is told of that.
struct Way {
    const char* name;
    bool from_main;
    unsigned halted_each;
    bool untouched = true, where = false;
};
class StatesOfTheFirmware : public test::TheMountsFirmware, public ::testing::WithParamInterface<Way> {
  protected:
    const mt::test::Folder folder;
    /// How it stands now, as files; what the target file says of them.
    std::string as_it_stands() {
        constexpr const char* special[] = {"xpsr", "msp", "psp", "primask", "control", "basepri", "faultmask"};
        std::string registers;
        for (std::size_t n = 0; n < ThumbCore::kRegisters; ++n)
            registers += std::string(n == 0 ? "" : ", ") + "\"" + (n == 13 ? "sp" : n == 14 ? "lr" : n == 15 ? "pc" : n < 16 ? "r" + std::to_string(n) : special[n - 16]) +
                         "\": \"" + mt::hex_text(core_->read_register(n), 8) + "\"";
        mt::test::write_file(folder / "began.json", "{\"registers\": {" + registers + "}}");
        std::vector<std::uint8_t> ram(ThumbCore::kRamBytes);
        EXPECT_TRUE(core_->read(ThumbCore::kRam, ram));
        mt::test::write_file(folder / "began.bin", ram);
        return "[core.began]\nregisters = \"began.json\"\nmemory = [{ file = \"began.bin\", address = 0x20000000 }]\n";
    }
};

TEST_P(StatesOfTheFirmware, AreThoseThatTheCoreHad) {
    MountOptions options;
    options.fault_at = 0.05;
    core(options);
    std::string began;
    if (GetParam().from_main) {
        run_to("main");
        began = as_it_stands();
    }
    trace_instructions(true, 0);
    struct Truth {
        std::size_t step;
        std::array<std::uint32_t, 17> registers;
        std::uint32_t current, error, ms;
    };
    std::vector<Truth> truths;
    const std::uint32_t current = address("current_task"), error = address("axis_error"), ms = address("now_ms");
    const auto all = stepped(GetParam().halted_each, [&](std::size_t step) {
        if (step % 811 != 0 || (!truths.empty() && truths.back().step == step)) return;
        Truth t{step, {}, word(current), word(error) & 0xFFFF, word(ms)};
        for (std::size_t n = 0; n < 17; ++n) t.registers[n] = core_->read_register(n);
        truths.push_back(t);
    });
    ASSERT_GT(truths.size(), 200U);

    mt::test::write_file(folder / "x.etm4", all.bytes);
    mt::test::write_file(folder / "stood.csv", mt::stood_text(stood));
    mt::test::write_file(folder / "x.target.toml",
                         "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\nisa = \"armv7e-m\"\nclock_hz = 120_000_000\nimage = \"" MT_DEMO
                         "/larkspur.elf\"\n" + std::string(GetParam().untouched ? "untouched = true\n" : "") +
                             (GetParam().where ? "stood = \"stood.csv\"\n" : "") + began + "[[stream]]\nfile = \"x.etm4\"\nprotocol = \"etm4\"\ncore = \"main\"\n[stream.etm4]\nreturn_stack = true\n");
    mt::test::PastOf past(folder / "x.target.toml");
    ASSERT_EQ(past.steps.steps, all.pcs.size());
    std::uint64_t known = 0, told = 0, variables = 0;
    for (const Truth& t : truths) {
        const auto state = past.states.before(t.step, past.progress);
        ASSERT_TRUE(state) << t.step;
        ASSERT_EQ(state->pc, t.registers[15]) << t.step;
        for (const auto& [name, value] : state->registers) {
            const std::size_t n = name == "sp" ? 13 : name == "lr" ? 14 : name[0] == 'r' ? std::stoul(name.substr(1)) : 17;
            if (n > 14) continue;
            ++told;
            if (!value.known) continue;
            ++known;
            ASSERT_EQ(value.value, t.registers[n]) << name << " before " << t.step << ", exception " << (t.registers[16] & 0x1FF);
        }
        if (state->flags) ASSERT_EQ(state->flags->value, t.registers[16] >> 28 & state->flags->known) << t.step;
        for (const auto& [at, size, is] : {std::tuple{current, 4U, t.current}, {error, 2U, t.error}, {ms, 4U, t.ms}}) {
            const mt::Known value = state->memory->read(at, size);
            if (!value.known) continue;
            ++variables;
            ASSERT_EQ(value.value, is) << "before " << t.step;
        }
    }
    const double share = static_cast<double>(known) / static_cast<double>(told);
    std::cout << "known " << 100 * share << " % of the registers, " << variables << " of " << 3 * truths.size() << " variables\n";
    EXPECT_GT(share, 0.7);
    EXPECT_GT(variables, truths.size());
}

INSTANTIATE_TEST_SUITE_P(From, StatesOfTheFirmware, ::testing::Values(Way{"reset", false, 0}, Way{"main", true, 0}, Way{"main_halted_again_and_again", true, 4099},
                                           Way{"main_halted_where_it_is_told", true, 4099, false, true}),
                         [](const auto& info) { return std::string(info.param.name); });

}  // namespace
}  // namespace board
