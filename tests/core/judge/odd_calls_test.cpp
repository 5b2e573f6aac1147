// Calls unlike their peers, in programs made for it: a loop that runs too long, a function that calls itself once.
#include <gtest/gtest.h>

#include <cstring>

#include "etrace_encoder.h"
#include "judge/finding.h"
#include "pass/reading.h"
#include "support.h"

namespace mt {
namespace {

// RISC-V instructions as words.
std::uint32_t addi(unsigned rd, unsigned rs1, int imm) {
    return static_cast<std::uint32_t>(imm) << 20 | rs1 << 15 | rd << 7 | 0x13;
}
std::uint32_t branch(unsigned f3, unsigned a, unsigned b, int offset) {
    const auto o = static_cast<std::uint32_t>(offset);
    return (o >> 12 & 1) << 31 | (o >> 5 & 0x3F) << 25 | b << 20 | a << 15 | f3 << 12 | (o >> 1 & 15) << 8 |
           (o >> 11 & 1) << 7 | 0x63;
}
std::uint32_t jal(unsigned rd, int offset) {
    const auto o = static_cast<std::uint32_t>(offset);
    return (o >> 20 & 1) << 31 | (o >> 1 & 0x3FF) << 21 | (o >> 11 & 1) << 20 | (o >> 12 & 0xFF) << 12 | rd << 7 | 0x6F;
}
constexpr std::uint32_t kRet = 0x00008067;

// Code, the functions in it, and the E-Trace of so many cycles of the board's core, as an opened recording.
struct Made {
    std::shared_ptr<Recording> recording = std::make_shared<Recording>();
    std::shared_ptr<const Trail> trail;
    test::Folder folder;

    Made(const std::vector<std::uint32_t>& words, const std::vector<std::pair<std::string, unsigned>>& functions,
         std::uint64_t cycles) {
        board::RvCore core(nullptr, 1);
        std::vector<std::uint8_t> bytes(words.size() * 4);
        std::memcpy(bytes.data(), words.data(), bytes.size());
        core.write(board::RvCore::kRam, bytes);
        board::EtraceEncoder encoder = board::cop_encoder();
        core.listen(&encoder);
        core.write_register(32, board::RvCore::kRam);
        core.run(cycles);
        encoder.stop();
        std::vector<std::uint8_t> trace;
        encoder.drain(trace);
        test::write_file(folder / "trace.bin", trace);
        Image::Piece piece;
        piece.address = board::RvCore::kRam;
        piece.bytes = bytes;
        recording->target.cores.push_back({});
        recording->target.cores[0].name = "cop";
        recording->target.cores[0].isa = "rv32imac";
        recording->target.cores[0].clock_hz = board::RvCore::kHz;
        StreamSpec spec;
        spec.core = "cop";
        spec.protocol = Protocol::etrace;
        spec.etrace.return_stack_size = 4;
        spec.etrace.time_width = 40;
        spec.timestamp_hz = board::RvCore::kHz;
        recording->target.streams.push_back(spec);
        recording->code = {Code::of(std::span(&piece, 1), "rv32imac")};
        std::vector<Function> all;
        for (std::size_t i = 0; i < functions.size(); ++i) {
            Function f;
            f.name = functions[i].first;
            f.address = board::RvCore::kRam + 4 * functions[i].second;
            f.entry = recording->code[0]->slot_of(f.address);
            f.end = i + 1 < functions.size()
                        ? recording->code[0]->slot_of(board::RvCore::kRam + 4 * functions[i + 1].second)
                        : recording->code[0]->slot_of(f.address) +
                              static_cast<std::uint32_t>(2 * (words.size() - functions[i].second));
            all.push_back(f);
        }
        recording->functions = {FunctionTable::of(all, *recording->code[0])};
        recording->images = {*Image::open(MT_DEMO "/larkspur-cop.elf")};  // only for lines, which this code has none of
        recording->exception_names.emplace_back();
        Recording::Stream stream;
        stream.file = *MappedFile::open(folder / "trace.bin");
        recording->step_streams.push_back(stream);
        Progress progress;
        const auto read = read_trail(*recording, progress);
        if (!read) throw std::runtime_error(read.error().text());
        trail = *read;
    }
    std::vector<Finding> findings() const { return find_all(*recording, *trail); }
};

// main: x8 counts calls; the callee loops x10 times: 3 as a rule, 60 when x8 is `odd`.
std::vector<std::uint32_t> one_long_call(int odd) {
    return {
        addi(8, 8, 1),         // 0 main: next call
        addi(10, 0, 3),        // 1
        addi(5, 8, -odd),      // 2
        branch(1, 5, 0, 8),    // 3 unless it is the odd one
        addi(10, 0, 60),       // 4
        jal(1, 8),             // 5 call settle (7)
        jal(0, -24),           // 6 again
        addi(10, 10, -1),      // 7 settle
        branch(1, 10, 0, -4),  // 8
        kRet,                  // 9
    };
}

TEST(OddCalls, ACallMuchLongerThanItsPeersIsFoundWithWhatItRanMoreOften) {
    const Made made(one_long_call(777), {{"main", 0}, {"settle", 7}}, 30'000);
    const auto all = made.findings();
    ASSERT_EQ(all.size(), 1U);
    EXPECT_EQ(all[0].kind, FindingKind::duration_outlier);
    EXPECT_EQ(all[0].involved[0].name, "settle");
    EXPECT_NE(all[0].title.find("× its usual time"), std::string::npos) << all[0].title;
    EXPECT_NE(all[0].cause.find("12.1 µs against"), std::string::npos) << all[0].cause;
    ASSERT_TRUE(all[0].about);
    const CallSpan& span = made.trail->steps[0].levels[all[0].about->level][all[0].about->index];
    EXPECT_EQ(span.length, Time::from_us(12.1)) << "60 rounds of two cycles, and the return";
}

TEST(OddCalls, CallsThatAreAllAlikeAreNotFound) {
    const Made made(one_long_call(0), {{"main", 0}, {"settle", 7}}, 30'000);
    EXPECT_TRUE(made.findings().empty());
    EXPECT_GT(made.trail->steps[0].tallies[2].calls, 1'500U);
}

TEST(OddCalls, AFunctionThatCallsItselfOnlyOnceIsFound) {
    const Made made(
        {
            addi(8, 8, 1),        // 0 main: next call
            jal(1, 12),           // 1 call poll (4)
            jal(0, -8),           // 2 again
            addi(0, 0, 0),        // 3
            addi(5, 8, -333),     // 4 poll
            branch(1, 5, 0, 20),  // 5 unless it is the odd one: to 10
            addi(8, 8, 1),        // 6 the inner one is not
            addi(18, 1, 0),       // 7
            jal(1, -16),          // 8 calls itself (4)
            addi(1, 18, 0),       // 9
            kRet,                 // 10
        },
        {{"main", 0}, {"poll", 4}}, 20'000);
    ASSERT_GT(made.trail->steps[0].tallies[2].calls, 1'000U);
    EXPECT_EQ(made.trail->steps[0].tallies[2].recursive, 1U);
    bool found = false;
    for (const Finding& f : made.findings())
        if (f.kind == FindingKind::unexpected_recursion) {
            found = true;
            EXPECT_EQ(f.involved[0].name, "poll");
            EXPECT_EQ(f.alike, 1U);
        }
    EXPECT_TRUE(found);
}

// What both a handler and the code under it call is at times entered twice, and a kernel is called in bursts: both are
// as they are meant to be.
TEST(CleanRunsOfAProfile, GiveNoFindingsButTheFaultsTheyHold) {
    for (const char* capture : {"arm-pft-mount-bb", "arm-etm-a-mount"}) {
        const auto o = test::decode(test::data("steps/" + std::string(capture) + "/recording.target.toml"));
        EXPECT_EQ(o.trail->cores[0].running_name(0), "outside handlers") << "there is no thread mode";
        std::size_t faults = 0;
        for (const Finding& f : find_all(*o.recording, *o.trail)) {
            EXPECT_EQ(f.kind, FindingKind::fault) << capture << ": " << f.title;
            faults += f.kind == FindingKind::fault ? 1U : 0U;
        }
        EXPECT_GT(faults, 0U) << capture;
    }
}

}  // namespace
}  // namespace mt
