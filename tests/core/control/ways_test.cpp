// The way that trace takes out of a chip: pins, one wire, buffers, memory, with and without frames; and what is refused
// of it.
#include <gtest/gtest.h>

#include <algorithm>
#include <functional>
#include <map>

#include "control/units/plan.h"
#include "control/units/program.h"
#include "unit_memory.h"

namespace mt {
namespace {

using test::UnitMemory;
using To = TraceWish::To;

std::shared_ptr<const Image> image_of(const std::string& isa) {
    static const auto of_main = Image::open(MT_DEMO "/larkspur.elf").value(),
                      of_cop = Image::open(MT_DEMO "/larkspur-cop.elf").value();
    return isa.rfind("rv", 0) == 0 ? of_cop : of_main;
}

TargetFile described(const std::string& isa, const std::string& more) {
    const bool riscv = isa.rfind("rv", 0) == 0;
    return parse_target_file(
               "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"core\"\nisa = \"" + isa + "\"\nimage = \"" +
                   (riscv ? "larkspur-cop.elf" : "larkspur.elf") + "\"\n" +
                   (riscv ? "units = [\"0x20000000\", \"0x20001000\", \"0x20002000\", \"0x20003000\"]\n" : "") + more,
               MT_DEMO "/x.target.toml")
        .value();
}

const std::string kItmStream = "clock_hz = 120_000_000\n[[stream]]\nprotocol = \"itm\"\ncore = \"core\"\n";
const std::string kEtraceStream = "clock_hz = 10_000_000\n[[stream]]\nprotocol = \"etrace\"\ncore = \"core\"\n";

/// Plans of one core with its board; changes nothing.
class Ways : public ::testing::Test {
  protected:
    using Change = std::function<void(TraceWish&)>;
    Result<TracePlan> arm(const Change& change, const std::string& target = kItmStream) {
        TraceWish wish;
        change(wish);
        return planned("armv7e-m", target, wish, arm_memory);
    }
    Result<TracePlan> riscv(const Change& change, const std::string& target = kEtraceStream) {
        TraceWish wish;
        wish.instructions.emplace();
        change(wish);
        return planned("rv32imac", target, wish, riscv_memory);
    }
    static std::string refusal(const Result<TracePlan>& plan) { return plan ? std::string() : plan.error().text(); }
    static std::uint32_t value(const Result<TracePlan>& plan, const std::string& reg) {
        std::uint32_t last = 0xDEAD'BEEF;
        EXPECT_TRUE(plan) << plan.error().text();
        if (plan)
            for (const PlanStep& s : plan->steps)
                if (!s.waits && s.reg == reg) last = s.value;
        return last;
    }
    static bool told(const Result<TracePlan>& plan, const std::string& part) {
        return plan && std::any_of(plan->notes.begin(), plan->notes.end(),
                                   [&](const std::string& n) { return n.find(part) != std::string::npos; });
    }

    board::ArmUnits arm_board;
    UnitMemory arm_memory{arm_board};
    board::RvCore core{image_of("rv32imac"), 1};
    board::RvUnits riscv_board{core};
    UnitMemory riscv_memory{riscv_board};

  private:
    Result<TracePlan> planned(const std::string& isa, const std::string& target, const TraceWish& wish,
                              TargetMemory& memory) {
        const TargetFile file = described(isa, target);
        const auto units = discover_units(memory, file.cores[0]);
        if (!units) return tl::make_unexpected(units.error());
        return plan_trace(wish, *units, memory, file, image_of(isa).get());
    }
};

TEST_F(Ways, OneWireTakesItsRateFromTheClock) {
    const auto wire = [&](std::uint64_t baud, bool manchester) {
        return arm([=](TraceWish& w) {
            w.exceptions = true;
            w.to = To::swo;
            w.baud = baud;
            w.manchester = manchester;
        });
    };
    for (const auto& [baud, divider] :
         {std::pair{120'000'000u, 0u}, {24'000'000u, 4u}, {2'000'000u, 59u}, {115'200u, 1041u}})
        EXPECT_EQ(value(wire(baud, false), "TPIU_ACPR"), divider) << baud;
    EXPECT_EQ(value(wire(2'000'000, true), "TPIU_ACPR"), 29u) << "two edges a bit";
    EXPECT_EQ(value(wire(2'000'000, true), "TPIU_SPPR"), 1u);
    EXPECT_TRUE(told(wire(7'000'000, false), "above")) << "7.06 MBaud is what there is";
    EXPECT_NE(refusal(wire(50'000'000, false)).find("cannot be had"), std::string::npos);
    EXPECT_NE(refusal(wire(1'000, false)).find("cannot be had"), std::string::npos) << "the divider has thirteen bits";
    EXPECT_NE(
        refusal(arm([](TraceWish& w) { w.exceptions = true; }, "[[stream]]\nprotocol = \"ctf\"\ncore = \"core\"\n"))
            .find("clock"),
        std::string::npos)
        << "without a clock there is nothing to divide";
}

TEST_F(Ways, WithoutABaudTheTargetFilesIsTakenOrAUsualOne) {
    const auto events = [](TraceWish& w) {
        w.exceptions = true;
        w.to = To::swo;
    };
    EXPECT_TRUE(told(arm(events), "no baud was named"));
    EXPECT_EQ(value(arm(events, kItmStream + "[stream.itm]\nswo_baud = 12_000_000\n"), "TPIU_ACPR"), 9u);
}

TEST_F(Ways, FramesAreThereWhereTheyAreNeeded) {
    const auto events = [](TraceWish& w) { w.exceptions = true; };
    const auto with = [&](To to, bool instructions, std::optional<bool> formatter = std::nullopt) {
        return arm([=](TraceWish& w) {
            events(w);
            if (instructions) w.instructions.emplace();
            w.to = to;
            w.formatter = formatter;
            if (to == To::swo) w.baud = 2'000'000;
        });
    };
    EXPECT_FALSE(with(To::swo, false)->framed);
    EXPECT_TRUE(with(To::swo, true)->framed) << "two sources";
    EXPECT_TRUE(with(To::port, false)->framed);
    EXPECT_TRUE(with(To::buffer, false)->framed);
    EXPECT_FALSE(with(To::buffer, false, false)->framed) << "asked for without";
    EXPECT_TRUE(with(To::swo, false, true)->framed) << "asked for";
    EXPECT_NE(refusal(with(To::port, false, false)).find("needs the formatter"), std::string::npos);
    EXPECT_NE(refusal(with(To::swo, true, false)).find("told apart"), std::string::npos);
    EXPECT_EQ(value(with(To::swo, true), "ITM_TCR") >> 16 & 0x7F, 1u);
    EXPECT_EQ(value(with(To::swo, true), "TRCTRACEIDR"), 2u) << "IDs that differ";
}

TEST_F(Ways, APortTakesItsWidth) {
    for (const auto& [width, size] : {std::pair{1u, 1u}, {2u, 2u}, {4u, 8u}}) {
        const auto plan = arm([w = width](TraceWish& wish) {
            wish.exceptions = true;
            wish.to = To::port;
            wish.width = w;
        });
        EXPECT_EQ(value(plan, "TPIU_CSPSR"), size);
        EXPECT_EQ(value(plan, "TPIU_SPPR"), 0u);
        EXPECT_NE(value(plan, "TPIU_FFCR") & 2u, 0u);
    }
}

TEST_F(Ways, MemoryNeedsAUnitThatWritesThere) {
    const auto text = refusal(arm([](TraceWish& w) {
        w.instructions.emplace();
        w.to = To::memory;
    }));
    EXPECT_NE(text.find("system memory"), std::string::npos) << text;
}

TEST_F(Ways, LeftOutItGoesWhereItMakesSense) {
    EXPECT_EQ(arm([](TraceWish& w) { w.exceptions = true; })->to, To::swo);
    EXPECT_EQ(arm([](TraceWish& w) { w.instructions.emplace(); })->to, To::buffer);
    EXPECT_EQ(riscv([](TraceWish&) {})->to, To::buffer);
}

TEST_F(Ways, ATriggerNeedsABufferAndSomethingThatTriggers) {
    const TraceWish::Trigger stop{"track_loop", "", Access::write, std::nullopt, 1, 512};
    EXPECT_NE(refusal(arm([&](TraceWish& w) {
                  w.instructions.emplace();
                  w.stop = stop;
                  w.to = To::swo;
              })).find("by a buffer"),
              std::string::npos);
    EXPECT_NE(refusal(arm([&](TraceWish& w) {
                  w.exceptions = true;
                  w.stop = stop;
                  w.to = To::buffer;
              })).find("instruction trace"),
              std::string::npos);
    EXPECT_NE(refusal(arm([&](TraceWish& w) {
                  w.instructions.emplace();
                  w.to = To::buffer;
                  w.start = TraceWish::Trigger{"guide_task", "", Access::write, std::nullopt, 2, std::nullopt};
                  w.stop = TraceWish::Trigger{"track_loop", "", Access::write, std::nullopt, 2, std::nullopt};
              })).find("not both"),
              std::string::npos)
        << "one counter";
}

TEST_F(Ways, WithoutInstructionTraceTheCoreIsHaltedToStartAndStop) {
    const auto plan = arm([](TraceWish& w) {
        w.exceptions = true;
        w.start = TraceWish::Trigger{"guide_task", "", Access::write, std::nullopt, 3, std::nullopt};
        w.stop = TraceWish::Trigger{"", "axis_error", Access::write, std::nullopt, 1, std::nullopt};
    });
    ASSERT_TRUE(plan) << plan.error().text();
    ASSERT_TRUE(plan->halt_to_start && plan->halt_to_stop);
    EXPECT_EQ(plan->halt_to_start->after, 3u);
    EXPECT_TRUE(told(plan, "halting the core"));
    EXPECT_NE(refusal(arm([](TraceWish& w) {
                  w.exceptions = true;
                  w.stop = TraceWish::Trigger{"", "axis_error", Access::write, 5, 1, std::nullopt};
              })).find("wait for a value"),
              std::string::npos);
}

TEST_F(Ways, MoreRangesThanComparatorsAreRefusedWithBothNumbers) {
    const auto text = refusal(arm([](TraceWish& w) {
        w.instructions.emplace();
        w.instructions->of = {"0x08000000..0x0800000f", "0x08000100..0x0800010f", "0x08000200..0x0800020f"};
        w.to = To::buffer;
    }));
    EXPECT_NE(text.find("3 ranges"), std::string::npos) << text;
    EXPECT_NE(text.find("compares with 2"), std::string::npos) << text;
}

TEST_F(Ways, KeepFalseLeavesNothingOnThatWasNotAskedFor) {
    arm_board.set_by_firmware(120'000'000, 24'000'000, {0x20001068, 0x20000008});
    const auto instructions = arm([](TraceWish& w) {
        w.keep = false;
        w.instructions.emplace();
        w.to = To::buffer;
    });
    EXPECT_EQ(value(instructions, "ITM_TCR") & 1u, 0u) << "the ITM is off";
    EXPECT_EQ(value(instructions, "ITM_TER0"), 0u);
    EXPECT_EQ(value(instructions, "DWT_CTRL") & (1u << 16 | 1u << 12), 0u);
    const auto ports = arm([](TraceWish& w) {
        w.keep = false;
        w.ports = {9};
    });
    EXPECT_EQ(value(ports, "ITM_TCR") & 7u, 7u) << "times and synchronisation stay, or nothing would have a time";
    EXPECT_TRUE(told(ports, "though not named"));
    EXPECT_EQ(value(arm([](TraceWish& w) {
                        w.keep = false;
                        w.ports = {9};
                        w.local_timestamps = false;
                        w.sync = 0;
                    }),
                    "ITM_TCR") &
                  6u,
              0u)
        << "unless they are refused";
}

TEST_F(Ways, OnRiscVWhatItHasNotIsRefused) {
    EXPECT_NE(refusal(riscv([](TraceWish& w) { w.exceptions = true; })).find("none of the units"), std::string::npos);
    EXPECT_NE(refusal(riscv([](TraceWish& w) { w.instructions->cycle_counts = 4; })).find("no cycle counts"),
              std::string::npos);
    EXPECT_NE(refusal(riscv([](TraceWish& w) { w.instructions->branch_broadcast = true; })).find("no branch broadcast"),
              std::string::npos);
    EXPECT_NE(refusal(riscv([](TraceWish& w) {
                  w.start = TraceWish::Trigger{"", "edges", Access::write, std::nullopt, 1, std::nullopt};
              })).find("not on accesses"),
              std::string::npos);
    EXPECT_NE(refusal(riscv([](TraceWish& w) {
                  w.to = To::port;
                  w.width = 3;
              })).find("1, 2, 4, 8 or 16"),
              std::string::npos);
    EXPECT_NE(refusal(riscv([](TraceWish& w) { w.to = To::memory; })).find("memory = {"), std::string::npos);
    EXPECT_NE(refusal(riscv([](TraceWish& w) {
                  w.to = To::swo;
                  w.baud = 7'000'000;
              })).find("cannot be had"),
              std::string::npos);
    EXPECT_NE(refusal(riscv([](TraceWish& w) { w.instructions.reset(); })).find("asks for nothing"), std::string::npos);
}

TEST_F(Ways, OnRiscVTheTargetFileSaysHowTheEncoderIsSet) {
    const auto plan = riscv([](TraceWish& w) {
        w.instructions->return_stack = true;
        w.instructions->timestamps = true;
    });
    ASSERT_TRUE(plan) << plan.error().text();
    const auto target = described_target(described("rv32imac", kEtraceStream), *plan);
    ASSERT_TRUE(target) << target.error().text();
    const EtraceParameters& p = target->streams.at(0).etrace;
    EXPECT_TRUE(p.implicit_return);
    EXPECT_FALSE(p.full_address);
    EXPECT_EQ(p.time_width, 40u);
    EXPECT_EQ(p.return_stack_size, 4u);
    EXPECT_EQ(target->streams[0].timestamp_hz, 10'000'000u);
    EXPECT_TRUE(told(plan, "is assumed")) << "how deep the stack is no register tells";
    const auto plain = riscv([](TraceWish& w) {
        w.instructions->return_stack = false;
        w.instructions->timestamps = false;
    });
    const auto other = described_target(described("rv32imac", kEtraceStream), *plain);
    ASSERT_TRUE(other) << other.error().text();
    EXPECT_FALSE(other->streams.at(0).etrace.implicit_return);
    EXPECT_EQ(other->streams[0].etrace.time_width, 0u);
}

TEST_F(Ways, OnRiscVAStartAndAStopAreOneComparator) {
    const auto plan = riscv([](TraceWish& w) {
        w.start = TraceWish::Trigger{"interpolate", "", Access::write, std::nullopt, 1, std::nullopt};
        w.stop = TraceWish::Trigger{"main", "", Access::write, std::nullopt, 1, std::nullopt};
    });
    EXPECT_EQ(value(plan, "trTeComp0Control"), 3u << 16) << "from P until S";
    EXPECT_EQ(value(plan, "trTeComp0PMatchLow"), image_of("rv")->symbol_named("interpolate")->address);
    EXPECT_EQ(value(plan, "trTeInstFilters"), 1u);
    const auto one = riscv([](TraceWish& w) {
        w.start = TraceWish::Trigger{"interpolate", "", Access::write, std::nullopt, 1, std::nullopt};
    });
    ASSERT_TRUE(one) << one.error().text();
    EXPECT_TRUE(one->halt_to_start) << "alone it is done by halting";
}

TEST_F(Ways, TheOtherSinkIsSwitchedOffAndPutBack) {
    riscv_board.set_by_firmware();
    const auto plan = riscv([](TraceWish& w) { w.to = To::buffer; });
    EXPECT_EQ(value(plan, "trPibControl") & 2u, 0u);
    const auto registers = [&] {
        std::map<std::uint32_t, std::uint32_t> all;
        for (std::uint32_t at = 0x20000000; at < 0x20004000; at += 4) {
            std::uint32_t v = 0;
            const std::uint32_t offset = at & 0xFFF;
            const bool moves = (at & 0xFFFFF000) == 0x20002000 && (offset == 0x20 || offset == 0x28 || offset == 0x40);
            if (!moves && riscv_board.read(at, v)) all[at] = v;
        }
        return all;
    };
    const auto before = registers();
    TraceProgram program(riscv_memory, std::chrono::milliseconds(50));
    const auto done = program.apply(*plan);
    ASSERT_TRUE(done) << done.error().text();
    EXPECT_NE(registers(), before);
    ASSERT_TRUE(program.put_back());
    EXPECT_EQ(registers(), before);
}

/// Exceptions on some way out of a board one of whose units has no power.
Result<TracePlan> planned_in_the_dark(const char* unit, To to, const std::vector<std::string>& ignored = {}) {
    board::ArmUnits dark({unit, "", "", ""});
    UnitMemory memory(dark);
    const TargetFile file = described("armv7e-m", kItmStream);
    const auto units = discover_units(memory, file.cores[0]);
    if (!units) return tl::make_unexpected(units.error());
    TraceWish wish;
    wish.exceptions = true;
    wish.to = to;
    wish.ignore_units = ignored;
    return plan_trace(wish, *units, memory, file, image_of("arm").get());
}

TEST(AUnitWithoutPower, IsNoWayOut) {
    const auto plan = planned_in_the_dark("tpiu", To::swo);
    ASSERT_FALSE(plan);
    EXPECT_NE(plan.error().what.find("0xe0040000 cannot be read"), std::string::npos) << plan.error().what;
    EXPECT_TRUE(planned_in_the_dark("tpiu", To::buffer)) << "the buffer is another way";
}

TEST(AUnitWithoutPower, MayStandOnTheWayUnlessTheWishSaysOtherwise) {
    const auto refused = planned_in_the_dark("tmc", To::swo);
    ASSERT_FALSE(refused);
    EXPECT_NE(refused.error().what.find("if trace passes it, none will arrive"), std::string::npos)
        << refused.error().text();
    EXPECT_NE(refused.error().advice.find("ignore_units = [\"0xe0044000\"]"), std::string::npos)
        << refused.error().text();
    EXPECT_TRUE(planned_in_the_dark("tmc", To::swo, {"0xE0044000"}));
}

class Asleep : public ::testing::TestWithParam<std::pair<const char*, const char*>> {};

TEST_P(Asleep, AUnitIsWokenLookedAtAndPutBackToSleep) {
    board::UnitTroubles troubles;
    troubles.asleep = GetParam().first;
    board::ArmUnits board(troubles);
    UnitMemory memory(board);
    const TargetFile file = described("armv7e-m", kItmStream);
    const auto image = image_of("arm");
    TraceWish wish;
    wish.exceptions = true;
    wish.instructions.emplace();
    wish.to = To::buffer;
    const auto before = discover_units(memory, file.cores[0]);
    ASSERT_TRUE(before) << before.error().text();
    EXPECT_FALSE(plan_trace(wish, *before, memory, file, image.get()));
    const TracePlan wake = plan_wake(*before, memory, file);
    ASSERT_FALSE(wake.steps.empty());
    EXPECT_TRUE(std::any_of(wake.steps.begin(), wake.steps.end(),
                            [&](const PlanStep& s) { return s.reg == GetParam().second; }));
    TraceProgram program(memory, std::chrono::milliseconds(50));
    ASSERT_TRUE(program.apply(wake));
    const auto awake = discover_units(memory, file.cores[0]);
    ASSERT_TRUE(awake) << awake.error().text();
    const auto plan = plan_trace(wish, *awake, memory, file, image.get());
    ASSERT_TRUE(plan) << plan.error().text();
    ASSERT_TRUE(program.apply(*plan));
    ASSERT_TRUE(program.put_back());
    std::uint32_t word = 1;
    ASSERT_TRUE(board.read(0xE000EDFC, word));
    EXPECT_EQ(word, 0U) << "DEMCR";
    ASSERT_TRUE(board.read(0xE0041310, word));
    EXPECT_EQ(word, 0U) << "TRCPDCR";
}

INSTANTIATE_TEST_SUITE_P(Each, Asleep,
                         ::testing::Values(std::pair("etm", "TRCPDCR"), std::pair("dwt", "DEMCR"),
                                           std::pair("itm", "DEMCR")));

TEST_F(Ways, NothingIsToBeWokenWhereAllAnswer) {
    const TargetFile file = described("armv7e-m", kItmStream);
    const auto units = discover_units(arm_memory, file.cores[0]);
    ASSERT_TRUE(units) << units.error().text();
    EXPECT_TRUE(plan_wake(*units, arm_memory, file).steps.empty());
}

TEST(KnownWords, AreEnoughToPlanWithAndSayWhatIsNotKnown) {
    board::ArmUnits board;
    UnitMemory target(board);
    NotedMemory noted(target);
    const TargetFile file = described("armv7e-m", kItmStream);
    const auto units = discover_units(noted, file.cores[0]);
    ASSERT_TRUE(units) << units.error().text();
    KnownMemory known(noted.words());
    EXPECT_FALSE(known.read(0x12345678));
    EXPECT_FALSE(known.write(0xE0000E00, 1));
    TraceWish wish;
    wish.exceptions = true;
    wish.to = To::swo;
    wish.baud = 4'000'000;
    const auto here = plan_trace(wish, *units, known, file, image_of("arm").get());
    const auto there = plan_trace(wish, *units, target, file, image_of("arm").get());
    ASSERT_TRUE(here && there);
    std::map<std::string, std::uint32_t> a, b;
    for (const PlanStep& s : here->steps)
        if (!s.waits) a[s.reg] = s.value;
    for (const PlanStep& s : there->steps)
        if (!s.waits) b[s.reg] = s.value;
    EXPECT_EQ(a, b) << "what is shown in the window is what will be done";
    EXPECT_TRUE(target.writes.empty());
}

TEST(FoundSettings, DescribeABufferThatSomebodyElseFilled) {
    board::ArmUnits board;
    UnitMemory memory(board);
    const TargetFile file = described("armv7e-m", kItmStream);
    const auto units = discover_units(memory, file.cores[0]);
    ASSERT_TRUE(units) << units.error().text();
    TraceWish wish;
    wish.instructions.emplace().return_stack = true;
    wish.to = To::buffer;
    auto plan = plan_trace(wish, *units, memory, file, image_of("arm").get());
    ASSERT_TRUE(plan) << plan.error().text();
    TraceProgram program(memory, std::chrono::milliseconds(50));
    ASSERT_TRUE(program.apply(*plan));
    const auto again = discover_units(memory, file.cores[0]);
    ASSERT_TRUE(again);
    const TracePlan found = plan_as_found(*again, memory, file);
    EXPECT_TRUE(found.steps.empty()) << "nothing is written";
    const auto target = described_target(file, found);
    ASSERT_TRUE(target) << target.error().text();
    const StreamSpec& stream = target->streams.back();
    EXPECT_EQ(stream.protocol, Protocol::etm4);
    EXPECT_TRUE(stream.etm4.return_stack);
    EXPECT_EQ(stream.framing, Framing::tpiu);
    EXPECT_EQ(stream.trace_id, 2);
}

}  // namespace
}  // namespace mt
