// Exceptions of several architectures side by side: no number of one is taken for that of another.
#include "target/exception_id.h"

#include <gtest/gtest.h>

#include <set>

#include "target/exception_names.h"

namespace mt {
namespace {

using Space = ExceptionId::Space;
constexpr Space kSpaces[] = {Space::arm, Space::riscv_interrupt, Space::riscv_exception, Space::system};

TEST(AnExceptionsCode, IsItsOwnAndLeadsBack) {
    std::set<std::uint16_t> seen;
    for (const Space space : kSpaces)
        for (const std::uint32_t number : {0u, 1u, 3u, 15u, 16u, 255u, 256u, 511u, 1019u, 8192u, ExceptionId::kMost}) {
            const ExceptionId id = ExceptionId::make(space, number);
            EXPECT_EQ(ExceptionId::of(id.code()), id);
            EXPECT_TRUE(seen.insert(id.code()).second) << number;
            EXPECT_LT(id.code(), 0xFFFE) << "those stand for what is no exception";
        }
    EXPECT_EQ(ExceptionId::make(Space::arm, 22).code(), 22) << "Arm's numbers stay as they are";
    EXPECT_EQ(ExceptionId::make(Space::arm, 0).code(), 0) << "thread mode";
    EXPECT_EQ(ExceptionId::make(Space::system, 1'000'000), ExceptionId::make(Space::system, ExceptionId::kMost));
}

// Software of a RISC-V core has one number only to write: 16 + cause for an interrupt, 256 + cause for an exception.
TEST(AnExceptionsCode, ComesFromTheWireAndGoesBackToIt) {
    for (unsigned number = 0; number < 512; ++number) {
        EXPECT_EQ(ExceptionId::on_wire(number, false), ExceptionId::make(Space::arm, number));
        EXPECT_EQ(ExceptionId::on_wire(number, false).wire(), number);
        EXPECT_EQ(ExceptionId::on_wire(number, true).wire(), number);
    }
    EXPECT_EQ(ExceptionId::on_wire(16 + 7, true), ExceptionId::riscv(7, true));
    EXPECT_EQ(ExceptionId::on_wire(256 + 2, true), ExceptionId::riscv(2, false));
    EXPECT_EQ(ExceptionId::on_wire(0, true).code(), 0) << "thread mode there, too";
}

// Armv7-M ARM B1.5.2; RISC-V privileged ISA, table 3.6.
TEST(Faults, AreToldFromOtherExceptions) {
    for (unsigned n = 0; n < 40; ++n) {
        EXPECT_EQ(ExceptionId::make(Space::arm, n).is_fault(), n >= 3 && n <= 7) << n;
        EXPECT_FALSE(ExceptionId::riscv(n, true).is_fault()) << n;
        EXPECT_FALSE(ExceptionId::make(Space::system, n).is_fault()) << n;
    }
    for (const unsigned cause : {0u, 1u, 2u, 4u, 5u, 6u, 7u, 12u, 13u, 15u, 16u, 18u, 19u, 20u, 23u})
        EXPECT_TRUE(ExceptionId::riscv(cause, false).is_fault()) << cause;
    for (const unsigned cause : {3u, 8u, 9u, 10u, 11u, 14u, 17u, 24u, 100u})
        EXPECT_FALSE(ExceptionId::riscv(cause, false).is_fault()) << cause;
    EXPECT_TRUE(ExceptionId::make(Space::arm, 16).is_interrupt());
    EXPECT_FALSE(ExceptionId::make(Space::arm, 15).is_interrupt()) << "SysTick";
    EXPECT_TRUE(ExceptionId::riscv(7, true).is_interrupt());
    EXPECT_FALSE(ExceptionId::riscv(7, false).is_interrupt());
}

TEST(ExceptionNames, AreThoseOfTheArchitecture) {
    EXPECT_EQ(architectural_exception_name(ExceptionId::make(Space::arm, 3)), "HardFault");
    EXPECT_EQ(architectural_exception_name(ExceptionId::make(Space::arm, 8)), "exception 8");
    EXPECT_EQ(architectural_exception_name(ExceptionId::make(Space::arm, 18)), "interrupt 2");
    EXPECT_EQ(architectural_exception_name(ExceptionId::riscv(7, true)), "machine timer");
    EXPECT_EQ(architectural_exception_name(ExceptionId::riscv(4, true)), "interrupt cause 4");
    EXPECT_EQ(architectural_exception_name(ExceptionId::riscv(2, false)), "illegal instruction");
    EXPECT_EQ(architectural_exception_name(ExceptionId::riscv(14, false)), "exception cause 14");
    EXPECT_EQ(architectural_exception_name(ExceptionId::riscv(7, false)), "store access fault");
    EXPECT_EQ(architectural_exception_name(ExceptionId::riscv(900, true)), "interrupt cause 900");
    EXPECT_EQ(architectural_exception_name(ExceptionId::make(Space::system, 3)), "interrupt 3");
}

TEST(SomethingPerException, IsFoundForEachAndIsNothingBefore) {
    PerException<int> of(-1);
    for (const Space space : kSpaces) EXPECT_EQ(of[ExceptionId::make(space, 700).code()], -1);
    int next = 0;
    for (const Space space : kSpaces)
        for (const std::uint32_t n : {0u, 5u, 700u, ExceptionId::kMost})
            of[ExceptionId::make(space, n).code()] = next++;
    next = 0;
    for (const Space space : kSpaces)
        for (const std::uint32_t n : {0u, 5u, 700u, ExceptionId::kMost})
            EXPECT_EQ(of[ExceptionId::make(space, n).code()], next++);
    EXPECT_EQ(of[ExceptionId::make(Space::system, 6).code()], -1);
}

}  // namespace
}  // namespace mt
