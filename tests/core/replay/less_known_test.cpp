// Who knows less may say less, never anything else: programs made at random, executed by two machines, of which one knows
// everything at first and the other only some of the registers.
#include <gtest/gtest.h>

#include <array>
#include <functional>
#include <random>
#include <vector>

#include "base/text.h"
#include "replay/a64_machine.h"
#include "replay/arm_machine.h"
#include "replay/rv_machine.h"
#include "replay/thumb_machine.h"
#include "core/replay/small_program.h"

namespace mt {
namespace {

using test::kProgramBase;
using test::kProgramRam;
using test::program_memory;

constexpr std::uint64_t kDevice = 0x4000'0000;
constexpr unsigned kRegisters = 8, kInstructions = 24;

using Halves = std::vector<std::uint16_t>;
using Random = std::mt19937;

unsigned below(Random& random, unsigned limit) { return static_cast<unsigned>(random() % limit); }
// Numbers at the edges are the ones that go wrong.
std::uint32_t some_value(Random& random) {
    static constexpr std::array<std::uint32_t, 10> kEdges{0,          1,          0xFF,       0x100,      0x7FFF'FFFF,
                                                          0x8000'0000, 0xFFFF'FFFF, 0xFFFF'0000, 0x0000'FFFF, static_cast<std::uint32_t>(kProgramRam) + 0x40};
    return below(random, 2) == 0 ? kEdges[below(random, kEdges.size())] : random();
}

// What one says of a register holds for what the other says of it.
void hold(const Known& less, const Known& all, const std::string& what) {
    if (less.known) {
        ASSERT_TRUE(all.known) << what << ": known from less, and not from all";
        ASSERT_EQ(hex_text(less.value), hex_text(all.value)) << what;
        return;
    }
    if (!less.bounded()) return;  // of 64 bits that says nothing
    ASSERT_LE(less.low, all.least()) << what;
    ASSERT_GE(less.high, all.most()) << what;
}

// Two machines, by the same instructions behind an introduction of their own. `said`: how often the one that knew less
// knew something all the same, and how often it gave bounds.
struct Said {
    std::uint64_t known = 0, bounded = 0, open = 0, programs = 0;
    void count(const Known& k) { ++(k.known ? known : k.bounded() ? bounded : open); }
};

template <class Machine>
void compare(const Halves& all, const Halves& less, const std::string& isa, unsigned registers,
             const std::function<Machine(std::shared_ptr<const Code>)>& make,
             const std::function<Known(const Machine&, unsigned)>& value, std::uint64_t begin, Said& said) {
    ASSERT_EQ(all.size(), less.size());
    test::SmallProgram a(all, isa), b(less, isa);
    Machine knows_all = make(a.code), knows_less = make(b.code);
    while (!a.ended() && !b.ended() && (*a.code)[a.slot].flow == Flow::next) {
        const std::uint64_t at = a.code->address(a.slot);
        const std::uint32_t word = a.code->bits(a.slot);
        a.go_on(knows_all);
        b.go_on(knows_less);
        if (at < begin) continue;
        if (knows_all.strange() > 0) return;  // no instruction of this architecture
        ASSERT_EQ(knows_less.strange(), 0U);
        for (unsigned n = 0; n < registers; ++n) {
            said.count(value(knows_less, n));
            hold(value(knows_less, n), value(knows_all, n), "register " + std::to_string(n) + " behind " + hex_text(word) + " at " + hex_text(at));
            if (testing::Test::HasFatalFailure()) return;
        }
    }
    ++said.programs;
    // … and of memory.
    for (std::uint64_t at = kProgramRam; at < kProgramRam + 0x200; at += 4) {
        const Known m = knows_less.memory().read(at, 4), whole = knows_all.memory().read(at, 4);
        if (m.known && whole.known) {
            ASSERT_EQ(hex_text(m.value), hex_text(whole.value)) << hex_text(at);
        }
    }
}

// Programs for one kind of machine.
template <class Machine>
struct Programs {
    const char* isa;
    std::function<void(Halves& to)> point_to_device;
    /// Gives register `n` a value, in `less` only if that does not hide it: then it comes from the device.
    std::function<void(Halves& all, Halves& less, unsigned n, bool hides, Random& random)> give;
    std::function<void(Halves& to, Random& random)> some_instructions;
    std::function<Machine(std::shared_ptr<const Code>)> make;
    std::function<Known(const Machine&, unsigned)> value;
};

template <class Machine>
void hold_programs(const Programs<Machine>& of) {
    Said said;
    for (unsigned seed = 0; seed < 3000; ++seed) {
        Random random(seed);
        const unsigned hidden = below(random, 255) + 1;  // one bit for each register that is not known
        Halves all, less, rest;
        of.point_to_device(all);
        less = all;
        for (unsigned n = 0; n < kRegisters; ++n) of.give(all, less, n, (hidden >> n & 1) != 0, random);
        const std::uint64_t begin = kProgramBase + 2 * all.size();
        of.some_instructions(rest, random);
        all.insert(all.end(), rest.begin(), rest.end());
        less.insert(less.end(), rest.begin(), rest.end());
        compare<Machine>(all, less, of.isa, kRegisters, of.make, of.value, begin, said);
        if (testing::Test::HasFatalFailure()) FAIL() << "program " << seed;
    }
    EXPECT_GT(said.programs, 1000U) << "most are programs";
    EXPECT_GT(said.known, 10'000U);
    EXPECT_GT(said.bounded, 1000U);
    EXPECT_GT(said.open, 10'000U);
}

void put(Halves& to, std::uint32_t wide) {
    to.push_back(static_cast<std::uint16_t>(wide >> 16));
    to.push_back(static_cast<std::uint16_t>(wide));
}
// A7.7.76 MOV (T3), A7.7.79 MOVT: the immediate is cut into four.
std::uint32_t moving(std::uint32_t op, unsigned rd, std::uint32_t imm16) {
    return op | (imm16 >> 12) << 16 | (imm16 >> 11 & 1) << 26 | (imm16 >> 8 & 7) << 12 | rd << 8 | (imm16 & 0xFF);
}

void some_thumb(Halves& h, Random& random) {
    for (unsigned i = 0; i < kInstructions; ++i) {
        const unsigned rd = below(random, 8), rn = below(random, 8), rm = below(random, 8);
        const auto narrow = [&](std::uint32_t v) { h.push_back(static_cast<std::uint16_t>(v)); };
        switch (below(random, 12)) {
            case 0:
            case 1:  // A5.2.1
                narrow(random() & 0x3FFF);
                break;
            case 2:
            case 3:  // A5.2.2
                narrow(0x4000 | (random() & 0x3FF));
                break;
            case 4:  // A5.2.4 with a number: word, byte, half
                narrow(0x6000 | (below(random, 5) << 12 & 0x3000) | (random() & 0xFFF));
                break;
            case 5:  // SXTH to UXTB, REV, REV16, REVSH
                narrow(below(random, 2) == 0 ? 0xB200 | (random() & 0xFF) : 0xBA00 | below(random, 2) << 6 | rm << 3 | rd);
                break;
            case 6: {  // A5.3.1
                static constexpr std::array<unsigned, 9> kOps{0, 1, 2, 3, 4, 8, 10, 11, 13};
                put(h, 0xF000'0000 | below(random, 2) << 26 | kOps[below(random, 9)] << 21 | below(random, 2) << 20 | rn << 16 |
                           below(random, 8) << 12 | rd << 8 | (random() & 0xFF));
                break;
            }
            case 7: {  // A5.3.3: SBFX, BFI, UBFX, SSAT, USAT
                static constexpr std::array<unsigned, 8> kOps{20, 22, 28, 16, 18, 24, 26, 0};
                put(h, 0xF200'0000 | kOps[below(random, 8)] << 20 | rn << 16 | below(random, 8) << 12 | rd << 8 |
                           below(random, 4) << 6 | below(random, 32));
                break;
            }
            case 8: {  // A5.3.11
                static constexpr std::array<unsigned, 10> kOps{0, 1, 2, 3, 4, 6, 8, 10, 11, 13};
                put(h, 0xEA00'0000 | kOps[below(random, 10)] << 21 | below(random, 2) << 20 | rn << 16 | below(random, 8) << 12 |
                           rd << 8 | below(random, 16) << 4 | rm);
                break;
            }
            case 9:  // A5.3.12: shifts by a register, extensions
                put(h, below(random, 2) == 0 ? 0xFA00'F000 | below(random, 8) << 20 | rn << 16 | rd << 8 | rm
                                             : 0xFA00'F080 | below(random, 6) << 20 | rn << 16 | rd << 8 | below(random, 4) << 4 | rm);
                break;
            case 10:  // A5.3.15 to A5.3.17
                put(h, below(random, 2) == 0 ? 0xFA90'F080 | below(random, 2) << 21 | rm << 16 | rd << 8 | below(random, 4) << 4 | rm
                                             : 0xFB00'0000 | below(random, 8) << 12 | rn << 16 | rd << 8 | below(random, 2) << 4 | rm);
                break;
            default:
                put(h, below(random, 2) == 0 ? 0xFB80'0000 | (below(random, 4) << 21) | rn << 16 | rd << 12 | ((rd + 1) & 7) << 8 | rm
                                             : 0xFB90'F0F0 | below(random, 2) << 21 | rn << 16 | rd << 8 | rm);
        }
    }
}

TEST(WhoKnowsLess, SaysNothingElseOfACortexM) {
    const auto put_value = [](Halves& to, unsigned n, std::uint32_t v) {
        put(to, moving(0xF240'0000, n, v & 0xFFFF));
        put(to, moving(0xF2C0'0000, n, v >> 16));
    };
    hold_programs<ThumbMachine>({"armv7e-m", [&](Halves& to) { put_value(to, 12, kDevice); },
                                 [&](Halves& all, Halves& less, unsigned n, bool hides, Random& random) {
                                     const std::uint32_t v = some_value(random);
                                     put_value(all, n, v);
                                     if (!hides) return put_value(less, n, v);
                                     put(less, 0xF8DC'0000 | n << 12);  // ldr.w rN, [r12]
                                     put(less, 0xF3AF'8000);            // nop.w
                                 },
                                 some_thumb,
                                 [](std::shared_ptr<const Code> code) { return ThumbMachine(std::move(code), program_memory(), true, 0x2000'2000u, false); },
                                 [](const ThumbMachine& m, unsigned n) { return m.r(n); }});
}

std::uint32_t some_riscv(Random& random) {
    const auto reg = [&] { return below(random, 4) == 0 ? 0 : 8 + below(random, kRegisters); };
    const std::uint32_t rd = reg() << 7, rs1 = reg() << 15, rs2 = reg() << 20, f3 = below(random, 8) << 12;
    switch (below(random, 8)) {
        case 0:
        case 1: {  // 2.4 with a number; shifts have seven bits of their own
            const bool shifts = (f3 >> 12 & 3) == 1;
            const std::uint32_t number = shifts ? below(random, 32) | ((f3 >> 12) == 5 ? below(random, 2) << 10 : 0) : random() & 0xFFF;
            return number << 20 | rs1 | f3 | rd | 0x13;
        }
        case 2:
        case 3: {
            const bool other = ((f3 >> 12) == 0 || (f3 >> 12) == 5) && below(random, 2) == 0;
            return (other ? 0x4000'0000 : 0) | rs2 | rs1 | f3 | rd | 0x33;
        }
        case 4:  // chapter 7
            return 0x0200'0000 | rs2 | rs1 | f3 | rd | 0x33;
        case 5: {  // 2.6, near the start of RAM where a register points there
            static constexpr std::array<std::uint32_t, 5> kLoads{0, 1, 2, 4, 5};
            return below(random, 64) << 20 | rs1 | kLoads[below(random, 5)] << 12 | rd | 0x03;
        }
        case 6:
            return rs2 | rs1 | below(random, 3) << 12 | below(random, 32) << 7 | 0x23;
        default: {  // chapter 8
            static constexpr std::array<std::uint32_t, 9> kOps{0, 1, 4, 8, 12, 16, 20, 24, 28};
            return kOps[below(random, 9)] << 27 | rs2 | rs1 | 2 << 12 | rd | 0x2F;
        }
    }
}

void put_word(Halves& to, std::uint32_t word) {
    to.push_back(static_cast<std::uint16_t>(word));
    to.push_back(static_cast<std::uint16_t>(word >> 16));
}

void some_words(Halves& to, Random& random, std::uint32_t (*one)(Random&)) {
    for (unsigned i = 0; i < kInstructions; ++i) put_word(to, one(random));
}

TEST(WhoKnowsLess, SaysNothingElseOfARiscVHart) {
    hold_programs<RvMachine>({"rv32imac", [](Halves& to) { put_word(to, (kDevice & 0xFFFF'F000) | 5 << 7 | 0x37); },  // lui t0
                              [](Halves& all, Halves& less, unsigned n, bool hides, Random& random) {
                                  const std::uint32_t v = some_value(random), low = v & 0xFFF, high = (v + 0x800) & 0xFFFF'F000;
                                  const std::uint32_t rd = (8 + n) << 7, lui = high | rd | 0x37, addi = low << 20 | (8 + n) << 15 | rd | 0x13;
                                  put_word(all, lui);
                                  put_word(all, addi);
                                  put_word(less, hides ? 5 << 15 | 2 << 12 | rd | 0x03 : lui);  // lw from the device
                                  put_word(less, hides ? 0x13 : addi);                          // nop
                              },
                              [](Halves& to, Random& random) { some_words(to, random, some_riscv); },
                              [](std::shared_ptr<const Code> code) { return RvMachine(std::move(code), program_memory(), false); },
                              [](const RvMachine& m, unsigned n) { return m.x(8 + n); }});
}

// DDI 0406C, A5: under conditions that hold for some and not for others.
std::uint32_t some_a32(Random& random) {
    const std::uint32_t condition = (below(random, 2) == 0 ? 14U : below(random, 15)) << 28;
    const unsigned rd = below(random, 8), rn = below(random, 8), rm = below(random, 8);
    switch (below(random, 10)) {
        case 0:
        case 1:
        case 2: {  // A5.2.1 to A5.2.3
            const unsigned op = below(random, 16), flags = op >= 8 && op < 12 ? 1 : below(random, 2);
            const std::uint32_t second = below(random, 3) == 0   ? 1u << 25 | (random() & 0xFFF)
                                         : below(random, 2) == 0 ? below(random, 32) << 7 | below(random, 4) << 5 | rm
                                                                 : below(random, 8) << 8 | below(random, 4) << 5 | 1u << 4 | rm;
            return condition | op << 21 | flags << 20 | rn << 16 | rd << 12 | second;
        }
        case 3:  // A5.2.5
            return condition | below(random, 8) << 21 | below(random, 2) << 20 | rd << 16 | ((rd + 1) & 7) << 12 | rm << 8 | 0x90 | rn;
        case 4:  // A5.3, near the start of RAM where a register points there
            return condition | 0x0500'0000 | 1u << 23 | below(random, 2) << 22 | below(random, 2) << 20 | rn << 16 | rd << 12 | below(random, 64);
        case 5:  // by a register
            return condition | 0x0700'0000 | below(random, 2) << 23 | below(random, 2) << 22 | below(random, 2) << 20 | rn << 16 | rd << 12 | below(random, 4) << 7 | rm;
        case 6:  // A5.2.8
            return condition | 0x0140'0090 | 1u << 23 | below(random, 2) << 20 | rn << 16 | (rd & 6) << 12 | below(random, 4) << 8 | (1 + below(random, 3)) << 5 | below(random, 16);
        case 7: {  // A5.4.3
            static constexpr std::array<std::uint32_t, 6> kOps{0x06A0'0070, 0x06B0'0070, 0x06E0'0070, 0x06F0'0070, 0x06BF'0F30, 0x06FF'0F30};
            return condition | kOps[below(random, 6)] | rn << 16 | rd << 12 | below(random, 4) << 10 | rm;
        }
        case 8:  // SBFX, UBFX, BFI
            return condition | (below(random, 3) == 0 ? 0x07C0'0010u : below(random, 2) == 0 ? 0x07A0'0050u : 0x07E0'0050u) | (16 + below(random, 16)) << 16 | rd << 12 | below(random, 16) << 7 | rm;
        default:  // MOVW, MOVT, LDM, STM
            return condition | (below(random, 2) == 0 ? 0x0300'0000u | below(random, 2) << 22 | rd << 12 | (random() & 0xFFF)
                                                      : 0x0890'0000u | below(random, 2) << 20 | rn << 16 | (1u << rd | 1u << rm));
    }
}

TEST(WhoKnowsLess, SaysNothingElseOfAnArmCoreOfAProfile) {
    const auto moving32 = [](unsigned op, unsigned rd, std::uint32_t imm) { return 0xE000'0000 | op << 20 | (imm >> 12 & 15) << 16 | rd << 12 | (imm & 0xFFF); };
    hold_programs<ArmMachine>({"armv7-a",
                               [&](Halves& to) {
                                   put_word(to, moving32(0x30, 12, kDevice & 0xFFFF));
                                   put_word(to, moving32(0x34, 12, kDevice >> 16));
                               },
                               [&](Halves& all, Halves& less, unsigned n, bool hides, Random& random) {
                                   const std::uint32_t v = some_value(random), low = moving32(0x30, n, v & 0xFFFF), high = moving32(0x34, n, v >> 16);
                                   put_word(all, low);
                                   put_word(all, high);
                                   put_word(less, hides ? 0xE59C'0000 | n << 12 : low);  // ldr rN, [r12]
                                   put_word(less, hides ? 0xE320'F000 : high);           // nop
                               },
                               [](Halves& to, Random& random) { some_words(to, random, some_a32); },
                               [](std::shared_ptr<const Code> code) { return ArmMachine(std::move(code), program_memory(), true, false); },
                               [](const ArmMachine& m, unsigned n) { return m.r(n); }});
}

// DDI 0487, C4.1
std::uint32_t some_a64(Random& random) {
    const std::uint32_t wide = below(random, 2) << 31, rd = below(random, 8), rn = below(random, 8) << 5, rm = below(random, 8) << 16;
    const auto six = [&] { return wide != 0 ? below(random, 64) : below(random, 32); };
    switch (below(random, 14)) {
        case 0:
            return wide | 0x1100'0000 | below(random, 4) << 29 | below(random, 2) << 22 | (random() & 0xFFF) << 10 | rn | rd;
        case 1:  // of logic, with a mask
            return wide | 0x1200'0000 | below(random, 4) << 29 | six() << 16 | below(random, 30) << 10 | rn | rd;
        case 2:
            return wide | 0x1280'0000 | (below(random, 2) == 0 ? 3u : 2u) << 29 | below(random, 2) << 21 | (random() & 0xFFFF) << 5 | rd;
        case 3:
        case 4:  // bit fields
            return wide | 0x1300'0000 | (wide != 0 ? 1u << 22 : 0) | below(random, 3) << 29 | six() << 16 | six() << 10 | rn | rd;
        case 5:
            return wide | 0x0A00'0000 | below(random, 4) << 29 | below(random, 4) << 22 | below(random, 2) << 21 | rm | six() << 10 | rn | rd;
        case 6:
            return wide | 0x0B00'0000 | below(random, 4) << 29 | below(random, 3) << 22 | rm | six() << 10 | rn | rd;
        case 7:  // extended
            return wide | 0x0B20'0000 | below(random, 4) << 29 | rm | below(random, 8) << 13 | below(random, 5) << 10 | rn | rd;
        case 8:  // CSEL and others, CCMP and CCMN
            return below(random, 3) == 0 ? wide | 0x3A40'0000 | below(random, 2) << 30 | rm | below(random, 16) << 12 | below(random, 2) << 11 | rn | below(random, 16)
                                         : wide | 0x1A80'0000 | below(random, 2) << 30 | rm | below(random, 16) << 12 | below(random, 2) << 10 | rn | rd;
        case 9: {
            static constexpr std::array<std::uint32_t, 6> kOps{2, 3, 8, 9, 10, 11};
            return wide | 0x1AC0'0000 | rm | kOps[below(random, 6)] << 10 | rn | rd;
        }
        case 10: {
            const std::uint32_t op = below(random, 6);
            return (op == 3 ? 1u << 31 : wide) | 0x5AC0'0000 | op << 10 | rn | rd;
        }
        case 11:
            return wide | 0x1B00'0000 | rm | below(random, 2) << 15 | below(random, 8) << 10 | rn | rd;
        case 12:  // near the start of RAM where a register points there
            return below(random, 4) << 30 | 0x3900'0000 | below(random, 2) << 22 | below(random, 4) << 10 | rn | rd;
        default:  // by a register
            return below(random, 4) << 30 | 0x3820'0800 | below(random, 2) << 22 | rm | (2 + below(random, 2) + 4 * below(random, 2)) << 13 | below(random, 2) << 12 | rn | rd;
    }
}

TEST(WhoKnowsLess, SaysNothingElseOfAnA64Core) {
    const auto moving64 = [](unsigned part, unsigned rd, std::uint64_t v) {
        return (part == 0 ? 0xD280'0000 : 0xF280'0000) | part << 21 | static_cast<std::uint32_t>(v >> 16 * part & 0xFFFF) << 5 | rd;
    };
    hold_programs<A64Machine>({"armv8-a",
                               [&](Halves& to) {
                                   for (unsigned part = 0; part < 2; ++part) put_word(to, moving64(part, 28, kDevice));
                               },
                               [&](Halves& all, Halves& less, unsigned n, bool hides, Random& random) {
                                   std::uint64_t v = some_value(random);
                                   if (below(random, 3) == 0) v |= std::uint64_t{some_value(random)} << 32;
                                   for (unsigned part = 0; part < 4; ++part) {
                                       const std::uint32_t word = moving64(part, n, v);
                                       put_word(all, word);
                                       put_word(less, !hides ? word : part == 0 ? 0xF940'0380 | n : 0xD503'201F);  // ldr xN, [x28]; nop
                                   }
                               },
                               [](Halves& to, Random& random) { some_words(to, random, some_a64); },
                               [](std::shared_ptr<const Code> code) { return A64Machine(std::move(code), program_memory(), true, false); },
                               [](const A64Machine& m, unsigned n) { return m.x(n); }});
}

// Bounds of a sum are those of every sum: all pairs out of small ranges, near nothing and near the end of 32 bits.
TEST(BoundsOfASum, HoldEverySum) {
    Random random(1);
    for (int round = 0; round < 4000; ++round) {
        const auto range = [&] {
            const std::uint32_t middle = some_value(random), wide = below(random, 6);
            const std::uint32_t low = middle > 0xFFFF'FFFF - wide ? 0xFFFF'FFFF - wide : middle;
            return std::pair(low, low + wide);
        };
        const auto [al, ah] = range();
        const auto [bl, bh] = range();
        const std::uint64_t carry = below(random, 2);
        const Known sum = bounds_of_sum(Known::between(al, ah), Known::between(bl, bh), carry);
        for (std::uint64_t a = al; a <= ah; ++a)
            for (std::uint64_t b = bl; b <= bh; ++b) {
                const auto s = static_cast<std::uint32_t>(a + b + carry);
                ASSERT_GE(s, sum.low) << a << " + " << b << " + " << carry;
                ASSERT_LE(s, sum.high) << a << " + " << b << " + " << carry;
            }
    }
}

TEST(EitherOfTwo, HoldsBoth) {
    const Known one{7, true}, some = Known::between(3, 5);
    EXPECT_EQ(either(one, some).low, 3U);
    EXPECT_EQ(either(one, some).high, 7U);
    EXPECT_FALSE(either(one, one).known) << "the caller says where both are the same";
    EXPECT_EQ(either(Known{}, one).low, 0U);
    EXPECT_EQ(either(Known{}, one).high, 0xFFFF'FFFFU);
}

}  // namespace
}  // namespace mt
