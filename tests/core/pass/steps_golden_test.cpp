// Instruction trace of real firmware against its truth: whole, in pieces, damaged.
#include <gtest/gtest.h>

#include <algorithm>
#include <array>
#include <cstdio>
#include <map>
#include <random>
#include <set>

#include "base/text.h"
#include "flow/step_pipe.h"
#include "flow/step_timing.h"
#include "hostile/damage.h"
#include "measure/functions.h"
#include "recording/step_setup.h"
#include "replay/step_window.h"
#include "share/step_tables.h"
#include "support.h"

namespace mt {
namespace {

struct TrueException {
    std::uint64_t index, number, epc, interrupt, tval;
    std::optional<std::uint64_t> ticks;
};

struct StepsTruth {
    std::uint64_t instructions = 0, first_tick = 0, last_tick = 0, cycles = 0;
    std::string sha256;
    std::map<std::string, std::pair<std::uint64_t, std::uint64_t>> functions;  // entries, instructions
    std::vector<TrueException> exceptions;
    std::vector<std::uint64_t> gaps;
};

StepsTruth steps_truth_of(const std::string& name) {
    StepsTruth t;
    for (const auto& line : test::lines(test::read_text(test::data("steps/" + name + "/truth.txt")))) {
        std::istringstream in(line);
        std::string what;
        in >> what;
        if (what == "instructions") in >> t.instructions;
        if (what == "sha256") in >> t.sha256;
        if (what == "ticks") in >> t.first_tick >> t.last_tick;
        if (what == "cycles") in >> t.cycles;
        if (what == "gap") in >> t.gaps.emplace_back();
        if (what == "function") {
            std::string f;
            in >> f;
            in >> t.functions[f].first >> t.functions[f].second;
        }
        if (what == "exception") {
            TrueException e{};
            in >> e.index >> e.number >> e.epc >> e.interrupt >> e.tval;
            if (std::uint64_t ticks = 0; in >> ticks) e.ticks = ticks;
            t.exceptions.push_back(e);
        }
    }
    return t;
}

std::string target_of(const std::string& name) { return test::data("steps/" + name + "/recording.target.toml"); }

std::string sha256_of(const std::string& file) {
    std::array<char, 65> sum{};
    FILE* pipe = ::popen(("sha256sum '" + file + "'").c_str(), "r");
    if (pipe == nullptr || std::fread(sum.data(), 1, 64, pipe) != 64) ADD_FAILURE() << "no sha256sum";
    if (pipe != nullptr) ::pclose(pipe);
    return sum.data();
}

class StepsOf : public testing::TestWithParam<const char*> {
  protected:
    test::Opened opened = test::decode(target_of(GetParam()));
    StepsTruth truth = steps_truth_of(GetParam());
    const StepTrail& steps() const { return opened.trail->steps.at(0); }
    StreamSpec spec() const { return opened.recording->target.streams[0]; }
};

TEST_P(StepsOf, EveryExecutedAddressIsTheTrueOne) {
    const test::Folder folder;
    {
        std::ofstream out(folder / "pcs", std::ios::binary);
        write_step_addresses(*opened.recording, steps(), {}, {}, out);
    }
    EXPECT_EQ(steps().steps, truth.instructions);
    EXPECT_EQ(std::filesystem::file_size(folder / "pcs"), 8 * truth.instructions);
    EXPECT_EQ(sha256_of(folder / "pcs"), truth.sha256);
}

TEST_P(StepsOf, FunctionsWereCalledAsOftenAsInTruth) {
    std::map<std::string, std::uint64_t> calls, instructions;
    for (const auto& r : function_rows(*opened.trail)) {
        calls[r.name] = r.count + r.left_out;
        instructions[r.name] = r.instructions;
    }
    // Called where truth counts no execution of the first instruction: what is entered in its middle by exceptions, and
    // where the first instruction faults.
    const std::set<std::string> otherwise{"vectors", "soft_divide", "probe_word"};
    for (const auto& [name, expected] : truth.functions) {
        if (otherwise.count(name) == 0) EXPECT_EQ(calls[name], expected.first) << name;
        EXPECT_EQ(instructions[name], expected.second) << name;
    }
}

TEST_P(StepsOf, CountersSayHowOftenEachFunctionsFirstInstructionRan) {
    const auto executions = steps().counters->executions(*steps().code);
    std::uint64_t all = 0;
    for (const auto n : executions) all += n;
    EXPECT_EQ(all, truth.instructions);
    for (std::uint32_t f = 1; f < steps().functions->size(); ++f) {
        const Function& function = (*steps().functions)[f];
        const auto found = truth.functions.find(function.name);
        if (found != truth.functions.end()) {
            EXPECT_EQ(executions[function.entry], found->second.first) << function.name;
        }
    }
}

TEST_P(StepsOf, ExceptionsStandAtTheTruePlaces) {
    ASSERT_EQ(steps().traps.size(), truth.exceptions.size());
    const bool tells_number = spec().protocol != Protocol::ntrace;
    for (std::size_t i = 0; i < truth.exceptions.size(); ++i) {
        const StepTrapAt& ours = steps().traps[i];
        const TrueException& t = truth.exceptions[i];
        ASSERT_EQ(ours.step, t.index) << i;
        if (tells_number) {
            EXPECT_EQ(ours.trap.number, t.number) << i;
        }
        if (ours.trap.epc_known && t.epc != 0) {
            EXPECT_EQ(ours.trap.epc, t.epc) << i;
        }
        if (spec().protocol == Protocol::etrace) {
            EXPECT_EQ(ours.trap.interrupt, t.interrupt != 0) << i;
            EXPECT_EQ(ours.trap.tval, t.tval) << i;
        }
        if (t.ticks) {
            const std::uint64_t ps_per_tick = 25'000;
            EXPECT_EQ(static_cast<std::uint64_t>(ours.time.ps), (*t.ticks - truth.first_tick) * ps_per_tick) << i;
        }
    }
}

TEST_P(StepsOf, NothingContradictsTheImageAndOnlyTrueGapsAreTold) {
    EXPECT_EQ(steps().contradictions, 0u);
    EXPECT_EQ(steps().bad_bytes, 0u);
    std::vector<std::uint64_t> inside;
    for (std::size_t i = 0; i < steps().gaps.size(); ++i)
        if (steps().gaps[i].step < steps().steps) inside.push_back(steps().gaps[i].step);
    EXPECT_EQ(inside, truth.gaps);
    if (truth.cycles > 0) {
        const Clock clock{opened.recording->target.cores[0].clock_hz};
        // Behind the last count a few instructions follow, a cycle each.
        EXPECT_NEAR(static_cast<double>(clock.cycles(steps().moments.back().time)), static_cast<double>(truth.cycles),
                    6);
    }
}

// What a flow tells, as a list of executed slots, and where it could begin afresh.
struct Listed {
    const Code& code;
    std::vector<std::uint32_t> slots{};
    std::vector<std::pair<std::uint64_t, std::size_t>> syncs{};
    void run(const StepRun& r) {
        std::uint32_t s = r.first;
        for (std::uint32_t i = 0; i < r.count; ++i, s = code.next(s)) slots.push_back(s);
    }
    void trap(const StepTrap&) {}
    void trap_return() {}
    void gap(const StepGap&) {}
    void time(const StepTime&) {}
    void sync(std::uint64_t offset) { syncs.emplace_back(offset, slots.size()); }
};

TEST_P(StepsOf, ItDoesNotMatterInWhichPiecesTheBytesCome) {
    const auto raw = opened.recording->step_streams[0].bytes();
    Listed whole{*steps().code}, pieces{*steps().code};
    StepPipe a = *steps().checkpoints[0].pipe, b = a;
    a.feed(raw, whole);
    a.finish(whole);
    std::mt19937 random(7);
    for (std::size_t at = 0; at < raw.size();) {
        const std::size_t n = std::min<std::size_t>(raw.size() - at, 1 + random() % (random() % 8 == 0 ? 9000 : 40));
        if (random() % 50 == 0) b = StepPipe(b);  // a copy is a checkpoint
        b.feed(raw.subspan(at, n), pieces);
        at += n;
    }
    b.finish(pieces);
    EXPECT_EQ(whole.slots, pieces.slots);
}

TEST_P(StepsOf, DamageSpoilsNothingBeyondTheNextSynchronisation) {
    if (spec().framing == Framing::tpiu) GTEST_SKIP() << "offsets of synchronisations are those behind the formatter";
    const auto raw = opened.recording->step_streams[0].bytes();
    Listed good{*steps().code};
    StepPipe pipe = *steps().checkpoints[0].pipe;
    pipe.feed(raw, good);
    std::mt19937 random(11);
    for (int turn = 0; turn < 6; ++turn) {
        std::vector<std::uint8_t> bytes(raw.begin(), raw.end());
        const std::size_t from = raw.size() / 5 + random() % (raw.size() / 2), n = turn < 3 ? 3 : 40;
        switch (turn % 3) {
            case 0:
                for (std::size_t i = 0; i < n; ++i) bytes[from + i] = static_cast<std::uint8_t>(random());
                break;
            case 1:
                bytes.erase(bytes.begin() + static_cast<std::ptrdiff_t>(from),
                            bytes.begin() + static_cast<std::ptrdiff_t>(from + n));
                break;
            default:
                for (std::size_t i = 0; i < n; ++i)
                    bytes.insert(bytes.begin() + static_cast<std::ptrdiff_t>(from),
                                 static_cast<std::uint8_t>(random()));
        }
        Listed bad{*steps().code};
        StepPipe again = *steps().checkpoints[0].pipe;
        again.feed(bytes, bad);
        // What ran up to the last synchronisation before the damage, and from the second behind it on.
        std::size_t before = 0, after = good.slots.size(), behind = 0;
        for (const auto& [offset, step] : good.syncs) {
            if (offset + (spec().protocol == Protocol::mtb ? 8 : 0) <= from) before = step;
            if (offset > from + n && ++behind == 2) after = step;
        }
        const std::size_t same = static_cast<std::size_t>(
            std::mismatch(good.slots.begin(), good.slots.end(), bad.slots.begin(), bad.slots.end()).first -
            good.slots.begin());
        const std::size_t same_back = static_cast<std::size_t>(
            std::mismatch(good.slots.rbegin(), good.slots.rend(), bad.slots.rbegin(), bad.slots.rend()).first -
            good.slots.rbegin());
        EXPECT_GE(same, before) << "turn " << turn;
        // Packets of a micro trace buffer have no mark: a few are needed to be in step again.
        if (spec().protocol == Protocol::mtb) after = std::min(good.slots.size(), after + 200);
        EXPECT_GE(same_back, good.slots.size() - after) << "turn " << turn;
    }
}

TEST_P(StepsOf, AnyWindowDecodedAgainIsThatPartOfTheWhole) {
    Listed whole{*steps().code};
    StepPipe pipe = *steps().checkpoints[0].pipe;
    pipe.feed(opened.recording->step_streams[0].bytes(), whole);
    pipe.finish(whole);
    std::mt19937_64 random(3);
    for (int turn = 0; turn < 12; ++turn) {
        const std::uint64_t from = random() % steps().steps, count = 1 + random() % 5000;
        const StepWindow w = step_window(*opened.recording, steps(), from, count);
        ASSERT_EQ(w.first, from);
        ASSERT_EQ(w.end, std::min(steps().steps, from + count));
        for (std::uint64_t s = w.first; s < w.end; ++s) {
            const StepPiece& p = w.at(s);
            std::uint32_t slot = p.run.first;
            for (std::uint64_t i = p.step; i < s; ++i) slot = steps().code->next(slot);
            ASSERT_EQ(slot, whole.slots[s]) << s;
            ASSERT_LE(p.begin.ps, p.end.ps);
        }
    }
}

TEST_P(StepsOf, WhatTheTraceTellsOfTimeIsTheSameWhereverOneBeginsToRead) {
    std::map<std::uint64_t, Time> told;
    each_step_piece(*opened.recording, steps(), 0, [&](const StepPiece& p) {
        if (p.told) told[p.step] = p.begin;
        return true;
    });
    if (steps().clock == StepClock::none) {
        EXPECT_TRUE(told.empty()) << "nothing tells of time";
        return;
    }
    ASSERT_GT(told.size(), 100u);
    std::mt19937_64 random(9);
    for (int turn = 0; turn < 8; ++turn) {
        const StepWindow w = step_window(*opened.recording, steps(), random() % steps().steps, 3000);
        for (const StepPiece& p : w.pieces) {
            const auto found = told.find(p.step);
            ASSERT_EQ(p.told, found != told.end()) << p.step;
            if (p.told) {
                EXPECT_EQ(p.begin, found->second) << p.step;
            }
        }
    }
}

// Every call begins when its first instruction does, and every exception stands where the instruction behind it does:
// what the pass says of times is what reading it again says.
void expect_one_time_for_each_step(const Recording& recording, const StepTrail& steps) {
    std::vector<Time> times(steps.steps);
    each_step_piece(recording, steps, 0, [&](const StepPiece& p) {
        for (std::uint32_t i = 0; i < p.run.count; ++i) times[p.step + i] = p.time_of(i);
        return true;
    });
    std::uint64_t wrong = 0, first = 0;
    for (const CallLevel& level : steps.levels)
        for (std::size_t i = 0; i < level.size(); ++i) {
            const CallSpan& call = level[i];
            if ((call.flags & (CallFrame::kCutBegin | CallFrame::kContinued)) != 0 || call.step >= times.size())
                continue;
            if (call.begin != times[call.step] && wrong++ == 0) first = call.step;
        }
    EXPECT_EQ(wrong, 0u) << "the first at instruction " << first;
}

TEST_P(StepsOf, ACallBeginsWhenItsFirstInstructionDoesThoughTheStreamIsDamaged) {
    expect_one_time_for_each_step(*opened.recording, steps());
    const auto raw = opened.recording->step_streams[0].bytes();
    const test::Folder folder;
    std::string text = test::read_text(target_of(GetParam()));
    const std::size_t file = text.find('"', text.find("\nfile ")) + 1;
    text.replace(file, text.find('"', file) - file, "damaged.bin");
    for (std::size_t at = 0; (at = text.find("../", at)) != std::string::npos; at += 3)
        text.replace(at, 3, test::data("steps/"));
    test::write_file(folder / "recording.target.toml", text);
    for (std::uint64_t seed = 0; seed < 6; ++seed) {
        std::mt19937_64 random(seed);
        std::vector<std::uint8_t> bytes(raw.begin(), raw.end());
        hostile::damage(bytes, static_cast<hostile::Damage>(seed), random);
        test::write_file(folder / "damaged.bin", bytes);
        const test::Opened damaged = test::decode(folder / "recording.target.toml");
        SCOPED_TRACE(hostile::damage_name(static_cast<hostile::Damage>(seed)));
        expect_one_time_for_each_step(*damaged.recording, damaged.trail->steps.at(0));
    }
}

// Two harts in one stream, told apart by the source ID in front of each payload (7.1).
TEST(StepsOfTwoHarts, EachTakesItsOwnPacketsOfTheOneStream) {
    const auto both = test::decode(target_of("rv-etrace-mount-duo"));
    ASSERT_EQ(both.trail->steps.size(), 2u);
    EXPECT_EQ(both.trail->steps[0].steps, steps_truth_of("rv-etrace-mount-duo-0").instructions);
    EXPECT_EQ(both.trail->steps[1].steps, steps_truth_of("rv-etrace-mount-duo-1").instructions);
    for (const Doubt& d : both.trail->doubts) EXPECT_EQ(d.text.find("source ID"), std::string::npos) << d.text;
}

TEST(StepsOfTwoHarts, AnIdThatNobodyAsksForIsToldWithItsPackets) {
    const auto one = test::decode(target_of("rv-etrace-mount-duo-0"));
    const auto& others = one.trail->steps[0].other_sources;
    ASSERT_EQ(others.size(), 1u);
    const auto both = test::decode(target_of("rv-etrace-mount-duo"));
    EXPECT_EQ(others.begin()->first, 2u);
    EXPECT_EQ(others.begin()->second.packets, both.trail->steps[1].packets);
    std::string told;
    for (const Doubt& d : one.trail->doubts)
        if (d.text.find("source ID 2") != std::string::npos) told = d.text;
    EXPECT_NE(told.find(count_text(others.begin()->second.packets)), std::string::npos) << told;
}

// An exception's handler that is left out (4.2.4) follows from mtvec as stated, or as the program writes it.
TEST(StepsWithImplicitExceptions, TheTrapVectorIsFoundInTheImageWhereTheTargetFileDoesNotState) {
    std::string text = test::read_text(target_of("rv-etrace-mount-modes"));
    const std::size_t at = text.find("mtvec"), folder = text.find("../mount-cop");
    ASSERT_NE(at, std::string::npos);
    text.erase(at, text.find('\n', at) - at);
    text.replace(folder, 3, test::data("steps/"));
    text.replace(text.find("trace.bin"), 9, test::data("steps/rv-etrace-mount-modes/trace.bin"));
    const test::Folder place;
    test::write_file(place / "recording.target.toml", text);
    const auto opened = test::decode(place / "recording.target.toml");
    EXPECT_EQ(opened.trail->steps[0].steps, steps_truth_of("rv-etrace-mount-modes").instructions);
    EXPECT_EQ(opened.trail->steps[0].contradictions, 0u);
}

INSTANTIATE_TEST_SUITE_P(RealFirmware, StepsOf,
                         testing::Values("rv-etrace-mount", "rv-etrace-mount-full", "rv-etrace-mount-return",
                                         "rv-etrace-mount-modes", "rv-etrace-mount-duo-0", "rv-etrace-mount-duo-1",
                                         "rv-ntrace-mount-btm", "rv-ntrace-mount-htm", "arm-etm-mount",
                                         "arm-etm-mount-cc", "arm-etm-mount-rs", "arm-mtb-paddle",
                                         "arm-mtb-paddle-window", "arm-etm-a-mount", "arm-etm-a-mount-cc", "arm-pft-mount",
                                         "arm-pft-mount-bb", "arm-pft-mount-cc", "arm-etm3-mount", "arm-etm3-mount-cc",
                                         "rv64-etrace-mount"),
                         [](const auto& info) {
                             std::string name = info.param;
                             std::replace(name.begin(), name.end(), '-', '_');
                             return name;
                         });

}  // namespace
}  // namespace mt
