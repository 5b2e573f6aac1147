// The machines of the past beside a real emulator: both execute the same program, instruction by instruction, and whatever
// a machine says it knows is what the emulated core holds. What it does not know lies within the bounds it gives.
#include <gtest/gtest.h>

#include <algorithm>
#include <array>
#include <map>

#include "base/text.h"
#include "emulated.h"
#include "replay/a64_machine.h"
#include "replay/arm_machine.h"
#include "replay/rv64_machine.h"
#include "replay/rv_machine.h"
#include "replay/thumb_machine.h"
#include "support.h"

namespace mt {
namespace {

struct Told {
    std::uint64_t steps = 0, traps = 0, known = 0, unknown = 0, narrowed = 0, wrong = 0, copies = 0;
};

class EmulatedStates : public test::Emulated {
  protected:
    PastMemory memory(std::uint64_t ram) const {
        PastMemory m(*image, true);
        m.add_memory(ram, ram + 0x2'0000);
        return m;
    }

    // One register after an instruction: what is said of it against what it is.
    void hold(const Known& said, unsigned number, const std::string& name, std::uint64_t pc, bool wide = false) {
        const auto is = server->read_register(number);
        ASSERT_TRUE(is) << is.error().text();
        const std::uint64_t value = wide ? *is : *is & 0xFFFF'FFFF;
        if (said.known) {
            ++told.known;
            if (said.value == value) return;
            ++told.wrong;
            ADD_FAILURE() << name << " behind " << hex_text(pc, 8) << " is " << hex_text(value, 8) << ", said to be "
                          << hex_text(said.value, 8);
            return;
        }
        ++told.unknown;
        // Copies of one value that is not known are the same, wherever they are.
        if (said.origin != 0) {
            const std::uint64_t mask = wide ? ~std::uint64_t{0} : 0xFFFF'FFFF, from = (value - said.plus) & mask;
            const auto [found, fresh] = origins.try_emplace(said.origin, from);
            told.copies += fresh ? 0U : 1U;
            if (found->second != from) {
                ++told.wrong;
                ADD_FAILURE() << name << " behind " << hex_text(pc, 8) << " is " << hex_text(value, 8) << ", said to be a copy of "
                              << hex_text((found->second + said.plus) & mask, 8);
            }
        }
        if (!said.bounded()) return;
        ++told.narrowed;
        if (value >= said.low && value <= said.high) return;
        ++told.wrong;
        ADD_FAILURE() << name << " behind " << hex_text(pc, 8) << " is " << hex_text(value, 8) << ", said to lie between "
                      << hex_text(said.low, 8) << " and " << hex_text(said.high, 8);
    }

    // Memory at the end, byte by byte; how many of them are known.
    std::size_t hold_memory(const PastMemory& said, std::uint64_t begin, std::size_t size) {
        std::vector<std::uint8_t> is(size);
        EXPECT_TRUE(server->read_memory(begin, is));
        std::size_t known = 0;
        for (std::size_t i = 0; i < size; ++i) {
            const auto byte = said.byte(begin + i);
            if (!byte) continue;
            ++known;
            EXPECT_EQ(*byte, is[i]) << hex_text(begin + i, 8);
        }
        return known;
    }

    // Executes until `done`. `trapped`: what to tell the machine where the core went to its handler instead of executing
    // on; nothing where it did not.
    template <class Machine, class Registers>
    void walk(Machine& machine, const Code& code, bool runs_what_traps, std::uint64_t handler,
              const std::function<StepTrap(std::uint64_t pc)>& trap_of, const Registers& registers) {
        std::uint64_t pc = *server->pc();
        while (pc != done && told.steps < 5000 && told.wrong < 10) {
            ASSERT_TRUE(server->step());
            const std::uint64_t now = *server->pc();
            const std::uint32_t slot = code.slot_of(pc), next = code.slot_of(now);
            const bool trapped = now == handler;
            if (!trapped || runs_what_traps) machine.execute(slot, told.steps, trapped ? Code::kNowhere : next);
            if (!trapped || runs_what_traps) ++told.steps;
            if (trapped) {
                ++told.traps;
                machine.trap(trap_of(pc), told.steps);
            } else {
                machine.settle(told.steps);
            }
            registers(pc);
            pc = now;
        }
        EXPECT_EQ(pc, done) << "it went astray";
    }

    static StepTrap supervisor_call(std::uint64_t pc) {
        StepTrap trap;
        trap.number = 11;
        trap.epc = pc + 2;  // behind the SVC
        trap.epc_known = true;
        return trap;
    }

    Told told;
    std::map<std::uint64_t, std::uint64_t> origins;  ///< what each value that is not known is
};

TEST_F(EmulatedStates, OfACortexM4AreNeverToldWrong) {
    begin("instructions-arm.elf", {"qemu-system-arm", "-M", "mps2-an386"});
    if (server == nullptr) return;
    const auto code = Code::of(*image, "armv7e-m");
    ThumbMachine machine(code, memory(0x2000'0000), true, 0x2000'8000u, false);
    walk(machine, *code, true, *image->address_of("supervisor") & ~std::uint64_t{1}, supervisor_call, [&](std::uint64_t pc) {
        for (unsigned n = 0; n < 15; ++n) hold(machine.r(n), n, "r" + std::to_string(n), pc);
    });
    EXPECT_EQ(told.wrong, 0U);
    EXPECT_EQ(machine.strange(), 0U) << "an instruction that the machine does not know";
    EXPECT_EQ(told.traps, 3U) << "by either stack, and by one that had to be aligned";
    EXPECT_GT(told.steps, 480U);
    EXPECT_GT(told.narrowed, 20U) << "bounds were given";
    EXPECT_GT(100 * told.known, 90 * (told.known + told.unknown)) << told.known << " known, " << told.unknown << " not";
    EXPECT_GT(hold_memory(machine.memory(), 0x2000'0000, 0x8000), 0x1000U);
}

TEST_F(EmulatedStates, OfARiscVHartAreNeverToldWrong) {
    begin("instructions-riscv.elf", {"qemu-system-riscv32", "-M", "virt", "-bios", "none"});
    if (server == nullptr) return;
    const auto code = Code::of(*image, "rv32imac");
    RvMachine machine(code, memory(0x8010'0000), false);
    // 3.1.15: an ECALL from machine mode, an instruction that is none, a load from nowhere.
    static constexpr std::array<std::uint32_t, 3> kCauses{11, 2, 5};
    const auto trap_of = [&](std::uint64_t pc) {
        StepTrap trap;
        trap.number = kCauses[std::min<std::size_t>(told.traps - 1, 2)];
        trap.epc = pc;
        trap.epc_known = true;
        trap.tval_known = trap.number != 2;  // both are of address 0, or of none
        return trap;
    };
    walk(machine, *code, false, *image->address_of("trapped"), trap_of, [&](std::uint64_t pc) {
        for (unsigned n = 0; n < 32; ++n) hold(machine.x(n), n, "x" + std::to_string(n), pc);
    });
    EXPECT_EQ(told.wrong, 0U);
    EXPECT_EQ(machine.strange(), 0U) << "an instruction that the machine does not know";
    EXPECT_EQ(told.traps, 3U);
    EXPECT_GT(told.steps, 280U);
    EXPECT_GT(told.narrowed, 10U) << "bounds were given";
    EXPECT_GT(100 * told.known, 90 * (told.known + told.unknown)) << told.known << " known, " << told.unknown << " not";
    EXPECT_GT(hold_memory(machine.memory(), 0x8010'0000, 0x2000), 0x1000U);
}

TEST_F(EmulatedStates, OfA64BitHartAreNeverToldWrong) {
    begin("instructions-riscv64.elf", {"qemu-system-riscv64", "-M", "virt", "-bios", "none"});
    if (server == nullptr) return;
    const auto code = Code::of(*image, "rv64imac");
    Rv64Machine machine(code, memory(0x8010'0000), false);
    const auto trap_of = [&](std::uint64_t pc) {
        StepTrap trap;
        trap.number = 11;
        trap.epc = pc;
        trap.epc_known = true;
        return trap;
    };
    walk(machine, *code, false, *image->address_of("trapped"), trap_of, [&](std::uint64_t pc) {
        for (unsigned n = 0; n < 32; ++n) hold(machine.x(n), n, "x" + std::to_string(n), pc, true);
    });
    EXPECT_EQ(told.wrong, 0U);
    EXPECT_EQ(machine.strange(), 0U) << "an instruction that the machine does not know";
    EXPECT_EQ(told.traps, 1U);
    EXPECT_GT(told.steps, 180U);
    EXPECT_GT(100 * told.known, 80 * (told.known + told.unknown)) << told.known << " known, " << told.unknown << " not";
    EXPECT_GT(hold_memory(machine.memory(), 0x8010'0000, 0x2000), 0x1000U);
}

TEST_F(EmulatedStates, OfAnArmCoreOfAProfileAreNeverToldWrong) {
    begin("instructions-a32.elf", {"qemu-system-arm", "-M", "virt", "-cpu", "cortex-a15", "-m", "64", "-nic", "none"});
    if (server == nullptr) return;
    const auto code = Code::of(*image, "armv7-a");
    ArmMachine machine(code, memory(0x4010'0000), true, false);
    const std::uint64_t vectors = *image->address_of("vectors");
    const std::uint64_t undefined[] = {*image->address_of("undefined_arm"), *image->address_of("undefined_thumb") & ~std::uint64_t{1}};
    std::uint64_t pc = *server->pc();
    while (pc != done && told.steps < 5000 && told.wrong < 10) {
        ASSERT_TRUE(server->step());
        const std::uint64_t now = *server->pc();
        const std::uint32_t slot = code->slot_of(pc);
        const bool trapped = now >= vectors && now < vectors + 0x20;
        const bool is_undefined = trapped && (pc == undefined[0] || pc == undefined[1]);
        if (!is_undefined) machine.execute(slot, told.steps++, trapped ? Code::kNowhere : code->slot_of(now));
        if (trapped) {
            ++told.traps;
            StepTrap trap;
            trap.number = ExceptionId::kPftTypes + (is_undefined ? 9u : 10u);
            trap.epc = is_undefined ? pc : pc + 2u * (*code)[slot].size;
            trap.epc_known = true;
            machine.trap(trap, told.steps);
        }
        for (unsigned n = 0; n < 15; ++n) hold(machine.r(n), n, n == 13 ? "sp" : "r" + std::to_string(n), pc);
        pc = now;
    }
    EXPECT_EQ(pc, done) << "it went astray";
    EXPECT_EQ(told.wrong, 0U);
    EXPECT_EQ(machine.strange(), 0U) << "an instruction that the machine does not know";
    EXPECT_EQ(told.traps, 8U) << "from modes of both kinds and both instruction sets";
    EXPECT_GT(told.steps, 450U);
    EXPECT_GT(100 * told.known, 90 * (told.known + told.unknown)) << told.known << " known, " << told.unknown << " not";
    EXPECT_GT(hold_memory(machine.memory(), 0x4010'0000, 0x3000), 0x1000U);
}

TEST_F(EmulatedStates, OfAnA64CoreAreNeverToldWrong) {
    begin("instructions-a64.elf", {"qemu-system-aarch64", "-M", "virt", "-cpu", "max", "-m", "64", "-nic", "none"});
    if (server == nullptr) return;
    const auto code = Code::of(*image, "armv8-a");
    A64Machine machine(code, memory(0x4010'0000), true, false);
    machine.level(1);
    const std::uint64_t vectors = *image->address_of("vectors");
    std::uint64_t pc = *server->pc();
    unsigned level = 1;
    while (pc != done && told.steps < 5000 && told.wrong < 10) {
        ASSERT_TRUE(server->step());
        const std::uint64_t now = *server->pc();
        const bool trapped = now >= vectors && now < vectors + 0x800 && !(pc >= vectors && pc < vectors + 0x800);
        machine.execute(code->slot_of(pc), told.steps++, trapped ? Code::kNowhere : code->slot_of(now));
        if (trapped) {
            ++told.traps;
            StepTrap trap;
            trap.number = ExceptionId::kEtm4Types + 2;
            trap.epc = pc + 4;
            trap.epc_known = true;
            machine.trap(trap, told.steps);
        }
        // Trace tells the level: here the program does.
        const unsigned is = now >= *image->address_of("program") && now < *image->address_of("back") ? 0 : 1;
        if (is != level) machine.level(level = is);
        A64Machine stands = machine;
        stands.settle(told.steps);
        for (unsigned n = 0; n < 32; ++n) hold(stands.x(n), n, n == 31 ? "sp" : "x" + std::to_string(n), pc, true);
        pc = now;
    }
    EXPECT_EQ(pc, done) << "it went astray";
    EXPECT_EQ(told.wrong, 0U);
    EXPECT_EQ(machine.strange(), 0U) << "an instruction that the machine does not know";
    EXPECT_EQ(told.traps, 4U) << "by either stack pointer, and from level 0";
    EXPECT_GT(told.narrowed, 20U) << "bounds were given";
    EXPECT_GT(told.steps, 600U);
    EXPECT_GT(100 * told.known, 90 * (told.known + told.unknown)) << told.known << " known, " << told.unknown << " not";
    EXPECT_GT(hold_memory(machine.memory(), 0x4010'0000, 0x4000), 0x1000U);
}

TEST_F(EmulatedStates, OfExceptionsThatSaveFloatingPointAreNeverToldWrong) {
    begin("floats-arm.elf", {"qemu-system-arm", "-M", "mps2-an386"});
    if (server == nullptr) return;
    const auto code = Code::of(*image, "armv7e-m");
    ThumbMachine machine(code, memory(0x2000'0000), true, 0x2000'8000u, false);
    unsigned without_stack = 0;
    walk(machine, *code, true, *image->address_of("supervisor") & ~std::uint64_t{1}, supervisor_call, [&](std::uint64_t pc) {
        for (unsigned n = 0; n < 15; ++n) hold(machine.r(n), n, "r" + std::to_string(n), pc);
        without_stack += machine.r(13).known ? 0 : 1;
    });
    EXPECT_EQ(told.wrong, 0U);
    EXPECT_EQ(machine.strange(), 0U) << "an instruction that the machine does not know";
    EXPECT_EQ(told.traps, 10U);
    EXPECT_EQ(without_stack, 0U) << "the frames are as long as they are";
    EXPECT_GT(100 * told.known, 80 * (told.known + told.unknown)) << told.known << " known, " << told.unknown << " not";
    EXPECT_GT(hold_memory(machine.memory(), 0x2000'7F00, 0x100), 50U) << "of the stack";
}

class EmulatedFloats : public EmulatedStates {
  protected:
    // Holds the registers that the program uses: f0 to f15, a0 to a7.
    template <class Machine>
    void execute_beside(const std::string& elf, const std::string& emulator, const std::string& isa) {
        begin(elf, {emulator, "-M", "virt", "-bios", "none"});
        if (server == nullptr) return;
        constexpr unsigned kFirstFloat = 33;  // behind x0 to x31 and pc
        const auto code = Code::of(*image, isa);
        Machine machine(code, memory(0x8010'0000), false);
        const auto no_trap = [](std::uint64_t) { return StepTrap{}; };
        walk(machine, *code, true, *image->address_of("trapped"), no_trap, [&](std::uint64_t pc) {
            for (unsigned n = 0; n < 16; ++n) hold(machine.floats().f(n), kFirstFloat + n, "f" + std::to_string(n), pc, true);
            for (unsigned n = 10; n < 18; ++n) hold(machine.x(n), n, "x" + std::to_string(n), pc, code->xlen() == 64);
        });
        EXPECT_EQ(told.wrong, 0U);
        EXPECT_EQ(machine.strange(), 0U) << "an instruction that the machine does not know";
        EXPECT_EQ(told.traps, 0U);
        EXPECT_GT(told.steps, 2'000U);
        EXPECT_GT(100 * told.known, 80 * (told.known + told.unknown)) << told.known << " known, " << told.unknown << " not";
        EXPECT_GT(told.unknown, 20U) << "what depends on a mode that nobody told";
        EXPECT_GT(hold_memory(machine.memory(), *image->address_of("scratch"), 24), 23U);
    }
};

TEST_F(EmulatedFloats, Of32BitsAreNeverToldWrong) { execute_beside<RvMachine>("floats-riscv.elf", "qemu-system-riscv32", "rv32imafdc"); }

TEST_F(EmulatedFloats, Of64BitsAreNeverToldWrong) { execute_beside<Rv64Machine>("floats-riscv64.elf", "qemu-system-riscv64", "rv64imafdc"); }

}  // namespace
}  // namespace mt
