// Random Thumb-2 programs, walked with exceptions at random, their PFT and ETMv3 trace, and back to the same instructions.
#include <gtest/gtest.h>

#include "flow/step_log.h"
#include "flow/step_pipe.h"
#include "older_trace.h"

namespace mt {
namespace {

using test::OlderWalk;

struct OlderFollower {
    const Code& code;
    std::vector<std::uint32_t> slots{};
    std::vector<std::pair<std::size_t, std::uint32_t>> exceptions{};
    std::vector<std::string> gaps{};
    void run(const StepRun& r) {
        std::uint32_t s = r.first;
        for (std::uint32_t n = 0; n < r.count; ++n, s = code.next(s)) slots.push_back(s);
    }
    void trap(const StepTrap& t) { exceptions.emplace_back(slots.size(), t.number >= ExceptionId::kPftTypes ? t.number - ExceptionId::kPftTypes : t.number); }
    void trap_return() {}
    void gap(const StepGap& g) {
        if (g.kind != StepGapKind::stopped && g.kind != StepGapKind::lead_in) gaps.emplace_back(g.reason);
    }
    void time(const StepTime&) {}
    void sync(std::uint64_t) {}
};

void follow_older(const OlderWalk& w, const StreamSpec& spec, const std::vector<std::uint8_t>& trace, std::uint64_t seed) {
    StepPipe pipe(spec, w.code, {});
    const StepPipe fresh = pipe;
    OlderFollower f{*w.code};
    std::mt19937_64 random(seed);
    for (std::size_t at = 0; at < trace.size();) {
        const std::size_t n = std::min<std::size_t>(trace.size() - at, 1 + random() % 64);
        pipe.feed(std::span(trace).subspan(at, n), f);
        at += n;
    }
    pipe.finish(f);
    EXPECT_TRUE(f.gaps.empty()) << f.gaps.front() << " at " << f.slots.size() << " of " << w.slots.size();
    EXPECT_EQ(pipe.bad_bytes(), 0U);
    ASSERT_LE(f.slots.size(), w.slots.size());
    ASSERT_GT(f.slots.size() + 60, w.slots.size()) << "but for what ran behind the last waypoint";
    for (std::size_t i = 0; i < f.slots.size(); ++i) ASSERT_EQ(f.slots[i], w.slots[i]) << "instruction " << i << " of " << w.slots.size();
    auto wanted = w.exceptions;
    std::erase_if(wanted, [&w](const auto& e) { return e.first >= w.slots.size(); });  // nothing of its handler ran
    for (auto& e : wanted)
        if (spec.protocol == Protocol::pft) e.second = std::min(e.second & 0x1FFu, 0xFFu);
    EXPECT_EQ(f.exceptions, wanted);
    // The same through the table of stretches that were walked before.
    StepPipe hopping = fresh;
    StepLog log(w.code, w.functions, [](std::unique_ptr<StepBlock> block) {
        block->clear();
        return block;
    });
    hopping.feed(trace, log);
    hopping.finish(log);
    log.flush();
    const auto counted = StepCounters{log.counts(), {}}.executions(*w.code);
    std::vector<std::uint64_t> truth(counted.size());
    for (const std::uint32_t s : f.slots) ++truth[s];
    EXPECT_EQ(counted, truth);
}

class RandomProgramsOfOlderTrace : public testing::TestWithParam<std::uint64_t> {};

TEST_P(RandomProgramsOfOlderTrace, AreFollowedByPft) {
    const std::uint64_t seed = GetParam();
    const OlderWalk w = test::older_walk(seed);
    ASSERT_GT(w.slots.size(), 300U);
    StreamSpec spec;
    spec.protocol = Protocol::pft;
    spec.pft.return_stack = seed % 2 == 0;
    spec.pft.branch_broadcast = seed % 3 == 0;
    spec.pft.cycle_accurate = seed % 5 == 0;
    spec.pft.context_id_bytes = seed % 4 == 0 ? 4 : 0;
    follow_older(w, spec, test::PftEncoder(w, spec.pft, seed).bytes, seed);
}

TEST_P(RandomProgramsOfOlderTrace, AreFollowedByEtm3) {
    const std::uint64_t seed = GetParam();
    const OlderWalk w = test::older_walk(seed);
    StreamSpec spec;
    spec.protocol = Protocol::etm3;
    spec.etm3.alternative_branch = seed % 2 == 0;
    spec.etm3.cycle_accurate = seed % 3 == 0;
    follow_older(w, spec, test::Etm3Encoder(w, spec.etm3, seed).bytes, seed);
}

INSTANTIATE_TEST_SUITE_P(OfChance, RandomProgramsOfOlderTrace, testing::Range<std::uint64_t>(1, 33));

}  // namespace
}  // namespace mt
