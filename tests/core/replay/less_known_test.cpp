// Who knows less may say less, never anything else: programs made at random, executed by two machines, of which one knows
// everything at first and the other only some of the registers.
#include <gtest/gtest.h>

#include <array>
#include <functional>
#include <random>
#include <vector>

#include "base/text.h"
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
    ASSERT_LE(less.low, all.least()) << what;
    ASSERT_GE(less.high, all.most()) << what;
}

// Two machines, by the same instructions behind an introduction of their own. `said`: how often the one that knew less
// knew something all the same, and how often it gave bounds.
struct Said {
    std::uint64_t known = 0, bounded = 0, open = 0, programs = 0;
    void count(const Known& k) { ++(k.known ? known : k.low > 0 || k.high < 0xFFFF'FFFF ? bounded : open); }
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

void put(Halves& to, std::uint32_t wide) {
    to.push_back(static_cast<std::uint16_t>(wide >> 16));
    to.push_back(static_cast<std::uint16_t>(wide));
}
// A7.7.76 MOV (T3), A7.7.79 MOVT: the immediate is cut into four.
std::uint32_t moving(std::uint32_t op, unsigned rd, std::uint32_t imm16) {
    return op | (imm16 >> 12) << 16 | (imm16 >> 11 & 1) << 26 | (imm16 >> 8 & 7) << 12 | rd << 8 | (imm16 & 0xFF);
}

Halves some_thumb(Random& random) {
    Halves h;
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
    return h;
}

TEST(WhoKnowsLess, SaysNothingElseOfACortexM) {
    Said said;
    for (unsigned seed = 0; seed < 3000; ++seed) {
        Random random(seed);
        const unsigned hidden = below(random, 255) + 1;  // one bit for each register that is not known
        Halves all, less;
        put(all, moving(0xF240'0000, 12, kDevice & 0xFFFF));
        put(all, moving(0xF2C0'0000, 12, kDevice >> 16));
        less = all;
        for (unsigned n = 0; n < kRegisters; ++n) {
            const std::uint32_t v = some_value(random);
            Halves& known = all;
            put(known, moving(0xF240'0000, n, v & 0xFFFF));
            put(known, moving(0xF2C0'0000, n, v >> 16));
            if ((hidden >> n & 1) != 0) {
                put(less, 0xF8DC'0000 | n << 12);  // ldr.w rN, [r12]: a device
                put(less, 0xF3AF'8000);            // nop.w
            } else {
                put(less, moving(0xF240'0000, n, v & 0xFFFF));
                put(less, moving(0xF2C0'0000, n, v >> 16));
            }
        }
        const std::uint64_t begin = kProgramBase + 2 * all.size();
        const Halves rest = some_thumb(random);
        all.insert(all.end(), rest.begin(), rest.end());
        less.insert(less.end(), rest.begin(), rest.end());
        compare<ThumbMachine>(
            all, less, "armv7e-m", kRegisters,
            [](std::shared_ptr<const Code> code) { return ThumbMachine(std::move(code), program_memory(), true, 0x2000'2000u, false); },
            [](const ThumbMachine& m, unsigned n) { return m.r(n); }, begin, said);
        if (HasFatalFailure()) FAIL() << "program " << seed;
    }
    EXPECT_GT(said.programs, 1000U) << "most are programs";
    EXPECT_GT(said.known, 10'000U);
    EXPECT_GT(said.bounded, 1000U);
    EXPECT_GT(said.open, 10'000U);
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

void put_riscv(Halves& to, std::uint32_t word) {
    to.push_back(static_cast<std::uint16_t>(word));
    to.push_back(static_cast<std::uint16_t>(word >> 16));
}

TEST(WhoKnowsLess, SaysNothingElseOfARiscVHart) {
    Said said;
    for (unsigned seed = 0; seed < 3000; ++seed) {
        Random random(seed);
        const unsigned hidden = below(random, 255) + 1;
        Halves all, less;
        put_riscv(all, (kDevice & 0xFFFF'F000) | 5 << 7 | 0x37);  // lui t0, the device
        less = all;
        for (unsigned n = 0; n < kRegisters; ++n) {
            const std::uint32_t v = some_value(random), low = v & 0xFFF, high = (v + 0x800) & 0xFFFF'F000;
            const std::uint32_t rd = (8 + n) << 7;
            put_riscv(all, high | rd | 0x37);                             // lui
            put_riscv(all, low << 20 | (8 + n) << 15 | rd | 0x13);        // addi
            if ((hidden >> n & 1) != 0) {
                put_riscv(less, 5 << 15 | 2 << 12 | rd | 0x03);           // lw from the device
                put_riscv(less, 0x13);                                    // nop
            } else {
                put_riscv(less, high | rd | 0x37);
                put_riscv(less, low << 20 | (8 + n) << 15 | rd | 0x13);
            }
        }
        const std::uint64_t begin = kProgramBase + 2 * all.size();
        for (unsigned i = 0; i < kInstructions; ++i) {
            const std::uint32_t word = some_riscv(random);
            put_riscv(all, word);
            put_riscv(less, word);
        }
        compare<RvMachine>(
            all, less, "rv32imac", kRegisters,
            [](std::shared_ptr<const Code> code) { return RvMachine(std::move(code), program_memory(), false); },
            [](const RvMachine& m, unsigned n) { return m.x(8 + n); }, begin, said);
        if (HasFatalFailure()) FAIL() << "program " << seed;
    }
    EXPECT_GT(said.programs, 1000U) << "most are programs";
    EXPECT_GT(said.known, 10'000U);
    EXPECT_GT(said.bounded, 1000U);
    EXPECT_GT(said.open, 10'000U);
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
