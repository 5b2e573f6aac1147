// States of the past of the co-processor beside the core that executed them: what a debugger says of where it halted it keeps
// them over those gaps, and nothing that is said to be known is wrong.
#include <gtest/gtest.h>

#include <array>

#include "core/replay/past_of.h"
#include "etrace_encoder.h"
#include "target/core_state.h"

namespace board {
namespace {

class StatesOfTheCop : public ::testing::Test {
  protected:
    static constexpr std::size_t kSteps = 60'000;
    struct Way {
        unsigned halted_each = 0;
        bool told = true;           ///< where it was halted
        std::size_t changed_at = 0;  ///< halted there, too, and a variable written
        bool told_changed = true;
    };
    struct Shares {
        std::uint64_t asked = 0, known = 0, wrong = 0, angle_known = 0;
        double share() const { return static_cast<double>(known) / static_cast<double>(asked); }
    };
    const mt::test::Folder folder;
    const std::shared_ptr<const mt::Image> image = *mt::Image::open(MT_DEMO "/larkspur-cop.elf");

    Shares states(const Way& way) const {
        RvCore core(image, 3);
        EtraceEncoder encoder = cop_encoder(0);
        core.listen(&encoder);
        const auto angle = static_cast<std::uint32_t>(image->symbol_named("axis_angle")->address);
        const auto value_of = [&](std::uint32_t at) {
            std::array<std::uint8_t, 4> b{};
            EXPECT_TRUE(core.read(at, b));
            return b[0] | b[1] << 8 | b[2] << 16 | static_cast<std::uint32_t>(b[3]) << 24;
        };
        struct Truth {
            std::size_t step;
            std::array<std::uint32_t, 33> registers;
            std::uint32_t angle;
        };
        std::vector<Truth> truths;
        mt::StoodPlaces stood;
        while (core.instructions() < kSteps) {
            const std::size_t step = core.instructions();
            const bool change = way.changed_at != 0 && step == way.changed_at;
            if (change || (way.halted_each != 0 && step > 0 && step % way.halted_each == 0)) {
                core.halted();
                if (change) {
                    const std::uint32_t other = value_of(angle) + 12'345;
                    const std::array<std::uint8_t, 4> bytes{static_cast<std::uint8_t>(other), static_cast<std::uint8_t>(other >> 8),
                                                            static_cast<std::uint8_t>(other >> 16), static_cast<std::uint8_t>(other >> 24)};
                    EXPECT_TRUE(core.write(angle, bytes));
                }
                stood.add(core.pc(), change && way.told_changed);
            }
            if (step % 61 == 17) {
                Truth t{step, {}, value_of(angle)};
                for (std::size_t n = 0; n < 33; ++n) t.registers[n] = core.read_register(n);
                truths.push_back(t);
            }
            while (core.instructions() == step) core.step();
        }
        encoder.stop();
        std::vector<std::uint8_t> trace;
        encoder.drain(trace);
        mt::test::write_file(folder / "cop.etrace", trace);
        mt::test::write_file(folder / "cop-stood.csv", mt::stood_text(stood));
        mt::test::write_file(folder / "cop.target.toml",
                             std::string("format = \"mindful-trail-target/1\"\n[[core]]\nname = \"cop\"\nisa = \"rv32imac\"\nclock_hz = 10000000\n") +
                                 (way.told ? "stood = \"cop-stood.csv\"\n" : "") + "image = \"" MT_DEMO
                                 "/larkspur-cop.elf\"\n[[stream]]\nfile = \"cop.etrace\"\nprotocol = \"etrace\"\ncore = \"cop\"\n"
                                 "[stream.etrace]\ntime_width = 40\ntimestamp_hz = 10000000\n");
        mt::test::PastOf past(folder / "cop.target.toml");
        EXPECT_EQ(past.steps.steps, core.instructions());
        Shares shares;
        for (const Truth& t : truths) {
            const auto state = past.states.before(t.step, past.progress);
            EXPECT_TRUE(state) << t.step;
            if (!state || state->pc != t.registers[32]) {  // an interrupt came between
                EXPECT_TRUE(state);
                continue;
            }
            for (const auto& [name, value] : state->registers) {
                if (name[0] != 'x') continue;
                ++shares.asked;
                shares.known += value.known ? 1 : 0;
                shares.wrong += value.known && value.value != t.registers[std::stoul(name.substr(1))] ? 1 : 0;
            }
            const mt::Known is = state->memory->read(angle, 4);
            shares.angle_known += is.known ? 1 : 0;
            shares.wrong += is.known && is.value != t.angle ? 1 : 0;
        }
        std::cout << "known " << 100 * shares.share() << " % of the registers, the angle " << shares.angle_known << " times\n";
        return shares;
    }
};

TEST_F(StatesOfTheCop, WhereItWasHaltedAndNothingWasChangedNothingIsForgotten) {
    const Shares whole = states({});
    const Shares halted = states({.halted_each = 997});
    const Shares untold = states({.halted_each = 997, .told = false});
    for (const Shares& s : {whole, halted, untold}) {
        EXPECT_GT(s.asked, 20'000U);
        EXPECT_EQ(s.wrong, 0U);
    }
    EXPECT_GT(whole.share(), 0.3);
    EXPECT_NEAR(halted.share(), whole.share(), 0.01);
    EXPECT_LT(untold.share(), whole.share() - 0.1) << "what is not told is not guessed";
}

TEST_F(StatesOfTheCop, AnInterruptThatWaitedWhileItWasHaltedIsToldAndItsPlaceIsThatWhereItStood) {
    RvCore core(image, 3);
    EtraceEncoder encoder = cop_encoder(0);
    core.listen(&encoder);
    mt::StoodPlaces stood;
    std::uint64_t interrupts = 0;
    while (core.instructions() < 40'000) {
        const std::uint64_t before = core.instructions();
        const std::uint32_t at = core.pc();
        core.step();
        if (core.instructions() != before || core.pc() == at) continue;
        // That step took an interrupt and executed nothing: a debugger stood before it, and behind it.
        ++interrupts;
        core.halted();
        stood.add(core.pc(), false);
    }
    ASSERT_GT(interrupts, 5U);
    encoder.stop();
    std::vector<std::uint8_t> trace;
    encoder.drain(trace);
    mt::test::write_file(folder / "cop.etrace", trace);
    mt::test::write_file(folder / "cop.target.toml", std::string("format = \"mindful-trail-target/1\"\n[[core]]\nname = \"cop\"\nisa = \"rv32imac\"\nclock_hz = 10000000\n") +
                                                         "image = \"" MT_DEMO "/larkspur-cop.elf\"\n[[stream]]\nfile = \"cop.etrace\"\nprotocol = \"etrace\"\ncore = \"cop\"\n"
                                                         "[stream.etrace]\ntime_width = 40\ntimestamp_hz = 10000000\n");
    const auto opened = mt::test::decode(folder / "cop.target.toml");
    EXPECT_EQ(opened.trail->steps.at(0).steps, core.instructions());
    EXPECT_LE(opened.trail->steps.at(0).unmatched, 1U) << "each handler returns to whom it interrupted";
}

TEST_F(StatesOfTheCop, WhereADebuggerChangedSomethingTheStatesForgetIt) {
    const Shares told = states({.halted_each = 997, .changed_at = 30'000});
    EXPECT_EQ(told.wrong, 0U);
    // Held against a recorder that keeps it to itself: the test would see a wrong value.
    EXPECT_GT(states({.halted_each = 997, .changed_at = 30'000, .told_changed = false}).wrong, 0U);
}

}  // namespace
}  // namespace board
