// Firmware that an emulator executes, told as ETMv4 trace: what is decoded is what was executed, instruction by
// instruction.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <numeric>

#include "emulator_log.h"
#include "process.h"
#include "replay/step_window.h"
#include "support.h"

namespace mt {
namespace {

const std::string kElf = MT_FIRMWARE "/guider.elf";
constexpr std::uint64_t kInstructions = 300'000;

// The log of the emulator, as far as it executed so many instructions; made once.
const std::vector<std::string>& emulated() {
    static const std::vector<std::string> all = [] {
        const test::Folder folder;
        const std::string pipe = folder / "log";
        ::mkfifo(pipe.c_str(), 0600);
        test::Process qemu({"qemu-system-arm", "-M", "mps2-an386", "-display", "none", "-monitor", "none", "-serial",
                            "none", "-icount", "shift=5", "-kernel", kElf, "-d", "exec,nochain,int,in_asm", "-D",
                            pipe});
        std::ifstream in(pipe);
        std::vector<std::string> lines;
        const auto image = Image::open(kElf);
        board::Etm4Encoder encoder({});
        board::EmulatorLog log(**image, encoder);
        for (std::string line; log.steps() < kInstructions && std::getline(in, line);) {
            log.line(line);
            lines.push_back(line);
        }
        return lines;
    }();
    return all;
}

struct Case {
    const char* name;
    board::Etm4Setup setup;
};

class EmulatedSteps : public testing::TestWithParam<Case> {
  protected:
    void SetUp() override {
        if (std::filesystem::exists(kElf)) return;
        if (std::getenv("CI") != nullptr) FAIL() << "clang-14 and lld-14 are needed to build the firmware";
        GTEST_SKIP() << "clang-14 and lld-14 are not installed: the firmware was not built";
    }
    test::Folder folder_;
};

TEST_P(EmulatedSteps, AreDecodedAsTheyWereExecuted) {
    const auto image = Image::open(kElf);
    ASSERT_TRUE(image);
    board::Etm4Encoder encoder(GetParam().setup);
    std::vector<std::pair<std::uint32_t, std::uint32_t>> ran;
    std::vector<std::uint64_t> exceptions;  // instructions before each
    std::uint64_t steps = 0;
    board::EmulatorLog log(**image, encoder, [&](std::uint32_t address, std::uint32_t instructions) {
        if (instructions == 0) exceptions.push_back(steps);
        steps += instructions;
        ran.push_back({address, instructions});
    });
    for (const std::string& line : emulated()) log.line(line);
    ASSERT_GT(log.told(), kInstructions / 2);
    std::vector<std::uint8_t> bytes;
    encoder.drain(bytes, true);
    test::write_file(folder_ / "x.etm4", bytes);
    test::write_file(folder_ / "x.target.toml",
                     "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\nisa = \"armv7e-m\"\nclock_hz = "
                     "31_250_000\nimage = \"" +
                         kElf +
                         "\"\n[[stream]]\nfile = \"x.etm4\"\nprotocol = \"etm4\"\ncore = \"main\"\n[stream.etm4]\n"
                         "timestamp_hz = 31_250_000\nreturn_stack = " +
                         (GetParam().setup.return_stack ? "true" : "false") + "\n");
    const auto o = test::decode(folder_ / "x.target.toml");
    const StepTrail& t = o.trail->steps[0];
    EXPECT_EQ(t.steps, log.told());
    EXPECT_EQ(t.contradictions, 0U);
    EXPECT_EQ(t.bad_bytes, 0U);

    // Each instruction's address.
    std::vector<std::uint64_t> executed, decoded;
    const auto add = [&](std::uint32_t slot, std::uint32_t count, std::vector<std::uint64_t>& to) {
        for (std::uint32_t i = 0; i < count; ++i, slot = t.code->next(slot)) to.push_back(t.code->address(slot));
    };
    for (const auto& [address, count] : ran) add(t.code->slot_of(address), count, executed);
    each_step_piece(*o.recording, t, 0, [&](const StepPiece& p) {
        add(p.run.first, p.run.count, decoded);
        return true;
    });
    ASSERT_EQ(decoded.size(), executed.size());
    const auto differs = std::mismatch(executed.begin(), executed.end(), decoded.begin());
    EXPECT_EQ(differs.first, executed.end()) << "at instruction " << differs.first - executed.begin();

    // Exceptions, and calls.
    ASSERT_EQ(t.traps.size(), exceptions.size());
    EXPECT_GT(exceptions.size(), 10U);
    for (std::size_t i = 0; i < exceptions.size(); ++i) EXPECT_EQ(t.traps[i].step, exceptions[i]);
    std::uint64_t calls = 0;
    for (std::uint32_t i = 0; i < t.functions->size(); ++i) {
        const FunctionTally& f = t.tallies[i];
        EXPECT_EQ(f.steps, log.executed()[i]) << (*t.functions)[i].name;
        if ((*t.functions)[i].name == "start") continue;  // nobody called it
        EXPECT_EQ(f.calls + f.left_out, log.entered()[i]) << (*t.functions)[i].name;
        calls += f.calls;
    }
    EXPECT_GT(calls, 2'000U);
}

board::Etm4Setup setup(bool return_stack, bool timestamps, unsigned sync_bytes, std::uint64_t stamp_each) {
    return {return_stack, timestamps, sync_bytes, stamp_each};
}

INSTANTIATE_TEST_SUITE_P(Setups, EmulatedSteps,
                         testing::Values(Case{"Plain", setup(false, true, 1024, 256)},
                                         Case{"ReturnStack", setup(true, true, 1024, 256)},
                                         Case{"ManySynchronisations", setup(true, true, 64, 4096)},
                                         Case{"NoTimestampsAndOneSynchronisation", setup(false, false, 0, 256)}),
                         [](const auto& info) { return std::string(info.param.name); });

}  // namespace
}  // namespace mt
