// States of the past against registers and memory that another emulator logged in the same run: what is told as known is
// right, and most is known.
#include <gtest/gtest.h>

#include <bit>
#include <cstdio>
#include <map>
#include <set>
#include <sstream>

#include "base/mapped_file.h"
#include "past_of.h"
#include "registers_used.h"
#include "replay/step_window.h"
#include "share/state_tables.h"
#include "support.h"

namespace mt {
namespace {

// The rows of a packed table, as cells.
std::vector<std::vector<std::string>> table(const std::string& path) {
    const auto file = MappedFile::open(path);
    EXPECT_TRUE(file) << path;
    std::vector<std::vector<std::string>> rows;
    if (!file) return rows;
    const auto bytes = (*file)->bytes();
    std::istringstream in(std::string(reinterpret_cast<const char*>(bytes.data()), bytes.size()));
    for (std::string line; std::getline(in, line);) {
        std::vector<std::string> cells;
        std::istringstream row(line);
        for (std::string cell; std::getline(row, cell, ',');) cells.push_back(cell);
        rows.push_back(std::move(cells));
    }
    return rows;
}
std::uint64_t hex(const std::string& text) { return std::stoull(text, nullptr, 16); }

struct Run {
    const char* folder;
    const char* memory;  ///< where the memory of the end begins; null: nothing of the end is told
};
class PastStateOf : public ::testing::TestWithParam<Run> {
  protected:
    std::string file(const std::string& name) const { return test::data(std::string("steps/") + GetParam().folder + "/" + name); }
    // The target file, with what is told of the end.
    std::string target() const {
        std::string text = test::read_text(file("recording.target.toml"));
        if (GetParam().memory != nullptr)
            text.insert(text.find("[[stream]]"), "[core.stopped]\nregisters = \"final_registers.json\"\nmemory = [{ file = "
                                                 "\"final_memory.bin.xz\", address = " +
                                                     std::string(GetParam().memory) + " }]\n\n");
        return text;
    }
    test::PastOf past{file("recording.target.toml"), target()};
    const test::Opened& opened = past.opened;
    const StepTrail& steps = past.steps;
    PastStates& states = past.states;
    Progress& progress = past.progress;
};

TEST_P(PastStateOf, IsNeverWrongAndMostlyKnown) {
    const auto registers = table(file("registers.csv.xz"));
    ASSERT_GT(registers.size(), 100U);
    std::uint64_t known = 0, all = 0, read_later = 0, of_those = 0, flags_known = 0;
    test::RegistersUsed used(*opened.recording, steps);
    for (std::size_t r = 1; r < registers.size(); ++r) {
        const auto state = states.before(std::stoull(registers[r][0]), progress);
        const auto read = used.read_from(std::stoull(registers[r][0]));
        ASSERT_TRUE(state) << registers[r][0];
        ASSERT_EQ(state->pc, hex(registers[r][1])) << registers[r][0];
        std::map<std::string, Known> by_name(state->registers.begin(), state->registers.end());
        for (std::size_t c = 2; c < registers[r].size(); ++c) {
            const std::string& name = registers[0][c];
            if (name == "xpsr") {  // N, Z, C, V stand in its bits 31 to 28 (DDI 0403E, B1.4.2)
                ASSERT_TRUE(state->flags);
                flags_known += static_cast<unsigned>(std::popcount(state->flags->known));
                ASSERT_EQ(state->flags->value, hex(registers[r][c]) >> 28 & state->flags->known) << "before " << registers[r][0];
                continue;
            }
            const auto found = by_name.find(name);
            ASSERT_NE(found, by_name.end()) << name;
            ++all;
            read_later += read.count(name);
            if (!found->second.known) continue;
            ++known;
            of_those += read.count(name);
            ASSERT_EQ(found->second.value, hex(registers[r][c])) << name << " before " << registers[r][0];
            if (found->second.set_at != Known::kNever) ASSERT_LT(found->second.set_at, state->step);
        }
    }
    const double registers_known = static_cast<double>(known) / static_cast<double>(all);
    const double needed_known = static_cast<double>(of_those) / static_cast<double>(read_later);
    const auto memory = table(file("memory.csv.xz"));
    std::uint64_t told = 0;
    known = 0;
    for (std::size_t r = 1; r < memory.size(); ++r) {
        const auto state = states.before(std::stoull(memory[r][0]), progress);
        ASSERT_TRUE(state);
        const std::uint64_t address = hex(memory[r][2]), size = std::stoull(memory[r][3]);
        Known newest;
        bool whole = true;
        for (std::uint64_t i = 0; i < size; ++i) {
            const Known b = state->memory->read(address + i, 1);
            whole = whole && b.known;
            if (b.set_at != Known::kNever && (newest.set_at == Known::kNever || b.set_at > newest.set_at)) newest.set_at = b.set_at;
            if (b.known) ASSERT_EQ(b.value, hex(memory[r][4].substr(2 * i, 2))) << memory[r][1] << " before " << memory[r][0];
        }
        ++told;
        if (!whole) continue;
        ++known;
        const std::string when = newest.set_at == Known::kNever ? "-1" : std::to_string(newest.set_at);
        if (size <= 4) ASSERT_EQ(when, memory[r][6]) << memory[r][1] << " before " << memory[r][0];
    }
    const double memory_known = static_cast<double>(known) / static_cast<double>(told);
    std::cout << GetParam().folder << (GetParam().memory != nullptr ? ", with its end" : "") << ": known " << 100 * registers_known << " % of the registers, " << 100 * needed_known
              << " % of those that the program reads later (" << read_later << "), " << 100 * memory_known << " % of the variables\n";
    if (!is_riscv(steps.code->isa())) EXPECT_GT(flags_known, 3 * (registers.size() - 1)) << "three of the four flags, as a rule";
    // Of the end alone nobody wrote some registers ever: their copies tell them, back to the reset.
    EXPECT_GT(registers_known, is_riscv(steps.code->isa()) && GetParam().memory != nullptr ? 0.99 : 0.75);
    EXPECT_GT(memory_known, 0.8);
}
// What the last instructions alone tell is a part of what all of them tell, the more the further back it looks.
TEST_P(PastStateOf, AGlimpseTellsNothingElseThanTheWholeAndMoreTheFurtherItLooksBack) {
    std::array<unsigned, 4> known{};
    const std::array<std::uint64_t, 4> reach{0, 50, 5'000, steps.steps};
    unsigned whole_known = 0;
    for (std::uint64_t step = 10'000; step < 100'000; step += 7'919) {
        const auto whole = states.before(step, progress);
        ASSERT_TRUE(whole);
        for (const auto& r : whole->registers) whole_known += r.second.known ? 1U : 0U;
        for (std::size_t far = 0; far < reach.size(); ++far) {
            const auto glimpse = states.glimpse(step, reach[far], progress);
            ASSERT_TRUE(glimpse);
            EXPECT_EQ(glimpse->pc, whole->pc);
            for (std::size_t n = 0; n < whole->registers.size(); ++n) {
                const Known &part = glimpse->registers[n].second, &all = whole->registers[n].second;
                if (!part.known) continue;
                ++known[far];
                ASSERT_TRUE(all.known) << whole->registers[n].first << " before " << step;
                ASSERT_EQ(part.value, all.value) << whole->registers[n].first << " before " << step;
            }
        }
    }
    EXPECT_TRUE(std::is_sorted(known.begin(), known.end()));
    EXPECT_EQ(known[0], 0U) << "nothing was executed";
    EXPECT_GT(known[1], 0U) << "constants, and what was computed of them";
    if (GetParam().memory == nullptr) EXPECT_EQ(known[3], whole_known) << "from the first instruction on it is all";
}

TEST_P(PastStateOf, IsNearOnceAllWasExecuted) {
    EXPECT_GE(states.distance(steps.steps / 2), steps.steps / 2);
    Progress cancelled;
    cancelled.cancel();
    EXPECT_FALSE(states.execute_all(cancelled));
    ASSERT_TRUE(states.execute_all(progress));
    const std::uint64_t near = std::max<std::uint64_t>(65'536, steps.steps / 512);
    for (std::uint64_t step = 0; step < steps.steps; step += 9'973) ASSERT_LE(states.distance(step), near);
    EXPECT_TRUE(states.execute_all(cancelled)) << "there is nothing left to do";
}

// Each change is found from anywhere before it, and none in between.
TEST_P(PastStateOf, TheNextChangeOfARegisterIsTheFirstThatTheStatesShow) {
    const std::string name = opened.recording->target.cores[0].isa.rfind("rv", 0) == 0 ? "x2" : "r7";
    const auto value_before = [&](std::uint64_t step) {
        Known found;
        for (const auto& [n, v] : states.before(step, progress)->registers)
            if (n == name) found = v;
        return found;
    };
    for (std::uint64_t from = 1'000; from < 3'000; from += 431) {
        const auto at = states.next_change(from, {name, 0, 4}, progress);
        ASSERT_TRUE(at) << from;
        ASSERT_GE(*at, from);
        const Known was = value_before(from), still = value_before(*at), is = value_before(*at + 1);
        EXPECT_EQ(was.known, still.known) << from;
        if (was.known && still.known) EXPECT_EQ(was.value, still.value) << "nothing changed it before instruction " << *at;
        EXPECT_TRUE(!is.known || !still.known || is.value != still.value) << "but that did";
        EXPECT_EQ(is.set_at, *at);
    }
    EXPECT_FALSE(states.next_change(steps.steps - 1, {name, 0, 4}, progress)) << "the last instruction changes it no more";
}
// Trace tells where each return went: there the link register must have pointed, if it is said to be known.
// A debugger that halts the core may change anything: behind that less is known.
struct Traced {
    const char* folder;
    unsigned least;  ///< of a hundred returns
};
class ReturnsOf : public testing::TestWithParam<Traced> {};

TEST_P(ReturnsOf, GoWhereTheLinkRegisterSaysThatTheyDo) {
    test::PastOf past(test::steps_target(GetParam().folder));
    const StepTrail& steps = past.steps;
    const Code& code = *steps.code;
    const char* const link = code.riscv() ? "x1" : code.isa() == Isa::a64 ? "x30" : "lr";
    std::vector<std::pair<std::uint64_t, std::uint64_t>> returns;  // step, and where it went
    std::optional<std::uint64_t> open;
    each_step_piece(*past.opened.recording, steps, 0, [&](const StepPiece& p) {
        if (open && p.step == *open + 1) returns.emplace_back(*open, code.address(p.run.first));
        open.reset();
        const bool by_link = code.riscv() || code.isa() == Isa::a64 || code.bits(p.run.last) == 0x4770 || (code.bits(p.run.last) & 0x0FFF'FFFF) == 0x012F'FF1E;
        if (code[p.run.last].flow == Flow::ret && by_link) open = p.step + p.run.count - 1;
        return true;
    });
    std::set<std::uint64_t> broken;  // steps before which an exception or a gap came
    for (std::size_t i = 0; i < steps.traps.size(); ++i) broken.insert(steps.traps[i].step);
    for (std::size_t i = 0; i < steps.gaps.size(); ++i) broken.insert(steps.gaps[i].step);
    std::erase_if(returns, [&](const auto& r) { return broken.contains(r.first + 1); });
    ASSERT_GT(returns.size(), 100U);
    std::uint64_t known = 0, looked = 0, registers = 0, registers_known = 0;
    for (std::size_t i = 0; i < returns.size(); i += std::max<std::size_t>(1, returns.size() / 200)) {
        const auto state = past.states.before(returns[i].first, past.progress);
        ASSERT_TRUE(state);
        ++looked;
        for (const auto& [name, value] : state->registers) {
            ++registers;
            registers_known += value.known ? 1U : 0U;
            if (name != link || !value.known || value.value > 0xFFFF'FF00 && code.isa() == Isa::thumb) continue;
            ++known;
            EXPECT_EQ(value.value & ~std::uint64_t{1}, returns[i].second) << "return at instruction " << returns[i].first;
        }
    }
    std::printf("%s: link register known at %llu of %llu returns, %.1f %% of all registers there\n", GetParam().folder,
                static_cast<unsigned long long>(known), static_cast<unsigned long long>(looked), 100.0 * static_cast<double>(registers_known) / static_cast<double>(registers));
    EXPECT_GE(100 * known, GetParam().least * looked);
}

INSTANTIATE_TEST_SUITE_P(Mount, ReturnsOf,
                         ::testing::Values(Traced{"arm-pft-mount", 85}, Traced{"arm-pft-mount-bb", 100}, Traced{"arm-pft-mount-cc", 90},
                                           Traced{"arm-etm3-mount", 40}, Traced{"arm-etm3-mount-cc", 30}, Traced{"arm-etm-a-mount", 100},
                                           Traced{"arm-etm-a-mount-cc", 70}, Traced{"rv64-etrace-mount", 100}),
                         [](const auto& p) {
                             std::string name = p.param.folder;
                             std::replace(name.begin(), name.end(), '-', '_');
                             return name;
                         });

// What the program writes into CONTEXTIDR is what trace tells next: the register held that number.
TEST(PastStateOfAProfile, HoldsTheContextThatTraceTellsWhereTheProgramWritesIt) {
    for (const char* folder : {"arm-pft-mount-bb", "arm-etm-a-mount", "arm-etm-a-mount-cc"}) {
        test::PastOf past(test::steps_target(folder));
        const StepTrail& steps = past.steps;
        const Code& code = *steps.code;
        std::vector<std::pair<std::uint64_t, std::string>> writes;  // steps, and from which register
        each_step_piece(*past.opened.recording, steps, 0, [&](const StepPiece& p) {
            std::uint32_t slot = p.run.first;
            for (std::uint64_t step = p.step; step < p.step + p.run.count; ++step, slot = code.next(slot)) {
                const std::uint32_t i = code.bits(slot);
                if (code.isa(slot) == Isa::a64 && (i & ~31U) == 0xD518'D020) writes.emplace_back(step, "x" + std::to_string(i & 31));
                if (code.isa(slot) == Isa::arm && (i & 0x0FFF'0FFF) == 0x0E0D'0F30) writes.emplace_back(step, "r" + std::to_string(i >> 12 & 15));
            }
            return true;
        });
        ASSERT_GT(writes.size(), 400U) << folder;
            unsigned known = 0, looked = 0;
        for (std::size_t w = 0; w < writes.size(); w += 8) {
            const auto& [step, name] = writes[w];
            std::size_t d = 0;
            while (d < steps.data.size() && (steps.data[d].step <= step || steps.data[d].data.tag != StepData::kContext)) ++d;
            if (d == steps.data.size()) break;
            if (w + 1 < writes.size() && steps.data[d].step > writes[w + 1].first) continue;  // the same number again: not told
            const auto state = past.states.before(step, past.progress);
            ASSERT_TRUE(state);
            ++looked;
            for (const auto& [of, value] : state->registers) {
                if (of != name || !value.known) continue;
                ++known;
                EXPECT_EQ(value.value, steps.data[d].data.value) << folder << ", instruction " << step;
            }
        }
        EXPECT_GT(looked, 50U) << folder;
        EXPECT_GT(10 * known, 9 * looked) << folder;
    }
}

TEST(PastStateOfRiscV, HasFloatingPointRegistersWhereTheCoreHas) {
    std::string text = test::read_text(test::steps_target("rv-etrace-mount"));
    const auto registers = [&] {
        test::PastOf past(test::steps_target("rv-etrace-mount"), text);
        std::vector<std::string> names;
        const auto state = past.states.before(1'000, past.progress);
        EXPECT_TRUE(state);
        for (const auto& [name, value] : state->registers) {
            names.push_back(name);
            if (name[0] == 'f') EXPECT_FALSE(value.known) << "no instruction of this program gives it anything";
        }
        return names;
    };
    EXPECT_EQ(registers().size(), 31U);
    const std::size_t at = text.find("rv32imac");
    ASSERT_NE(at, std::string::npos);
    text.replace(at, 8, "rv32imafdc");
    const auto names = registers();
    ASSERT_EQ(names.size(), 63U);
    EXPECT_EQ(names[31], "f0");
    EXPECT_EQ(names.back(), "f31");
}

INSTANTIATE_TEST_SUITE_P(Mount, PastStateOf,
                         ::testing::Values(Run{"rv-etrace-mount", nullptr}, Run{"rv-etrace-mount", "0x80000000"},
                                           Run{"arm-etm-mount", nullptr}, Run{"arm-etm-mount", "0x20000000"}),
                         [](const auto& p) {
                             std::string name = p.param.folder + std::string(p.param.memory != nullptr ? "-with-its-end" : "");
                             std::replace(name.begin(), name.end(), '-', '_');
                             return name;
                         });

}  // namespace
}  // namespace mt
