// The board's RISC-V side with each optional mode of its encoder, and with all: the same run gives back the same instructions.
#include <gtest/gtest.h>

#include "etrace_encoder.h"
#include "replay/step_window.h"
#include "support.h"

namespace mt {
namespace {

struct ModesRun {
    std::vector<std::uint64_t> pcs;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> traps;  ///< step, and where the program goes on
    std::uint64_t gaps = 0, bytes = 0;
};

ModesRun run_with(std::uint32_t modes, std::uint64_t cycles) {
    const auto image = *Image::open(MT_DEMO "/larkspur-cop.elf");
    board::RvCore core(image, 3);
    board::EtraceEncoder encoder = board::cop_encoder(modes);
    core.listen(&encoder);
    core.run(cycles);
    encoder.stop();
    std::vector<std::uint8_t> trace;
    encoder.drain(trace);
    const test::Folder folder;
    test::write_file(folder / "cop.etrace", trace);
    test::write_file(folder / "cop.target.toml",
                     "format = \"mindful-trail-target/1\"\nname = \"cop\"\n[[core]]\nname = \"cop\"\nisa = \"rv32imac\"\n"
                     "clock_hz = 10000000\nimage = \"" MT_DEMO "/larkspur-cop.elf\"\n[[stream]]\nfile = \"cop.etrace\"\n"
                     "protocol = \"etrace\"\ncore = \"cop\"\n[stream.etrace]\ntime_width = 40\ntimestamp_hz = 10000000\n" +
                         board::cop_mode::target_keys(modes));
    const auto opened = test::decode(folder / "cop.target.toml");
    ModesRun out;
    const StepTrail& steps = opened.trail->steps.at(0);
    each_step_piece(*opened.recording, steps, 0, [&](const StepPiece& p) {
        std::uint32_t slot = p.run.first;
        for (std::uint32_t i = 0; i < p.run.count; ++i, slot = steps.code->next(slot)) out.pcs.push_back(steps.code->address(slot));
        return true;
    });
    for (std::size_t i = 0; i < steps.traps.size(); ++i) out.traps.emplace_back(steps.traps[i].step, steps.traps[i].trap.epc);
    for (std::size_t i = 0; i < steps.gaps.size(); ++i) out.gaps += is_missing(steps.gaps[i].gap.kind) ? 1U : 0U;
    out.bytes = trace.size();
    return out;
}

TEST(CopModes, GiveBackTheSameInstructionsAndExceptionsEachByItselfAndAllTogether) {
    constexpr std::uint64_t kCycles = 1'500'000;
    const ModesRun plain = run_with(0, kCycles);
    ASSERT_GT(plain.pcs.size(), 200'000U);
    ASSERT_GT(plain.traps.size(), 100U);
    ASSERT_EQ(plain.gaps, 0U);
    for (const char* names : {"implicit_return", "branch_prediction", "jump_target_cache", "implicit_exception",
                              "sequentially_inferred_jump", "full_address", "implicit_return,branch_prediction", "all"}) {
        const auto modes = board::cop_mode::named(names);
        ASSERT_TRUE(modes) << names;
        const ModesRun with = run_with(*modes, kCycles);
        EXPECT_EQ(with.gaps, 0U) << names;
        EXPECT_TRUE(with.pcs == plain.pcs) << names << ": " << with.pcs.size() << " instructions, not " << plain.pcs.size();
        EXPECT_TRUE(with.traps == plain.traps) << names;
        if (*modes == board::cop_mode::kAll) EXPECT_LT(with.bytes, plain.bytes) << "they are there to save bytes";
    }
    EXPECT_FALSE(board::cop_mode::named("implicit_return,faster"));
    EXPECT_EQ(board::cop_mode::named("none"), 0U);
}

}  // namespace
}  // namespace mt
