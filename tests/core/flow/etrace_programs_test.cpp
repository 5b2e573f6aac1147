// Random programs on the board's core, their E-Trace in every option, and back to the same instructions.
#include <gtest/gtest.h>

#include <algorithm>

#include "calls_told.h"
#include "etrace_encoder.h"
#include "flow/etrace_flow.h"
#include "flow/step_log.h"
#include "pass/step_reader.h"
#include "rv_program.h"

namespace mt {
namespace {

using Option = EtraceParameters::Option;

// What happened: instructions by address, and exceptions by the number of instructions before them.
struct History {
    std::vector<std::uint32_t> pcs;
    struct Exception {
        std::size_t at = 0;
        std::uint32_t cause = 0, epc = 0;
        bool interrupt = false, epc_known = true;
        bool operator==(const Exception& o) const {
            return at == o.at && cause == o.cause && interrupt == o.interrupt &&
                   (!epc_known || !o.epc_known || epc == o.epc);
        }
    };
    std::vector<Exception> exceptions;
};

struct Watcher : board::RvListener {
    Watcher(board::EtraceEncoder& e, History& h) : encoder(e), history(h) {}
    void retired(const board::RvRetired& insn) override {
        history.pcs.push_back(insn.pc);
        encoder.retired(insn);
    }
    void trapped(const board::RvTrapped& t) override {
        history.exceptions.push_back({history.pcs.size(), t.cause, t.epc, t.interrupt, true});
        encoder.trapped(t);
    }
    void restarted() override {}
    board::EtraceEncoder& encoder;
    History& history;
};

struct Follower {
    const Code& code;
    History history;
    std::vector<std::string> gaps;
    std::size_t syncs = 0, traps_with_epc = 0;
    void run(const StepRun& r) {
        for (std::uint32_t s = r.first, n = 0; n < r.count; ++n, s = code.next(s))
            history.pcs.push_back(static_cast<std::uint32_t>(code.address(s)));
    }
    void trap(const StepTrap& t) {
        history.exceptions.push_back(
            {history.pcs.size(), t.number, static_cast<std::uint32_t>(t.epc), t.interrupt, t.epc_known});
        traps_with_epc += t.epc_known;
    }
    void trap_return() {}
    void gap(const StepGap& g) {
        if (g.kind != StepGapKind::stopped) gaps.emplace_back(g.reason);
    }
    void time(const StepTime&) {}
    void sync(std::uint64_t) { ++syncs; }
};

struct Encoding {
    const char* name;
    std::vector<Option> on;
    unsigned return_stack = 0, bpred = 0, cache = 0, time = 0;
    std::uint64_t above = 0;  ///< of addresses: the same program that much higher, as RV64
};

struct Traced {
    History truth;
    std::vector<std::uint8_t> trace;
    std::shared_ptr<const Code> code;
};

// A random program, run for so many instructions with a synchronisation each `sync_each`.
Traced traced(std::uint64_t seed, const EtraceParameters& parameters, const EtraceOptions& options, unsigned sync_each,
              std::uint64_t instructions, std::uint64_t above = 0) {
    Traced t;
    const RvProgram program(seed);
    board::RvCore core(nullptr, seed);
    program.load(core);
    board::EtraceEncoder encoder(parameters, options, sync_each);
    encoder.run_above(above);
    Watcher watcher(encoder, t.truth);
    core.listen(&watcher);
    core.run(instructions);
    encoder.stop();
    encoder.drain(t.trace);
    const auto bytes = program.bytes();
    Image::Piece piece;
    piece.address = board::RvCore::kRam + above;
    piece.bytes = bytes;
    t.code = Code::of(std::span(&piece, 1), above > 0 ? "rv64imac" : "rv32imac");
    return t;
}

// Decodes and follows the bytes in random pieces.
void follow(const std::vector<std::uint8_t>& trace, const EtraceParameters& parameters,
            std::shared_ptr<const Code> code, std::mt19937_64& random, Follower& out) {
    EtraceDecoder decoder(parameters);
    EtraceFlow flow(std::move(code), parameters);
    std::vector<EtracePacket> packets;
    for (std::size_t at = 0; at < trace.size();) {
        const std::size_t n = std::min<std::size_t>(trace.size() - at, 1 + random() % 5000);
        decoder.feed(std::span(trace).subspan(at, n), packets);
        flow.feed(std::span<const EtracePacket>(packets), out);
        packets.clear();
        at += n;
    }
    decoder.finish(packets);
    flow.feed(std::span<const EtracePacket>(packets), out);
}

class EtraceInEachOption : public ::testing::TestWithParam<Encoding> {};

TEST_P(EtraceInEachOption, GivesBackEveryInstructionAndException) {
    const Encoding& setup = GetParam();
    EtraceParameters parameters;
    parameters.return_stack_size = setup.return_stack;
    parameters.bpred_size = setup.bpred;
    parameters.cache_size = setup.cache;
    parameters.time_width = setup.time;
    if (setup.above > 0) parameters.iaddress_width = 64;
    EtraceOptions options{};
    for (const Option o : setup.on) options[static_cast<std::size_t>(o)] = true;
    std::size_t instructions = 0, exceptions = 0;
    for (std::uint64_t seed = 1; seed <= 25; ++seed) {
        const auto [truth, trace, code] = traced(seed, parameters, options, seed % 5 == 0 ? 37 : 900, 20'000, setup.above);
        Follower out{*code, {}, {}};
        std::mt19937_64 random(seed);
        follow(trace, parameters, code, random, out);
        const auto differs =
            std::mismatch(truth.pcs.begin(), truth.pcs.end(), out.history.pcs.begin(), out.history.pcs.end());
        ASSERT_TRUE(out.gaps.empty()) << "seed " << seed << ": " << out.gaps[0] << " behind instruction "
                                      << differs.first - truth.pcs.begin();
        ASSERT_TRUE(differs.first == truth.pcs.end() && out.history.pcs.size() == truth.pcs.size())
            << "seed " << seed << ": instruction " << differs.first - truth.pcs.begin() << " of " << truth.pcs.size()
            << ", got " << out.history.pcs.size();
        ASSERT_EQ(out.history.exceptions.size(), truth.exceptions.size()) << "seed " << seed;
        EXPECT_TRUE(out.history.exceptions == truth.exceptions) << "seed " << seed;
        EXPECT_EQ(out.traps_with_epc, truth.exceptions.size()) << "where each came is known, too";
        EXPECT_GT(out.syncs, 3U);
        instructions += truth.pcs.size();
        exceptions += truth.exceptions.size();
    }
    EXPECT_GT(instructions, 300'000U);
    EXPECT_GT(exceptions, 1'000U);
}

TEST(EtraceOfRandomPrograms, HopsOverCallsAndReturnsTellTheSameAsTheirRuns) {
    std::size_t hopped = 0, none = 0;
    for (std::uint64_t seed = 1; seed <= 24; ++seed) {
        EtraceParameters parameters;
        parameters.return_stack_size = seed % 3 == 0 ? 0 : seed % 3 == 1 ? 1 : 4;
        EtraceOptions options{};
        options[static_cast<std::size_t>(Option::implicit_return)] = seed % 3 != 0;
        // A synchronisation may come anywhere: at a call, say.
        const auto [truth, trace, code] = traced(seed, parameters, options, seed % 2 == 0 ? 900 : 23, 60'000);
        // Not all that are called; some programs have none.
        const auto table =
            test::functions_called(*code, [&](std::uint32_t slot) { return seed % 4 != 0 && slot % 3 != 0; });
        const auto feed = [&, &trace = trace, &code = code](auto& out) {
            EtraceDecoder decoder(parameters);
            EtraceFlow flow(code, parameters);
            std::vector<EtracePacket> packets;
            decoder.feed(trace, packets);
            decoder.finish(packets);
            flow.feed(std::span<const EtracePacket>(packets), out);
        };
        const std::string with = test::calls_told(code, table, true, hopped, feed),
                          without = test::calls_told(code, table, false, none, feed);
        ASSERT_GT(without.size(), 500U);
        EXPECT_TRUE(with == without) << "seed " << seed;
    }
    EXPECT_GT(hopped, 1'000U) << "hops over calls were taken";
    EXPECT_EQ(none, 0U);
}

// A stretch is learnt from where a packet left off. Where that was a call, its way back belongs onto the return stack.
TEST(EtraceOfACall, SynchronisedAtTheCallAndNotifiedBehindItReturnsToItsCaller) {
    constexpr std::uint32_t kBase = 0x1000;
    const std::uint32_t program[] = {0x010000EF,   // 0: jal ra, 0x10
                                     0x00000013,   // 4: nop
                                     0x00000013,   // 8: nop
                                     0xFF5FF06F,   // c: j 0
                                     0x00128293,   // 10: addi t0, t0, 1
                                     0xFE629EE3,   // 14: bne t0, t1, 0x10
                                     0x00008067};  // 18: ret
    Image::Piece piece;
    piece.address = kBase;
    piece.bytes = std::span(reinterpret_cast<const std::uint8_t*>(program), sizeof program);
    const auto code = Code::of(std::span(&piece, 1), "rv32imac");
    EtraceParameters parameters;
    parameters.return_stack_size = 2;
    std::vector<EtracePacket> packets(1);
    packets[0].kind = EtraceKind::support;
    packets[0].options[static_cast<std::size_t>(Option::implicit_return)] = true;
    packets[0].options[static_cast<std::size_t>(Option::full_address)] = true;
    for (int turn = 0; turn < 5; ++turn) {
        EtracePacket p;
        p.kind = EtraceKind::sync;
        p.has_address = true;
        p.address = kBase;
        packets.push_back(p);
        p.kind = EtraceKind::branches;
        p.branches = 1;
        p.notify = true;
        p.address = kBase + 0x10;
        packets.push_back(p);
        p.branch_map = 1;
        p.address = kBase + 8;
        packets.push_back(p);
    }
    Function main_loop, counter;
    main_loop.entry = code->slot_of(kBase);
    main_loop.end = counter.entry = code->slot_of(kBase + 0x10);
    counter.end = code->slot_count();
    const auto functions = FunctionTable::of({main_loop, counter}, *code);
    const auto feed = [&](auto& out) {
        EtraceFlow flow(code, parameters);
        flow.feed(std::span<const EtracePacket>(packets), out);
    };
    std::size_t hopped = 0;
    Follower out{*code, {}, {}};
    feed(out);
    EXPECT_TRUE(out.gaps.empty());
    EXPECT_EQ(out.history.pcs.size(), 5U * 8U + 4U) << "the jump back runs between two turns";
    EXPECT_EQ(test::calls_told(code, functions, true, hopped, feed),
              test::calls_told(code, functions, false, hopped, feed));
}

const Encoding kSetups[] = {
    {"Plain", {}},
    {"FullAddresses", {Option::full_address}},
    {"ImplicitReturn", {Option::implicit_return}, 4},
    {"ShallowReturnStack", {Option::implicit_return}, 1},
    {"InferredJumps", {Option::sequentially_inferred_jump}},
    {"BranchPrediction", {Option::branch_prediction}, 0, 6},
    {"SmallPredictor", {Option::branch_prediction, Option::full_address}, 0, 2},
    {"JumpTargetCache", {Option::jump_target_cache}, 0, 0, 5},
    {"ImplicitException", {Option::implicit_exception}},
    {"Timed", {}, 0, 0, 0, 40},
    {"Everything",
     {Option::implicit_return, Option::sequentially_inferred_jump, Option::implicit_exception,
      Option::branch_prediction, Option::jump_target_cache},
     3,
     7,
     6,
     32},
    {"PlainRv64", {}, 0, 0, 0, 0, std::uint64_t{0x12} << 32},
    {"FullAddressesRv64", {Option::full_address}, 0, 0, 0, 0, std::uint64_t{0xFFFF'FFFF} << 32},
    {"EverythingRv64",
     {Option::implicit_return, Option::sequentially_inferred_jump, Option::implicit_exception,
      Option::branch_prediction, Option::jump_target_cache},
     3,
     7,
     6,
     32,
     std::uint64_t{0x7FFF'0001} << 32},
};
INSTANTIATE_TEST_SUITE_P(In, EtraceInEachOption, ::testing::ValuesIn(kSetups),
                         [](const auto& setup) { return std::string(setup.param.name); });

}  // namespace
}  // namespace mt
