// Random Thumb-2 programs, walked with exceptions at random, their ETMv4 trace, and back to the same instructions.
#include <gtest/gtest.h>

#include "calls_told.h"
#include "flow/step_log.h"
#include "flow/step_pipe.h"
#include "support.h"
#include "thumb_program.h"
#include "thumb_walk.h"

namespace mt {
namespace {

struct Etm4History {
    std::vector<std::uint32_t> pcs;
    struct Exception {
        std::size_t at = 0;
        std::uint32_t number = 0;
        bool operator==(const Exception&) const = default;
    };
    std::vector<Exception> exceptions;
    void run(const Code& code, std::uint32_t first, std::uint32_t last) {
        for (std::uint32_t s = first;; s = code.next(s)) {
            pcs.push_back(static_cast<std::uint32_t>(code.address(s)));
            if (s == last) break;
        }
    }
};

struct Etm4Follower {
    const Code& code;
    Etm4History history;
    std::vector<std::string> gaps;
    std::size_t syncs = 0;
    std::uint64_t latest = 0;
    bool backwards = false;
    void run(const StepRun& r) {
        std::uint32_t s = r.first;
        for (std::uint32_t n = 0; n < r.count; ++n, s = code.next(s))
            history.pcs.push_back(static_cast<std::uint32_t>(code.address(s)));
    }
    void trap(const StepTrap& t) { history.exceptions.push_back({history.pcs.size(), t.number}); }
    void trap_return() {}
    void gap(const StepGap& g) {
        if (g.kind != StepGapKind::stopped && g.kind != StepGapKind::lead_in) gaps.emplace_back(g.reason);
    }
    void time(const StepTime& t) {
        backwards = backwards || t.ticks < latest;
        latest = t.ticks;
    }
    void sync(std::uint64_t) { ++syncs; }
};

struct Walked {
    Etm4History truth;
    std::vector<std::uint8_t> trace;
    std::shared_ptr<const Code> code;
    std::shared_ptr<const FunctionTable> functions;
};

constexpr unsigned kFunctions = 9, kHandlers = 3;

Walked walk(std::uint64_t seed, const board::Etm4Setup& setup) {
    Walked w;
    const test::ThumbProgram program(seed, kFunctions, kHandlers);
    w.code = program.code();
    w.functions = program.functions();
    board::Etm4Encoder encoder(setup);
    board::ThumbWalk core(w.code, w.functions, &encoder, seed,
                          [&](std::uint32_t first, std::uint32_t last) { w.truth.run(*w.code, first, last); });
    std::mt19937_64 random(seed + 1);
    std::uint64_t now = 1000;
    for (unsigned t = 0; t < 3; ++t) core.thread(t, "f" + std::to_string(t), now);
    unsigned depth = 0;
    const auto enter = [&](bool chained, unsigned number) {
        core.enter(number, "f" + std::to_string(kFunctions - kHandlers + random() % kHandlers), now, chained);
        w.truth.exceptions.push_back({w.truth.pcs.size(), number});
        ++depth;
    };
    for (int i = 0; i < 600; ++i) {
        const std::uint64_t until = now + random() % 120;
        core.run(random() % 3 == 0 && depth == 0 ? "f" + std::to_string(random() % 6) : std::string(), now, until);
        now = until;
        if (depth < 3 && random() % 2 == 0) {
            constexpr unsigned numbers[] = {11, 14, 15, 16, 23, 24, 70, 300};
            enter(false, depth == 0 ? numbers[random() % 8] : numbers[2 + random() % 6]);
        } else if (depth > 0) {
            const bool chained = random() % 4 == 0;
            if (depth == 1) core.switch_to(static_cast<unsigned>(random() % 3));
            now += random() % 20;
            core.leave(now, chained);
            --depth;
            if (chained) enter(true, 15);
        }
        encoder.drain(w.trace, false);
    }
    encoder.drain(w.trace, true);
    return w;
}

StreamSpec spec_of(const board::Etm4Setup& setup) {
    StreamSpec spec;
    spec.protocol = Protocol::etm4;
    spec.etm4.return_stack = setup.return_stack;
    return spec;
}

class RandomThumbPrograms : public testing::TestWithParam<std::uint64_t> {};

TEST_P(RandomThumbPrograms, AreFollowedInstructionByInstruction) {
    const std::uint64_t seed = GetParam();
    board::Etm4Setup setup;
    setup.return_stack = seed % 2 == 0;
    setup.sync_bytes = setup.return_stack ? 0 : 300;
    setup.stamp_each = 40 + seed % 100;
    const Walked w = walk(seed, setup);
    ASSERT_GT(w.truth.pcs.size(), 500u);
    StepPipe pipe(spec_of(setup), w.code, {});
    Etm4Follower f{*w.code, {}, {}};
    std::mt19937_64 random(seed);
    for (std::size_t at = 0; at < w.trace.size();) {
        const std::size_t n = std::min<std::size_t>(w.trace.size() - at, 1 + random() % 64);
        pipe.feed(std::span(w.trace).subspan(at, n), f);
        at += n;
    }
    pipe.finish(f);
    EXPECT_TRUE(f.gaps.empty()) << f.gaps.front();
    EXPECT_EQ(pipe.bad_bytes(), 0u);
    EXPECT_FALSE(f.backwards);
    if (setup.sync_bytes != 0) EXPECT_GT(f.syncs, 3u);
    // What runs after the last branch is not told.
    ASSERT_LE(f.history.pcs.size(), w.truth.pcs.size());
    ASSERT_GT(f.history.pcs.size() + 40, w.truth.pcs.size());
    for (std::size_t i = 0; i < f.history.pcs.size(); ++i)
        ASSERT_EQ(f.history.pcs[i], w.truth.pcs[i]) << "instruction " << i << " of " << w.truth.pcs.size();
    EXPECT_EQ(f.history.exceptions, w.truth.exceptions);
}

// The same through the table of stretches walked before: every instruction counted as often.
TEST_P(RandomThumbPrograms, AreCountedAlikeByHops) {
    const std::uint64_t seed = GetParam();
    board::Etm4Setup setup;
    setup.return_stack = seed % 2 == 0;
    setup.sync_bytes = 0;
    const Walked w = walk(seed, setup);
    StepPipe plain(spec_of(setup), w.code, {}), hopping = plain;
    Etm4Follower f{*w.code, {}, {}};
    plain.feed(w.trace, f);
    plain.finish(f);
    std::size_t hops = 0;
    StepLog log(w.code, w.functions, [&](std::unique_ptr<StepBlock> block) {
        for (const auto& i : block->items()) hops += i.kind == StepBlock::Item::Kind::hop;
        block->clear();
        return block;
    });
    hopping.feed(w.trace, log);
    hopping.finish(log);
    log.flush();
    const auto counted = StepCounters{log.counts(), {}}.executions(*w.code);
    std::vector<std::uint64_t> truth(counted.size());
    for (const std::uint32_t pc : f.history.pcs) ++truth[w.code->slot_of(pc)];
    EXPECT_EQ(counted, truth);
    EXPECT_GT(hops, 10u);
}

// The same calls, with their places, whether stretches are taken as a whole or run by run.
TEST(RandomThumbPrograms, HopsOverCallsAndReturnsTellTheSameAsTheirRuns) {
    std::size_t hopped = 0, none = 0;
    for (std::uint64_t seed = 101; seed <= 116; ++seed) {
        board::Etm4Setup setup;
        setup.return_stack = seed % 2 == 0;
        setup.sync_bytes = setup.return_stack ? 0 : 300;
        const Walked w = walk(seed, setup);
        const auto feed = [&](auto& out) {
            StepPipe pipe(spec_of(setup), w.code, {});
            // In pieces: a stretch may end anywhere.
            for (std::size_t at = 0; at < w.trace.size(); at += 50)
                pipe.feed(std::span(w.trace).subspan(at, std::min<std::size_t>(50, w.trace.size() - at)), out);
            pipe.finish(out);
        };
        const std::string with = test::calls_told(w.code, w.functions, true, hopped, feed),
                          without = test::calls_told(w.code, w.functions, false, none, feed);
        ASSERT_GT(without.size(), 500U);
        EXPECT_TRUE(with == without) << "seed " << seed;
    }
    EXPECT_GT(hopped, 20U) << "hops over calls were taken";
    EXPECT_EQ(none, 0U);
}

INSTANTIATE_TEST_SUITE_P(OfChance, RandomThumbPrograms, testing::Range<std::uint64_t>(1, 33));

// A trace that is taken up in its middle knows the same from its next synchronisation on.
TEST(RandomThumbPrograms, AreTakenUpAtAnySynchronisation) {
    board::Etm4Setup setup;
    setup.sync_bytes = 200;
    const Walked w = walk(77, setup);
    StepPipe pipe(spec_of(setup), w.code, {});
    Etm4Follower f{*w.code, {}, {}};
    pipe.feed(std::span(w.trace).subspan(w.trace.size() / 2), f);
    pipe.finish(f);
    ASSERT_GT(f.history.pcs.size(), 300u);
    EXPECT_TRUE(f.gaps.empty()) << f.gaps.front();
    // Its end is the truth's end, but for what runs after the last branch.
    const auto& all = w.truth.pcs;
    const auto found = std::search(all.begin(), all.end(), f.history.pcs.begin(), f.history.pcs.end());
    ASSERT_NE(found, all.end());
    EXPECT_GT(static_cast<std::size_t>(found - all.begin()) + f.history.pcs.size() + 40, all.size());
}

TEST(TheMountsTrace, OfItsFaultAgreesWithItsOtherTrace) {
    const auto opened = test::decode(test::demo("larkspur.target.toml"));
    const StepTrail* steps = nullptr;
    for (const StepTrail& t : opened.trail->steps)
        if (t.core == "main") steps = &t;
    ASSERT_NE(steps, nullptr);
    EXPECT_EQ(steps->contradictions, 0u);
    EXPECT_GT(steps->steps, 5000u);
    // The same exceptions at the same moments as the event trace of the same core, to within the encoder's delay.
    const CoreTrail& core = opened.trail->cores[steps->core_index];
    std::size_t compared = 0;
    for (std::size_t i = 0; i < steps->traps.size(); ++i) {
        const StepTrapAt& t = steps->traps[i];
        const auto lane = core.lane_index(static_cast<std::uint16_t>(t.trap.number));
        ASSERT_TRUE(lane) << t.trap.number;
        const std::size_t next = core.lanes[*lane].first_from(t.time - Time::from_us(1));
        ASSERT_LT(next, core.lanes[*lane].size()) << t.trap.number;
        EXPECT_LE(std::llabs((core.lanes[*lane].begin(next) - t.time).ps), Time::from_us(1).ps) << t.trap.number;
        ++compared;
    }
    EXPECT_GT(compared, 15u);
}

}  // namespace
}  // namespace mt
