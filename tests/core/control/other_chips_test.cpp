// Chips that the board is not: Armv8-M, a Cortex-M0+ with its micro trace buffer, older buffers, makers that are not
// known.
#include <gtest/gtest.h>

#include <algorithm>

#include "chips.h"
#include "control/units/plan.h"
#include "control/units/program.h"

namespace mt {
namespace {

using test::Chip;
using test::core_of;

constexpr std::uint64_t kRoot = 0xE00FF000, kItm = 0xE0000000, kDwt = 0xE0001000, kTpiu = 0xE0040000, kEtm = 0xE0041000;

/// DEVARCH of Arm (0x23B), present.
constexpr std::uint32_t arch(std::uint32_t id) { return 0x4770'0000 | id; }

/// A core of Armv8-M: one part number for all, told apart by DEVARCH; comparators that say what they can.
Chip armv8m(std::initializer_list<std::uint32_t> abilities) {
    Chip chip;
    chip.table(kRoot, {kDwt, kItm, kTpiu, kEtm});
    chip.component(kDwt, {9, 0xD21, arch(0x1A02), 0, 0});
    chip.component(kItm, {9, 0xD21, arch(0x1A01), 0x43, 0});
    chip.component(kTpiu, {9, 0xD21, 0, 0x11, 0xCA1});
    chip.component(kEtm, {9, 0xD21, arch(0x4A13), 0x13, 0});
    chip.words[kDwt] = static_cast<std::uint32_t>(abilities.size()) << 28;
    std::uint64_t at = kDwt + dwt::kFunction0;
    for (const std::uint32_t id : abilities) {
        chip.words[at] = id << 27;  // DWT_FUNCTIONn.ID
        at += dwt::kStride;
    }
    chip.words[kTpiu] = 0xB;
    chip.words[kEtm + etm4::kPowerStatus] = 1;
    chip.words[kEtm + etm4::kStat] = 1;
    chip.words[kEtm + etm4::kIdr0] = 1u << 29 | 1u << 9 | 8u << 24;
    chip.words[kEtm + etm4::kIdr0 + 16] = 4u << 12 | 3u << 16;  // no address comparators, four inputs of the core
    chip.words[kEtm + etm4::kIdr0 + 20] = 1u << 28;
    return chip;
}

TargetFile target_for(const std::string& isa, const std::string& stream = "itm") {
    return parse_target_file("format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\nisa = \"" + isa +
                                 "\"\nclock_hz = 64_000_000\nimage = \"larkspur.elf\"\n[[stream]]\nprotocol = \"" +
                                 stream + "\"\ncore = \"main\"\n",
                             MT_DEMO "/x.target.toml")
        .value();
}

std::shared_ptr<const Image> firmware() {
    static const auto image = Image::open(MT_DEMO "/larkspur.elf").value();
    return image;
}

Result<TracePlan> planned(TargetMemory& chip, const std::string& isa, const TraceWish& wish) {
    const TargetFile target = target_for(isa);
    const auto units = discover_units(chip, target.cores[0]);
    if (!units) return tl::make_unexpected(units.error());
    return plan_trace(wish, *units, chip, target, firmware().get());
}

std::uint32_t value_of(const TracePlan& plan, const std::string& reg) {
    std::uint32_t value = 0xDEAD'BEEF;
    for (const PlanStep& s : plan.steps)
        if (!s.waits && s.reg == reg) value = s.value;
    return value;
}

TEST(AnArmv8MCore, HasItsUnitsToldApartByTheirArchitecture) {
    Chip chip = armv8m({0x1E, 0x1E, 0x1E, 0x1E});
    const auto found = discover_units(chip, core_of("armv8-m.main"));
    ASSERT_TRUE(found) << found.error().text();
    for (const auto& [kind, base] : {std::pair{UnitKind::dwt, kDwt}, std::pair{UnitKind::itm, kItm},
                                     std::pair{UnitKind::tpiu, kTpiu}, std::pair{UnitKind::etm4, kEtm}}) {
        const Unit* unit = found->first(kind);
        ASSERT_NE(unit, nullptr) << unit_kind_name(kind);
        EXPECT_EQ(unit->address, base);
        EXPECT_TRUE(unit->trouble.empty()) << unit->trouble;
    }
    EXPECT_EQ(fact_text(*found->first(UnitKind::dwt)->find("form")), "Armv8-M");
    EXPECT_TRUE(found->first(UnitKind::tpiu)->flag("nrz"));
}

TEST(AnArmv8MCore, WatchesAVariableWithMatchActionAndSize) {
    Chip chip = armv8m({0x1E, 0x1E, 0x1E, 0x1E});
    TraceWish wish;
    wish.variables = {{"axis_error", Access::write, Tell::value}, {"position", Access::any, Tell::value_pc}};
    wish.to = TraceWish::To::swo;
    wish.baud = 2'000'000;
    const auto plan = planned(chip, "armv8-m.main", wish);
    ASSERT_TRUE(plan) << plan.error().text();
    EXPECT_EQ(value_of(*plan, "DWT_COMP0"), firmware()->symbol_named("axis_error")->address);
    EXPECT_EQ(value_of(*plan, "DWT_FUNCTION0"), 0xDu | 2u << 4 | 1u << 10) << "a write with its value, of a halfword";
    EXPECT_EQ(value_of(*plan, "DWT_FUNCTION1"), 0xCu | 3u << 4 | 2u << 10);
    EXPECT_EQ(value_of(*plan, "DWT_MASK0"), 0xDEAD'BEEF) << "there is no such register";
}

TEST(AnArmv8MCore, WatchesAnArrayWithAPairOfComparators) {
    Chip chip = armv8m({0x1E, 0x1E, 0x1E, 0x1E});
    TraceWish wish;
    wish.variables = {{"frame", Access::write, Tell::address}};
    wish.to = TraceWish::To::swo;
    wish.baud = 2'000'000;
    const auto plan = planned(chip, "armv8-m.main", wish);
    ASSERT_TRUE(plan) << plan.error().text();
    const auto at = static_cast<std::uint32_t>(firmware()->symbol_named("frame")->address);
    EXPECT_EQ(value_of(*plan, "DWT_COMP0"), at);
    EXPECT_EQ(value_of(*plan, "DWT_COMP1"), at + 255) << "the limit is inclusive";
    EXPECT_EQ(value_of(*plan, "DWT_FUNCTION1") & 0xF, 7u) << "data address limit";
    EXPECT_EQ(bits_of(value_of(*plan, "DWT_FUNCTION1"), 5, 4), 3u) << "tells the address";
}

TEST(AnArmv8MCore, RefusesWhatItsComparatorsCannotTell) {
    Chip chip = armv8m({0x1E, 0x1E});
    TraceWish wish;
    wish.to = TraceWish::To::swo;
    wish.baud = 2'000'000;
    wish.variables = {{"axis_error", Access::write, Tell::value_address}};
    const auto both = planned(chip, "armv8-m.main", wish);
    ASSERT_FALSE(both);
    EXPECT_NE(both.error().what.find("value and address together"), std::string::npos);
    wish.variables = {{"frame", Access::write, Tell::address}, {"position", Access::write, Tell::value}};
    const auto three = planned(chip, "armv8-m.main", wish);
    ASSERT_FALSE(three);
    EXPECT_NE(three.error().what.find("all 2 are in use"), std::string::npos) << three.error().what;
}

TEST(AnArmv8MCore, WithoutAddressComparatorsStartsByTheOnesOfItsDwt) {
    Chip chip = armv8m({0x1E, 0x1E, 0x1E, 0x1E});
    TraceWish wish;
    wish.instructions.emplace();
    wish.to = TraceWish::To::port;
    wish.start = TraceWish::Trigger{"guide_task", "", Access::write, std::nullopt, 1, std::nullopt};
    wish.stop = TraceWish::Trigger{"", "axis_error", Access::write, std::nullopt, 1, std::nullopt};
    const auto plan = planned(chip, "armv8-m.main", wish);
    ASSERT_TRUE(plan) << plan.error().text();
    EXPECT_EQ(value_of(*plan, "DWT_FUNCTION0"), 2u | 1u << 10) << "an instruction's address, a trigger";
    EXPECT_EQ(value_of(*plan, "DWT_FUNCTION1"), 5u | 1u << 10) << "a write, a trigger";
    EXPECT_EQ(value_of(*plan, "TRCVIPCSSCTLR"), 1u | 2u << 16) << "input 0 starts, input 1 stops";
    EXPECT_EQ(value_of(*plan, "TRCVICTLR"), 1u) << "not started";
    wish.instructions->of = {"track_loop"};
    const auto ranges = planned(chip, "armv8-m.main", wish);
    ASSERT_FALSE(ranges);
    EXPECT_NE(ranges.error().text().find("leave `of` out"), std::string::npos) << ranges.error().text();
}

TEST(ARomTable, OfTheNewerKindIsReadWithEntriesOf64Bits) {
    Chip chip;
    const std::uint64_t root = 0x8000'0000, itm = 0x1'8001'0000;
    chip.component(root, {9, 0x4E0, arch(0x0AF7), 0, 1});  // DEVID.FORMAT: 64-bit entries
    chip.words[root] = 0x0001'0003;
    chip.words[root + 4] = 1;            // bits 63 to 32 of the offset
    chip.words[root + 8] = 0x0002'0002;  // not present
    chip.component(itm, {9, 0, arch(0x1A01), 0x43, 0});
    CoreSpec core = core_of("armv8-a");
    core.rom_table = root;
    const auto found = discover_units(chip, core);
    ASSERT_TRUE(found) << found.error().text();
    ASSERT_EQ(found->units.size(), 2u) << "what is not present is not looked at";
    EXPECT_EQ(found->units[1].address, itm);
    EXPECT_EQ(found->units[1].kind, UnitKind::itm);
}

TEST(ARomTable, ListsWhatNobodyKnowsAndThatIsSaidByItsType) {
    Chip chip;
    chip.table(kRoot, {0xE0050000, 0xE0051000, 0xE0052000});
    chip.component(0xE0050000, {9, 0x123, 0, 0x13, 0, 0x0EF});
    chip.component(0xE0051000, {9, 0x124, 0, 0x21, 0, 0x0EF});
    chip.component(0xE0052000, {9, 0x125, 0, 0x12, 0, 0x0EF});
    const auto found = discover_units(chip, core_of("armv7-m"));
    ASSERT_TRUE(found) << found.error().text();
    ASSERT_EQ(found->units.size(), 4u);
    EXPECT_EQ(found->units[1].name, "unknown source");
    EXPECT_EQ(found->units[2].name, "unknown sink");
    EXPECT_EQ(found->units[3].name, "unknown link");
    for (std::size_t i = 1; i < 4; ++i)
        EXPECT_EQ(found->units[i].kind, UnitKind::unknown) << "and nothing is done with it";
}

TEST(ARomTable, WithoutAnEndStopsWhereItsPageEnds) {
    Chip chip;
    chip.component(kRoot, {1, 0x4C4});
    for (std::uint32_t at = 0; at < 0xF00; at += 4)
        chip.words[kRoot + at] = 0x00001002 + (at << 12);  // nothing is present
    const auto found = discover_units(chip, core_of("armv7-m"));
    ASSERT_TRUE(found) << found.error().text();
    EXPECT_EQ(found->units.size(), 1u);
}

TEST(ARomTable, OfAThousandUnitsIsLookedAtAsFarAsMakesSense) {
    Chip chip;
    chip.component(kRoot, {1, 0x4C4});
    for (std::uint32_t i = 0; i < 900; ++i) {
        chip.words[kRoot + 4 * i] = (0x0010'0000 + (i << 12)) | 3;
        chip.component((kRoot + 0x0010'0000 + (i << 12)) & 0xFFFF'FFFF, {9, 0x961, 0, 0x21, 0});
    }
    const auto found = discover_units(chip, core_of("armv7-m"));
    ASSERT_TRUE(found) << found.error().text();
    EXPECT_LE(found->units.size(), 128u);
    for (std::size_t i = 1; i < found->units.size(); ++i)
        for (std::size_t k = 0; k < i; ++k)
            ASSERT_NE(found->units[i].name, found->units[k].name) << "each has a name of its own";
}

TEST(Discovery, CanBeCancelled) {
    Chip chip = armv8m({0x1E});
    Progress progress;
    progress.cancel();
    const auto found = discover_units(chip, core_of("armv8-m.main"), &progress);
    ASSERT_FALSE(found);
    EXPECT_NE(found.error().what.find("cancelled"), std::string::npos);
}

/// A Cortex-M0+: no ITM, a micro trace buffer (DDI 0486).
Chip with_mtb(std::uint32_t mask = 6) {
    Chip chip;
    chip.table(kRoot, {0xF0000000});
    chip.component(0xF0000000, {9, 0x932, 0, 0x31, 0});
    chip.words[0xF0000000 + mtb::kMaster] = mask;
    chip.words[0xF0000000 + mtb::kBase] = 0x2000'0000;
    return chip;
}

TEST(AMicroTraceBuffer, IsSwitchedOnWithItsSize) {
    Chip chip = with_mtb();
    TraceWish wish;
    wish.instructions.emplace();
    const auto plan = planned(chip, "armv6-m", wish);
    ASSERT_TRUE(plan) << plan.error().text();
    EXPECT_EQ(value_of(*plan, "MTB_POSITION"), 0u);
    EXPECT_EQ(value_of(*plan, "MTB_MASTER"), 1u << 31 | 6u) << "1 024 bytes, as it is found";
    EXPECT_EQ(plan->buffer_bytes, 1024u);
    wish.memory_size = 4096;
    wish.until_full = true;
    const auto larger = planned(chip, "armv6-m", wish);
    ASSERT_TRUE(larger) << larger.error().text();
    EXPECT_EQ(value_of(*larger, "MTB_MASTER"), 1u << 31 | 8u);
    EXPECT_EQ(value_of(*larger, "MTB_FLOW"), (4096u - 8) | 1u) << "AUTOSTOP at the last packet";
    const auto described = described_target(target_for("armv6-m"), *larger);
    ASSERT_TRUE(described) << described.error().text();
    EXPECT_EQ(described->streams.back().protocol, Protocol::mtb);
}

TEST(AMicroTraceBuffer, RefusesWhatItDoesNotDo) {
    Chip chip = with_mtb();
    const auto refusal = [&](const std::function<void(TraceWish&)>& change) {
        TraceWish wish;
        wish.instructions.emplace();
        change(wish);
        const auto plan = planned(chip, "armv6-m", wish);
        return plan ? std::string() : plan.error().text();
    };
    EXPECT_NE(refusal([](TraceWish& w) { w.exceptions = true; }).find("no ITM"), std::string::npos);
    EXPECT_NE(refusal([](TraceWish& w) { w.instructions->of = {"main"}; }).find("nothing else"), std::string::npos);
    EXPECT_NE(refusal([](TraceWish& w) { w.instructions->timestamps = true; }).find("nothing else"), std::string::npos);
    EXPECT_NE(refusal([](TraceWish& w) { w.to = TraceWish::To::swo; }).find("sends nothing"), std::string::npos);
    EXPECT_NE(refusal([](TraceWish& w) { w.memory_size = 1000; }).find("power of two"), std::string::npos);
    EXPECT_NE(refusal([](TraceWish& w) {
                  w.stop = TraceWish::Trigger{"main", "", Access::write, std::nullopt, 1, 64};
              }).find("no trigger"),
              std::string::npos);
}

/// A core with an ETM, and an older ETB behind a funnel, all locked (DDI 0314).
Chip with_etb() {
    Chip chip;
    const std::uint64_t funnel_at = 0xE0043000, etb_at = 0xE0044000;
    chip.table(kRoot, {kDwt, kItm, kEtm, funnel_at, etb_at});
    chip.component(kDwt, {0xE, 0x002});
    chip.component(kItm, {0xE, 0x001});
    chip.component(kEtm, {9, 0x975, arch(0x4A13), 0x13, 0});
    chip.component(funnel_at, {9, 0x908, 0, 0x12, 0x24});
    chip.component(etb_at, {9, 0x907, 0, 0x21, 0});
    chip.words[kDwt] = 4u << 28;
    chip.words[kEtm + etm4::kPowerStatus] = 1;
    chip.words[kEtm + etm4::kIdr0 + 16] = 2 | 3u << 16;
    chip.words[etb_at + tmc::kRsz] = 2048;
    chip.words[etb_at + tmc::kFfsr] = 2;
    for (const std::uint64_t base : {funnel_at, etb_at}) chip.lockable(base);
    return chip;
}

TraceWish instructions_alone() {
    TraceWish wish;
    wish.keep = false;
    wish.instructions.emplace();
    wish.to = TraceWish::To::buffer;
    return wish;
}

TEST(AnEtb, KeepsTheNewestAndCanStopBehindATrigger) {
    Chip chip = with_etb();
    TraceWish wish = instructions_alone();
    const auto plan = planned(chip, "armv7-m", wish);
    ASSERT_TRUE(plan) << plan.error().text();
    EXPECT_EQ(plan->buffer_bytes, 8192u);
    EXPECT_EQ(value_of(*plan, "ETB_CTL"), 1u);
    EXPECT_EQ(value_of(*plan, "ETB_FFCR"), 1u);
    EXPECT_EQ(value_of(*plan, "TMC_MODE"), 0xDEAD'BEEF) << "an ETB has no modes";
    EXPECT_EQ(value_of(*plan, "FUNCTL"), 0xFu) << "its four inputs";
    wish.until_full = true;
    const auto full = planned(chip, "armv7-m", wish);
    ASSERT_FALSE(full);
    EXPECT_NE(full.error().text().find("after_bytes"), std::string::npos) << full.error().text();
    wish.until_full = false;
    wish.stop = TraceWish::Trigger{"track_loop", "", Access::write, std::nullopt, 1, 1000};
    const auto triggered = planned(chip, "armv7-m", wish);
    ASSERT_TRUE(triggered) << triggered.error().text();
    EXPECT_EQ(value_of(*triggered, "ETB_TRG"), 250u);
    EXPECT_NE(value_of(*triggered, "ETB_FFCR") & tmc::kStopOnTrig, 0u);
    wish.stop->after_bytes = 100'000;
    const auto much = planned(chip, "armv7-m", wish);
    ASSERT_FALSE(much);
    EXPECT_NE(much.error().what.find("less than"), std::string::npos) << much.error().what;
}

TEST(AProgram, OpensTheLocksOfUnitsAndShutsThemAgain) {
    Chip chip = with_etb();
    const TraceWish wish = instructions_alone();
    chip.words[kEtm + etm4::kStat] = 1;  // idle whenever it is asked
    const TargetFile target = target_for("armv7-m");
    const auto units = discover_units(chip, target.cores[0]);
    ASSERT_TRUE(units) << units.error().text();
    EXPECT_TRUE(units->named("ETB")->locked);
    auto plan = plan_trace(wish, *units, chip, target, firmware().get());
    ASSERT_TRUE(plan) << plan.error().text();
    // That the trace unit leaves idle is behaviour which plain words do not have.
    plan->steps.erase(std::remove_if(plan->steps.begin(), plan->steps.end(),
                                     [](const PlanStep& s) { return s.waits && s.reg == "TRCSTATR"; }),
                      plan->steps.end());
    TraceProgram program(chip, std::chrono::milliseconds(20));
    const auto done = program.apply(*plan);
    ASSERT_TRUE(done) << done.error().text();
    EXPECT_EQ(chip.words[0xE0044000 + 0xFB4], 1u) << "open while it is used";
    EXPECT_EQ(chip.words[0xE0044000 + tmc::kCtl], 1u);
    ASSERT_TRUE(program.put_back());
    EXPECT_EQ(chip.words[0xE0044000 + 0xFB4], 3u);
    EXPECT_EQ(chip.words[0xE0044000 + tmc::kCtl], 0u);
    EXPECT_EQ(chip.words[demcr::kAddress], 0u);
}

TEST(AWishForMemory, NeedsToKnowWhere) {
    Chip chip = with_etb();
    const std::uint64_t etr_at = 0xE0045000;
    chip.words[kRoot + 20] = (static_cast<std::uint32_t>(etr_at - kRoot) & 0xFFFFF000) | 3;
    chip.component(etr_at, {9, 0x961, 0, 0x21, 0x40});  // CONFIGTYPE 1: a router
    chip.words[etr_at + tmc::kSts] = tmc::kReady;
    TraceWish wish;
    wish.keep = false;
    wish.instructions.emplace();
    wish.to = TraceWish::To::memory;
    const auto nowhere = planned(chip, "armv7-m", wish);
    ASSERT_FALSE(nowhere);
    EXPECT_NE(nowhere.error().text().find("memory = { symbol"), std::string::npos);
    wish.memory_symbol = "frame";
    const auto symbol = planned(chip, "armv7-m", wish);
    ASSERT_TRUE(symbol) << symbol.error().text();
    EXPECT_EQ(value_of(*symbol, "TMC_DBALO"), firmware()->symbol_named("frame")->address);
    EXPECT_EQ(value_of(*symbol, "TMC_RWP"), firmware()->symbol_named("frame")->address) << "it begins there";
    EXPECT_EQ(value_of(*symbol, "TMC_RSZ"), 64u) << "words";
    EXPECT_EQ(value_of(*symbol, "TMC_AXICTL") & tmc::kScatter, 0u);
    wish.memory_symbol.clear();
    wish.memory_at = 0x2000'0104;
    wish.memory_size = 1024;
    const auto crooked = planned(chip, "armv7-m", wish);
    ASSERT_FALSE(crooked);
    EXPECT_NE(crooked.error().what.find("16 bytes"), std::string::npos);
    wish.memory_symbol = "nothing_of_the_kind";
    EXPECT_FALSE(planned(chip, "armv7-m", wish));
}

}  // namespace
}  // namespace mt
