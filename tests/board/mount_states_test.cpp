// States of the past beside the core that executed them: over tasks, interrupts and the fault, nothing that is said to be
// known is wrong.
#include <gtest/gtest.h>

#include <algorithm>

#include "core/replay/past_of.h"
#include "mount_in_hand.h"

namespace board {
namespace {

class StatesOfTheFirmware : public test::TheMountsFirmware {};

TEST_F(StatesOfTheFirmware, AreThoseThatTheCoreHad) {
    MountOptions options;
    options.fault_at = 0.05;
    core(options);
    trace_instructions(true, 0);
    struct Truth {
        std::size_t step;
        std::array<std::uint32_t, 17> registers;
        std::uint32_t current, error, ms;
    };
    std::vector<Truth> truths;
    const std::uint32_t current = address("current_task"), error = address("axis_error"), ms = address("now_ms");
    const auto all = stepped(0, [&](std::size_t step) {
        if (step % 811 != 0 || (!truths.empty() && truths.back().step == step)) return;
        Truth t{step, {}, word(current), word(error) & 0xFFFF, word(ms)};
        for (std::size_t n = 0; n < 17; ++n) t.registers[n] = core_->read_register(n);
        truths.push_back(t);
    });
    ASSERT_GT(truths.size(), 200U);

    const mt::test::Folder folder;
    mt::test::write_file(folder / "x.etm4", all.bytes);
    mt::test::write_file(folder / "x.target.toml",
                         "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\nisa = \"armv7e-m\"\nclock_hz = 120_000_000\nimage = \"" MT_DEMO
                         "/larkspur.elf\"\n[[stream]]\nfile = \"x.etm4\"\nprotocol = \"etm4\"\ncore = \"main\"\n[stream.etm4]\nreturn_stack = true\n");
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

}  // namespace
}  // namespace board
