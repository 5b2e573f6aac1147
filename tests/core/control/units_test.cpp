// Trace units: found, planned, set up and put back. What must be written where is typed here from the architecture
// documents: DDI 0403E C1.7 (ITM), C1.8 (DWT), C1.10 (TPIU); IHI 0064 7.3 (ETMv4); DDI 0461 3.3 (TMC); RISC-V Trace
// Control Interface 1.0 chapters 4 to 7.
#include <gtest/gtest.h>

#include <algorithm>
#include <map>

#include "control/units/plan.h"
#include "control/units/program.h"
#include "unit_memory.h"

namespace mt {
namespace {

using test::UnitMemory;

std::shared_ptr<const Image> demo_firmware() {
    static const auto image = Image::open(MT_DEMO "/larkspur.elf").value();
    return image;
}

std::uint32_t address_of(const std::string& name) {
    return static_cast<std::uint32_t>(demo_firmware()->symbol_named(name)->address);
}

TargetFile target(const std::string& more = "") {
    return parse_target_file(
               "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\nisa = \"armv7e-m\"\n"
               "clock_hz = 120_000_000\nimage = \"larkspur.elf\"\n[[stream]]\nprotocol = \"itm\"\ncore = "
               "\"main\"\n" +
                   more,
               MT_DEMO "/x.target.toml")
        .value();
}

/// The last value planned for each register.
std::map<std::string, std::uint32_t> values_of(const Result<TracePlan>& p) {
    std::map<std::string, std::uint32_t> all;
    EXPECT_TRUE(p) << p.error().text();
    if (p)
        for (const PlanStep& s : p->steps)
            if (!s.waits) all[s.reg] = s.value;
    return all;
}

class OnArm : public ::testing::Test {
  protected:
    Result<TracePlan> plan(const TraceWish& wish) {
        const TargetFile file = target();
        auto found = discover_units(memory, file.cores[0]);
        if (!found) return tl::make_unexpected(found.error());
        units = *found;
        return plan_trace(wish, units, memory, file, demo_firmware().get());
    }
    std::map<std::string, std::uint32_t> values(const TraceWish& wish) { return values_of(plan(wish)); }
    std::string refusal(const TraceWish& wish) {
        const auto p = plan(wish);
        return p ? "" : p.error().text();
    }
    void by_firmware() {
        board.set_by_firmware(120'000'000, 24'000'000, {address_of("current_task"), address_of("axis_error")});
    }
    /// What its registers read; those of the buffer that move by themselves are left out.
    std::map<std::uint32_t, std::uint32_t> image_of_registers() {
        std::map<std::uint32_t, std::uint32_t> all;
        for (const std::uint32_t base : {0xE0000000U, 0xE0001000U, 0xE0040000U, 0xE0041000U, 0xE0043000U, 0xE0044000U})
            for (std::uint32_t at = 0; at < 0xFC0; at += 4) {
                std::uint32_t value = 0;
                const bool moves =
                    base == 0xE0044000U && (at == 0x10 || at == 0x14 || at == 0x18 || at == 0xC || at == 0x1C);
                if (!moves && board.read(base + at, value)) all[base + at] = value;
            }
        std::uint32_t demcr = 0;
        if (board.read(0xE000EDFC, demcr)) all[0xE000EDFC] = demcr;
        return all;
    }
    board::ArmUnits board;
    UnitMemory memory{board};
    CoreUnits units;
};

TEST_F(OnArm, TheRomTablesTellWhichUnitsThereAreAndNothingIsWrittenForIt) {
    const auto found = discover_units(memory, target().cores[0]);
    ASSERT_TRUE(found) << found.error().text();
    std::map<std::string, std::uint64_t> places;
    for (const Unit& u : found->units) places[std::string(unit_kind_name(u.kind)) + " " + u.name] = u.address;
    EXPECT_EQ(places["dwt DWT"], 0xE0001000U);
    EXPECT_EQ(places["itm ITM"], 0xE0000000U);
    EXPECT_EQ(places["tpiu TPIU"], 0xE0040000U);
    EXPECT_EQ(places["etm4 ETM"], 0xE0041000U);
    EXPECT_EQ(places["funnel funnel"], 0xE0043000U) << "in a table inside of the table";
    EXPECT_EQ(places["tmc TMC"], 0xE0044000U);
    EXPECT_EQ(found->named("DWT")->number("comparators"), 4);
    EXPECT_EQ(found->named("TMC")->number("bytes"), 4096);
    EXPECT_TRUE(found->named("ITM")->locked);
    EXPECT_EQ(found->named("ITM")->feeds, std::vector<std::string>{"funnel"});
    EXPECT_EQ(found->named("funnel")->feeds, std::vector<std::string>{"TMC"});
    EXPECT_EQ(found->named("TMC")->feeds, std::vector<std::string>{"TPIU"});
    EXPECT_TRUE(memory.writes.empty());
}

TEST_F(OnArm, APlanWritesNothing) {
    TraceWish wish;
    wish.exceptions = true;
    ASSERT_TRUE(plan(wish));
    EXPECT_TRUE(memory.writes.empty());
}

TEST_F(OnArm, ExceptionsSamplesAndTimesSetTheseRegisters) {
    TraceWish wish;
    wish.exceptions = true;
    wish.pc_samples = 4096;
    wish.local_timestamps = true;
    wish.prescaler = 4;
    wish.global_timestamps = true;
    wish.sync = std::uint64_t{1} << 26;
    wish.counters = {"cpi", "sleep", "fold"};
    wish.ports = {0, 8, 31};
    wish.privileged_ports = {9};
    wish.to = TraceWish::To::swo;
    wish.baud = 2'000'000;
    const auto v = values(wish);
    EXPECT_EQ(v.at("DEMCR"), 1U << 24) << "TRCENA";
    EXPECT_EQ(v.at("LAR"), 0xC5ACCE55U);
    // CYCCNTENA, POSTPRESET 3 and POSTINIT 3 of 1024 cycles (CYCTAP), SYNCTAP 2, PCSAMPLENA, EXCTRCENA, CPIEVTENA,
    // SLEEPEVTENA, FOLDEVTENA; four comparators are read-only
    EXPECT_EQ(v.at("DWT_CTRL"),
              0x40000000U | 1 | 3 << 1 | 3 << 5 | 1 << 9 | 2 << 10 | 1 << 12 | 1 << 16 | 1 << 17 | 1 << 19 | 1 << 21);
    EXPECT_EQ(v.at("ITM_TER0"), 0x80000101U);
    EXPECT_EQ(v.at("ITM_TPR"), 1U << 1) << "ports 8 to 15";
    // ITMENA, TSENA, SYNCENA, TXENA, TSPrescale 1, GTSFREQ 2
    EXPECT_EQ(v.at("ITM_TCR"), 0xFU | 1 << 8 | 2 << 10);
    EXPECT_EQ(v.at("TPIU_SPPR"), 2U) << "NRZ";
    EXPECT_EQ(v.at("TPIU_ACPR"), 59U) << "120 MHz / 60";
    EXPECT_EQ(v.at("TPIU_FFCR"), 0x100U) << "one source needs no frames";
    EXPECT_EQ(v.at("TMC_MODE"), 2U) << "the buffer on the way passes trace on";
    EXPECT_EQ(v.at("FUNCTL") & 3, 3U);
}

struct Watched {
    Access on;
    Tell tell;
    std::uint32_t function;  ///< DDI 0403E table C1-14, with EMITRANGE in bit 5
};

class AComparator : public OnArm, public ::testing::WithParamInterface<Watched> {};

TEST_P(AComparator, IsSetAsTheTableOfFunctionsSays) {
    TraceWish wish;
    wish.variables.push_back({"axis_error", GetParam().on, GetParam().tell});
    const auto v = values(wish);
    EXPECT_EQ(v.at("DWT_COMP0"), address_of("axis_error"));
    EXPECT_EQ(v.at("DWT_MASK0"), 1U) << "two bytes";
    EXPECT_EQ(v.at("DWT_FUNCTION0"), GetParam().function);
}

INSTANTIATE_TEST_SUITE_P(
    All, AComparator,
    ::testing::Values(Watched{Access::write, Tell::value, 0xD}, Watched{Access::read, Tell::value, 0xC},
                      Watched{Access::any, Tell::value, 0x2}, Watched{Access::any, Tell::pc, 0x1},
                      Watched{Access::write, Tell::pc, 0xF}, Watched{Access::read, Tell::value_pc, 0xE},
                      Watched{Access::any, Tell::value_pc, 0x3}, Watched{Access::write, Tell::address, 0x2D},
                      Watched{Access::read, Tell::address, 0x2C}, Watched{Access::any, Tell::address, 0x21},
                      Watched{Access::write, Tell::value_address, 0x2F},
                      Watched{Access::any, Tell::value_address, 0x22}));

TEST(AComparatorOfArmv8M, IsSetAsItsMatchAndActionFieldsSay) {
    // DDI 0553, DWT_FUNCTIONn: MATCH 3:0, ACTION 5:4, DATAVSIZE 11:10
    EXPECT_EQ(dwt8_function(Access::write, Tell::value, 4), 0xDU | 2U << 4 | 2U << 10);
    EXPECT_EQ(dwt8_function(Access::read, Tell::value, 2), 0xEU | 2U << 4 | 1U << 10);
    EXPECT_EQ(dwt8_function(Access::any, Tell::value_pc, 1), 0xCU | 3U << 4);
    EXPECT_EQ(dwt8_function(Access::write, Tell::pc, 4), 0x5U | 3U << 4 | 2U << 10);
    EXPECT_FALSE(dwt8_function(Access::write, Tell::value_address, 4));
}

TEST_F(OnArm, TheNearestPeriodThatTheUnitHasIsTakenAndSaid) {
    TraceWish wish;
    wish.pc_samples = 1'000;
    const auto p = plan(wish);
    ASSERT_TRUE(p) << p.error().text();
    EXPECT_EQ(p->pc_sample_cycles, 1024U);
    EXPECT_TRUE(std::any_of(p->notes.begin(), p->notes.end(),
                            [](const std::string& n) { return n.find("nearest to") != std::string::npos; }));
    EXPECT_EQ(nearest_pc_sampling(64).cycles, 64U);
    EXPECT_EQ(nearest_pc_sampling(1'000'000).cycles, 16'384U);
}

TEST_F(OnArm, WhatTheFirmwareSetStaysUnlessItIsToGo) {
    by_firmware();
    TraceWish wish;
    wish.variables.push_back({"position", Access::write, Tell::value});
    const auto kept = values(wish);
    EXPECT_EQ(kept.at("DWT_COMP2"), address_of("position")) << "0 and 1 are the firmware's";
    EXPECT_EQ(kept.count("DWT_FUNCTION0"), 0U);
    EXPECT_EQ(kept.count("DWT_CTRL"), 0U) << "exceptions and samples stay as they are";
    wish.keep = false;
    const auto alone = values(wish);
    EXPECT_EQ(alone.at("DWT_COMP0"), address_of("position"));
    EXPECT_EQ(alone.at("DWT_FUNCTION1"), 0U);
    EXPECT_EQ(alone.at("DWT_CTRL") & (1U << 16 | 1U << 12), 0U);
}

TEST_F(OnArm, WhatDoesNotFitIsRefusedWithTheReason) {
    const auto watching = [&](std::vector<std::string> names) {
        TraceWish wish;
        for (const auto& n : names) wish.variables.push_back({n, Access::write, Tell::value});
        return refusal(wish);
    };
    EXPECT_NE(watching({"axis_error", "position", "integral", "index_count", "bus_lock"}).find("all 4 are in use"),
              std::string::npos);
    EXPECT_NE(watching({"tasks"}).find("1, 2, 4, 8"), std::string::npos) << "60 bytes are no power of two";
    EXPECT_NE(watching({"axis_errror"}).find("axis_error"), std::string::npos) << "the name that is near";
    TraceWish fast;
    fast.exceptions = true;
    fast.to = TraceWish::To::swo;
    fast.baud = 90'000'000;
    EXPECT_NE(refusal(fast).find("cannot be had from 120"), std::string::npos);
    TraceWish counts;
    counts.instructions.emplace().cycle_counts = 4;
    EXPECT_NE(refusal(counts).find("no cycle counts"), std::string::npos);
    TraceWish wide;
    wide.exceptions = true;
    wide.to = TraceWish::To::port;
    wide.width = 3;
    EXPECT_NE(refusal(wide).find("1, 2, 4"), std::string::npos);
}

TEST_F(OnArm, ABreakpointOfTheDebuggerKeepsItsComparator) {
    ASSERT_TRUE(board.write(0xE0001FB0, 0xC5ACCE55));
    ASSERT_TRUE(board.write(0xE0001020, 0x20001234));
    ASSERT_TRUE(board.write(0xE0001028, 0x6));  // stops on a write
    TraceWish wish;
    wish.keep = false;
    wish.variables.push_back({"axis_error", Access::write, Tell::value});
    EXPECT_EQ(values(wish).at("DWT_COMP1"), address_of("axis_error"));
}

TEST_F(OnArm, InstructionsIntoTheBufferSetTheseRegisters) {
    TraceWish wish;
    wish.instructions.emplace();
    wish.instructions->of = {"track_loop", "refine_centroid"};
    wish.instructions->return_stack = true;
    wish.to = TraceWish::To::buffer;
    const auto v = values(wish);
    EXPECT_EQ(v.at("TRCOSLAR"), 0U);
    EXPECT_EQ(v.at("TRCCONFIGR"), 1U << 11 | 1U << 12) << "timestamps and the return stack";
    EXPECT_EQ(v.at("TRCSYNCPR"), 8U) << "often, for a small buffer";
    EXPECT_EQ(v.at("TRCTRACEIDR"), 2U);
    const Symbol* loop = demo_firmware()->symbol_named("track_loop");
    EXPECT_EQ(v.at("TRCACVR0"),
              std::min(loop->address & ~1ULL, demo_firmware()->symbol_named("refine_centroid")->address & ~1ULL));
    EXPECT_EQ(v.at("TRCVIIECTLR"), 3U) << "both ranges";
    EXPECT_EQ(v.at("TRCVICTLR"), 0x201U) << "resource 1 is TRUE; started";
    EXPECT_EQ(v.at("TRCPRGCTLR"), 1U);
    EXPECT_EQ(v.at("TMC_MODE"), 0U) << "circular";
    EXPECT_EQ(v.at("TMC_FFCR"), 1U) << "frames";
    EXPECT_EQ(v.at("TMC_CTL"), 1U);
}

TEST_F(OnArm, StartStopAndCountsUseComparatorsAndTheCounter) {
    TraceWish wish;
    wish.instructions.emplace();
    wish.to = TraceWish::To::buffer;
    wish.start = TraceWish::Trigger{"guide_task", "", Access::write, std::nullopt, 1, std::nullopt};
    wish.stop = TraceWish::Trigger{"track_loop", "", Access::write, std::nullopt, 3, std::nullopt};
    const auto v = values(wish);
    EXPECT_EQ(v.at("TRCACVR0"), address_of("guide_task") & ~1U);
    EXPECT_EQ(v.at("TRCVISSCTLR"), 1U) << "comparator 0 starts";
    EXPECT_EQ(v.at("TRCCNTVR0"), 3U);
    EXPECT_EQ(v.at("TRCRSCTLR2"), 4U << 16 | 1U << 1) << "address comparator 1";
    EXPECT_EQ(v.at("TRCRSCTLR3"), 1U << 20 | 2U << 16 | 1U) << "as long as counter 0 is not zero";
    EXPECT_EQ(v.at("TRCVICTLR"), 3U) << "not started";
    TraceWish access;
    access.instructions.emplace();
    access.to = TraceWish::To::buffer;
    access.stop = TraceWish::Trigger{"", "axis_error", Access::write, 5, 1, 1024};
    const auto t = values(access);
    EXPECT_EQ(t.at("DWT_COMP1"), 0x00050005U) << "a halfword's value in both halves";
    EXPECT_EQ(t.at("DWT_FUNCTION1"), 0xAU | 1U << 8 | 1U << 10)
        << "a write, its value, of a halfword, linked to comparator 0";
    EXPECT_EQ(t.at("TRCRSCTLR2"), 1U << 16 | 1U << 1) << "the core's comparator 1";
    EXPECT_EQ(t.at("TRCEVENTCTL0R"), 2U);
    EXPECT_EQ(t.at("TRCEVENTCTL1R"), 1U << 11) << "ATB";
    EXPECT_EQ(t.at("TMC_TRG"), 256U) << "words";
    EXPECT_EQ(t.at("TMC_FFCR"), 1U | 2U | 1U << 8 | 1U << 13);
}

// IHI 0064 7.3.18 and 7.3.19: a resource for each event, and INSTEN for its packet.
TEST_F(OnArm, PlacesAreEventsOfTheInstructionTrace) {
    TraceWish wish;
    wish.instructions.emplace();
    wish.instructions->events = {"guide_task", "track_loop"};
    wish.to = TraceWish::To::buffer;
    const auto v = values(wish);
    EXPECT_EQ(v.at("TRCACVR0"), address_of("guide_task") & ~1U);
    EXPECT_EQ(v.at("TRCACVR1"), address_of("track_loop") & ~1U);
    EXPECT_EQ(v.at("TRCRSCTLR2"), 4U << 16 | 1U << 0);
    EXPECT_EQ(v.at("TRCRSCTLR3"), 4U << 16 | 1U << 1);
    EXPECT_EQ(v.at("TRCEVENTCTL0R"), 3U << 8 | 2U);
    EXPECT_EQ(v.at("TRCEVENTCTL1R"), 3U);
    wish.instructions->events.push_back("set_motor");
    const auto refused = plan(wish);
    ASSERT_FALSE(refused);
    EXPECT_NE(refused.error().what.find("tells 2 events, and 3 are wanted"), std::string::npos)
        << refused.error().text();
}

TEST_F(OnArm, TheTargetFileSaysWhatWasProgrammed) {
    TraceWish wish;
    wish.exceptions = true;
    wish.prescaler = 16;
    wish.variables.push_back({"position", Access::write, Tell::value});
    wish.to = TraceWish::To::swo;
    wish.baud = 4'000'000;
    const auto p = plan(wish);
    ASSERT_TRUE(p) << p.error().text();
    const auto described = described_target(target(), *p);
    ASSERT_TRUE(described) << described.error().text();
    EXPECT_EQ(described->streams[0].timestamp_prescaler, 16U);
    EXPECT_EQ(described->streams[0].swo_baud, 4'000'000U);
    ASSERT_EQ(described->watches.size(), 1U);
    EXPECT_EQ(described->watches[0].comparator, 0U);
    EXPECT_EQ(described->watches[0].symbol, "position");
    EXPECT_EQ(described->watches[0].type, "i32");
    TraceWish instructions;
    instructions.instructions.emplace().return_stack = true;
    instructions.to = TraceWish::To::buffer;
    const auto q = plan(instructions);
    ASSERT_TRUE(q) << q.error().text();
    const auto other = described_target(target(), *q);
    ASSERT_TRUE(other) << other.error().text();
    ASSERT_EQ(other->streams.size(), 2U) << "a stream for the instructions";
    EXPECT_EQ(other->streams[1].framing, Framing::tpiu);
    EXPECT_EQ(other->streams[1].trace_id, 2);
    EXPECT_TRUE(other->streams[1].etm4.return_stack);
}

TEST_F(OnArm, WhatWasThereIsPutBackRegisterByRegister) {
    by_firmware();
    const auto before = image_of_registers();
    TraceWish wish;
    wish.keep = false;
    wish.exceptions = false;
    wish.pc_samples = 64;
    wish.ports = {3};
    wish.variables.push_back({"position", Access::any, Tell::value_pc});
    wish.instructions.emplace();
    wish.to = TraceWish::To::buffer;
    const auto p = plan(wish);
    ASSERT_TRUE(p) << p.error().text();
    TraceProgram program(memory, std::chrono::milliseconds(50));
    const auto done = program.apply(*p);
    ASSERT_TRUE(done) << done.error().text();
    EXPECT_GT(program.written(), 20U);
    EXPECT_NE(image_of_registers(), before);
    const auto back = program.put_back();
    ASSERT_TRUE(back) << back.error().text();
    EXPECT_EQ(image_of_registers(), before);
}

TEST_F(OnArm, AWriteThatIsRefusedAnywhereLeavesTheTargetAsFound) {
    TraceWish wish;
    wish.pc_samples = 64;
    wish.ports = {3};
    wish.instructions.emplace();
    wish.to = TraceWish::To::buffer;
    const auto p = plan(wish);
    ASSERT_TRUE(p) << p.error().text();
    const auto before = image_of_registers();
    std::size_t refused = 0;
    for (std::size_t which = 1;; ++which) {
        memory.tried = 0;
        memory.refuse_write = which;
        TraceProgram program(memory, std::chrono::milliseconds(50));
        const auto done = program.apply(*p);
        memory.refuse_write = 0;
        if (done) {
            ASSERT_TRUE(program.put_back());
            break;
        }
        ++refused;
        EXPECT_NE(done.error().what.find("cannot be written"), std::string::npos) << done.error().what;
        ASSERT_EQ(image_of_registers(), before) << "write " << which;
    }
    EXPECT_GT(refused, 25U);
    EXPECT_EQ(image_of_registers(), before);
}

TEST_F(OnArm, TheFirmwareThatSetsTheUnitsTooIsNoticed) {
    TraceWish wish;
    wish.pc_samples = 64;
    const auto p = plan(wish);
    ASSERT_TRUE(p) << p.error().text();
    TraceProgram program(memory, std::chrono::milliseconds(50));
    ASSERT_TRUE(program.apply(*p));
    EXPECT_TRUE(program.overwritten().empty());
    by_firmware();
    const auto texts = program.overwritten();
    ASSERT_FALSE(texts.empty());
    EXPECT_NE(texts[0].find("the firmware sets it too"), std::string::npos) << texts[0];
}

struct Broken {
    const char* what;
    board::UnitTroubles troubles;
    const char* said;
};
class ABrokenUnit : public ::testing::TestWithParam<Broken> {};

TEST_P(ABrokenUnit, IsSaidBeforeAnythingIsRecorded) {
    board::ArmUnits board(GetParam().troubles);
    UnitMemory memory(board);
    const TargetFile file = target();
    std::string said;
    auto found = discover_units(memory, file.cores[0]);
    ASSERT_TRUE(found) << found.error().text();
    for (const auto& note : found->notes) said += note + "\n";
    TraceWish wish;
    wish.exceptions = true;
    wish.instructions.emplace();
    wish.to = TraceWish::To::buffer;
    auto p = plan_trace(wish, *found, memory, file, demo_firmware().get());
    if (!p) {
        said += p.error().text();
    } else {
        TraceProgram program(memory, std::chrono::milliseconds(20));
        const auto done = program.apply(*p);
        if (!done) said += done.error().text();
    }
    EXPECT_NE(said.find(GetParam().said), std::string::npos) << said;
    std::uint32_t demcr = 1;
    ASSERT_TRUE(board.read(0xE000EDFC, demcr));
    EXPECT_EQ(demcr, 0U) << "the target is as it was";
}

INSTANTIATE_TEST_SUITE_P(Each, ABrokenUnit,
                         ::testing::Values(Broken{"off", {"etm", "", "", ""}, "without power"},
                                           Broken{"off", {"tmc", "", "", ""}, "cannot be read"},
                                           Broken{"wrong", {"", "dwt", "", ""}, "which is none"},
                                           Broken{"lock", {"", "", "itm", ""}, "stays shut"},
                                           Broken{"lock", {"", "", "etm", ""}, "stays shut"},
                                           Broken{"lost", {"", "", "", "dwt"}, "does not stick"},
                                           Broken{"lost", {"", "", "", "funnel"}, "does not stick"}));

/// A ROM table that lists itself, tables that list each other, and entries that lead nowhere.
class CircularTables : public TargetMemory {
  public:
    Result<std::uint32_t> read(std::uint64_t address) override {
        ++reads;
        const std::uint64_t base = address & ~std::uint64_t{0xFFF}, offset = address & 0xFFF;
        if (base != 0xE00FF000 && base != 0xE00FE000) return failure("no memory there");
        constexpr std::uint32_t id[] = {0x0D, 0x10, 0x05, 0xB1};
        if (offset >= 0xFF0) return id[(offset - 0xFF0) / 4];
        if (offset >= 0xF00) return 0u;
        const std::uint32_t other = base == 0xE00FF000 ? 0xFFFFF003 : 0x00001003;
        return offset == 0      ? 0x3u
               : offset == 4    ? other
               : offset == 8    ? 0xFFF00003
               : offset == 12   ? 0x00000002
               : offset < 0x400 ? other
                                : 0u;
    }
    Result<void> write(std::uint64_t, std::uint32_t) override { return failure("never"); }
    std::size_t reads = 0;
};

TEST(RomTables, InACircleAreFollowedOnce) {
    CircularTables memory;
    const auto found = discover_units(memory, target().cores[0]);
    ASSERT_TRUE(found) << found.error().text();
    std::size_t tables = 0;
    for (const Unit& u : found->units) tables += u.kind == UnitKind::rom_table ? 1 : 0;
    EXPECT_EQ(tables, 2U);
    EXPECT_LT(memory.reads, 5000U);
    std::string notes;
    for (const auto& n : found->notes) notes += n + "\n";
    EXPECT_NE(notes.find("lists itself"), std::string::npos) << notes;
    EXPECT_NE(notes.find("circles are not followed"), std::string::npos) << notes;
}

TEST(RomTables, ThatCannotBeReadAreAProblem) {
    board::ArmUnits board;
    UnitMemory memory(board);
    memory.refuse_reads = true;
    const auto found = discover_units(memory, target().cores[0]);
    ASSERT_FALSE(found);
    EXPECT_NE(found.error().text().find("cannot be read"), std::string::npos);
}

TargetFile cop_target(
    const std::string& units = "units = [\"0x20000000\", \"0x20001000\", \"0x20002000\", \"0x20003000\"]\n") {
    return parse_target_file(
               "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"cop\"\nisa = \"rv32imac\"\nclock_hz = "
               "10_000_000\n"
               "image = \"larkspur-cop.elf\"\n" +
                   units + "[[stream]]\nprotocol = \"etrace\"\ncore = \"cop\"\n",
               MT_DEMO "/x.target.toml")
        .value();
}

class OnRiscV : public ::testing::Test {
  protected:
    std::shared_ptr<const Image> image = Image::open(MT_DEMO "/larkspur-cop.elf").value();
    board::RvCore core{image, 1};
    board::RvUnits board{core};
    UnitMemory memory{board};
    std::map<std::string, std::uint32_t> values(const TraceWish& wish) {
        const TargetFile file = cop_target();
        const auto found = discover_units(memory, file.cores[0]);
        EXPECT_TRUE(found) << found.error().text();
        return values_of(plan_trace(wish, *found, memory, file, image.get()));
    }
};

TEST_F(OnRiscV, TheUnitsTellWhatTheyAreAtTheAddressesNamed) {
    const auto found = discover_units(memory, cop_target().cores[0]);
    ASSERT_TRUE(found) << found.error().text();
    ASSERT_EQ(found->units.size(), 4U);
    EXPECT_EQ(found->units[0].kind, UnitKind::trace_encoder);
    EXPECT_EQ(found->units[1].kind, UnitKind::trace_funnel);
    EXPECT_EQ(found->units[2].kind, UnitKind::ram_sink);
    EXPECT_EQ(found->units[3].kind, UnitKind::pin_sink);
    EXPECT_EQ(found->units[0].feeds, std::vector<std::string>{"trace funnel"});
    EXPECT_FALSE(discover_units(memory, cop_target("").cores[0])) << "nobody said where they are";
}

TEST_F(OnRiscV, InstructionsIntoTheRamSinkSetTheseRegisters) {
    TraceWish wish;
    wish.instructions.emplace();
    wish.instructions->return_stack = true;
    wish.instructions->timestamps = true;
    wish.instructions->of = {"0x80000100..0x800001ff"};
    wish.to = TraceWish::To::buffer;
    wish.until_full = true;
    const auto v = values(wish);
    // trTeActive, Enable, InstTracing; InstMode 6; InstSyncMode 1 with 2^(2 + 4) packets
    EXPECT_EQ(v.at("trTeControl"), 7U | 6U << 4 | 1U << 16 | 2U << 20);
    EXPECT_EQ(v.at("trTeInstFeatures"), 1U << 3);
    EXPECT_EQ(v.at("trTsControl") & 0x8001U, 0x8001U);
    EXPECT_EQ(v.at("trTeInstFilters"), 1U);
    EXPECT_EQ(v.at("trTeComp0Control"), 5U << 4 | 3U << 12 | 1U << 16) << "at least P and at most S, both";
    EXPECT_EQ(v.at("trTeComp0PMatchLow"), 0x80000100U);
    EXPECT_EQ(v.at("trTeComp0SMatchLow"), 0x800001FFU);
    EXPECT_EQ(v.at("trTeFilter0Control"), 1U | 1U << 4);
    EXPECT_EQ(v.at("trRamControl"), 3U | 1U << 8) << "active, enabled, stop on wrap";
    EXPECT_EQ(v.at("trFunnelControl"), 3U);
}

TEST_F(OnRiscV, PinsTakeAModeAndADivider) {
    TraceWish wish;
    wish.instructions.emplace();
    wish.to = TraceWish::To::swo;
    wish.baud = 1'000'000;
    EXPECT_EQ(values(wish).at("trPibControl"), 3U | 5U << 4 | 9U << 16) << "10 MHz / 10, UART";
    wish.to = TraceWish::To::port;
    wish.width = 4;
    EXPECT_EQ(values(wish).at("trPibControl"), 3U | 10U << 4);
}

TEST(CodeRanges, NameFunctionsFilesAndAddresses) {
    const auto image = demo_firmware();
    const auto all = code_ranges({"*_task"}, image.get());
    ASSERT_TRUE(all) << all.error().text();
    EXPECT_GE(all->size(), 2U);
    const auto file = code_ranges({"axis.c"}, image.get());
    ASSERT_TRUE(file) << file.error().text();
    const auto plain = code_ranges({"0x08000000..0x080003ff"}, nullptr);
    ASSERT_TRUE(plain);
    EXPECT_EQ((*plain)[0], (std::pair<std::uint64_t, std::uint64_t>{0x08000000, 0x080003FF}));
    EXPECT_FALSE(code_ranges({"track_lop"}, image.get()));
    EXPECT_FALSE(code_ranges({"0x10..0x08"}, image.get()));
}

}  // namespace
}  // namespace mt
