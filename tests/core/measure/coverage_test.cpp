// Coverage of recordings whose truth was made independently of this program: every instruction, branch, line, function.
#include <gtest/gtest.h>

#include <map>
#include <sstream>
#include <string>

#include "measure/coverage.h"
#include "share/cover_tables.h"
#include "small_build.h"
#include "support.h"

namespace mt {
namespace {

Coverage coverage_of(const test::Opened& opened) {
    const StepTrail& steps = opened.trail->steps[0];
    return Coverage::of(steps.code, steps.functions,
                        SourceMap::of(*opened.recording->images[steps.core_index], *steps.code), CoverCounts::of(steps));
}

struct Recorded {
    const char *folder, *truth;
};
class CoverageOf : public ::testing::TestWithParam<Recorded> {};

// Lines of the truth: "i ADDRESS COUNT [TAKEN NOT_TAKEN]", "l FILE LINE COUNT", "f ADDRESS CALLS INSTRUCTIONS RUN
// BRANCHES BOTH".
TEST_P(CoverageOf, EveryInstructionBranchLineAndFunctionIsTheTruth) {
    const auto opened = test::decode(test::data(std::string("steps/") + GetParam().folder + "/recording.target.toml"));
    const Coverage all = coverage_of(opened);
    std::map<std::uint64_t, const CoverFunction*> functions;
    for (const CoverFunction& f : all.functions) functions[f.address] = &f;
    std::size_t instructions = 0, lines = 0, branches = 0, named = 0;
    for (const std::string& text : test::lines(test::read_text(test::data(std::string("steps/") + GetParam().truth + "/coverage.txt")))) {
        std::istringstream row(text);
        std::string what, name;
        row >> what >> name;
        if (what == "i") {
            const std::uint64_t address = std::stoull(name, nullptr, 16);
            const std::uint32_t slot = all.code->slot_of(address);
            std::uint64_t count = 0, taken = 0, not_taken = 0;
            row >> count;
            EXPECT_TRUE(all.map->is_instruction(slot)) << name;
            EXPECT_EQ(all.counts.executions[slot], count) << name;
            const bool branch = static_cast<bool>(row >> taken >> not_taken);
            EXPECT_EQ(decides((*all.code)[slot].flow, (*all.code)[slot].flags), branch) << name;
            if (branch) {
                EXPECT_EQ(all.counts.taken[slot], taken) << name;
                EXPECT_EQ(count - all.counts.taken[slot] - all.counts.undecided[slot], not_taken) << name;
                ++branches;
            }
            ++instructions;
        } else if (what == "l") {
            std::uint32_t line = 0;
            std::uint64_t count = 0;
            row >> line >> count;
            const CoverFile* file = all.file(name);
            ASSERT_NE(file, nullptr) << name;
            const auto at = std::find_if(file->lines.begin(), file->lines.end(), [&](const CoverLine& l) { return l.line == line; });
            ASSERT_NE(at, file->lines.end()) << name << ":" << line;
            EXPECT_EQ(at->count, count) << name << ":" << line;
            ++lines;
        } else {
            const auto f = functions.find(std::stoull(name, nullptr, 16));
            ASSERT_NE(f, functions.end()) << name;
            std::uint64_t calls = 0, total = 0, run = 0, decide = 0, both = 0;
            row >> calls >> total >> run >> decide >> both;
            EXPECT_EQ(f->second->calls, calls) << f->second->name;
            EXPECT_EQ(f->second->sums.instructions, total) << f->second->name;
            EXPECT_EQ(f->second->sums.instructions_run, run) << f->second->name;
            EXPECT_EQ(f->second->sums.branches, decide) << f->second->name;
            EXPECT_EQ(f->second->sums.branches_both, both) << f->second->name;
            ++named;
        }
    }
    EXPECT_EQ(lines, all.sums.lines);
    EXPECT_EQ(branches, all.sums.branches);
    EXPECT_EQ(named, all.functions.size());
    EXPECT_GT(instructions, 500U);
}
INSTANTIATE_TEST_SUITE_P(Mount, CoverageOf,
                         ::testing::Values(Recorded{"arm-etm-mount", "arm-etm-mount"},
                                           Recorded{"arm-etm-mount-cc", "arm-etm-mount"},
                                           Recorded{"arm-etm-mount-rs", "arm-etm-mount"},
                                           Recorded{"arm-mtb-paddle", "arm-mtb-paddle"},
                                           Recorded{"rv-etrace-mount", "rv-etrace-mount"},
                                           Recorded{"rv-etrace-mount-return", "rv-etrace-mount"},
                                           Recorded{"rv-ntrace-mount-htm", "rv-etrace-mount"}),
                         [](const auto& p) {
                             std::string name = p.param.folder;
                             std::replace(name.begin(), name.end(), '-', '_');
                             return name;
                         });

TEST(CoverageOfOthers, TwoRecordingsAddUp) {
    const auto opened = test::decode(test::data("steps/arm-mtb-paddle/recording.target.toml"));
    CoverCounts twice = CoverCounts::of(opened.trail->steps[0]);
    const CoverCounts once = twice;
    twice.add(once);
    for (std::size_t s = 0; s < once.executions.size(); ++s) {
        ASSERT_EQ(twice.executions[s], 2 * once.executions[s]);
        ASSERT_EQ(twice.taken[s], 2 * once.taken[s]);
    }
}

// A function keeps its coverage in another build if it is byte for byte the same, wherever it stands there.
TEST(CoverageOfOthers, AnotherBuildKeepsWhatIsTheSameByteForByte) {
    using test::kAddCode, test::kSubCode;
    CoverOf older = test::small_build({{"plus", kAddCode}, {"minus", kSubCode}, {"gone", kAddCode}});
    for (auto& n : older.counts.executions) n = 7;
    CoverOf newer = test::small_build({{"fresh", kSubCode}, {"minus", kAddCode}, {"plus", kAddCode}});
    const CoverMoved moved = add_older(newer, older);
    EXPECT_EQ(moved.kept, std::vector<std::string>{"plus"});
    EXPECT_EQ(moved.changed, std::vector<std::string>{"minus"});
    EXPECT_EQ(moved.gone, std::vector<std::string>{"gone"});
    EXPECT_EQ(newer.counts.executions[newer.code->slot_of(0x108)], 7U);
    EXPECT_EQ(newer.counts.executions[newer.code->slot_of(0x104)], 0U);
    EXPECT_FALSE(newer.same_code(older));
    EXPECT_TRUE(newer.same_code(newer));
}

// geninfo(1), "FILES": one record a source file.
TEST(CoverageOfOthers, TheTracefileHasEveryLineAndBothWaysOfEachBranch) {
    const auto opened = test::decode(test::data("steps/arm-mtb-paddle/recording.target.toml"));
    const std::vector<CoverOfCore> all = {{"main", coverage_of(opened)}};
    std::ostringstream out;
    write_lcov(all, {}, out);
    std::size_t lines = 0, branches = 0, files = 0, ends = 0;
    for (const std::string& l : test::lines(out.str())) {
        lines += l.rfind("DA:", 0) == 0;
        branches += l.rfind("BRDA:", 0) == 0;
        files += l.rfind("SF:", 0) == 0;
        ends += l == "end_of_record";
    }
    EXPECT_EQ(lines, all[0].coverage.sums.lines);
    EXPECT_EQ(branches, 2 * all[0].coverage.sums.branches);
    EXPECT_EQ(files, ends);
    EXPECT_NE(out.str().find("DA:4,3945\n"), std::string::npos);
}

}  // namespace
}  // namespace mt
