// Which exception: architectures count in spaces of their own, and an operating system in another.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <vector>

namespace mt {

struct ExceptionId {
    enum class Space : std::uint8_t {
        arm,              ///< M-profile exception numbers: interrupts from 16 (Armv7-M ARM B1.5.2); A and R profile: above
        riscv_interrupt,  ///< causes with the interrupt bit (privileged ISA, mcause)
        riscv_exception,  ///< causes without it
        system            ///< interrupts as the operating system counts them
    };
    Space space = Space::arm;
    std::uint16_t number = 0;
    static constexpr std::uint32_t kMost = 0x3FFD;  ///< greater ones count as this one
    /// Exceptions of A and R profile stand in the space of Arm above these, with the type that trace tells: as PFT and
    /// ETMv3 number them (IHI 0035, IHI 0014: branch packets with exceptions), and as ETMv4 does (IHI 0064, 6.4.7).
    static constexpr std::uint16_t kPftTypes = 0x1000, kEtm4Types = 0x1100, kTypesEnd = 0x1200;

    static constexpr ExceptionId make(Space space, std::uint32_t number) {
        return {space, static_cast<std::uint16_t>(std::min(number, kMost))};
    }
    static constexpr ExceptionId riscv(std::uint32_t cause, bool interrupt) {
        return make(interrupt ? Space::riscv_interrupt : Space::riscv_exception, cause);
    }
    /// As columns hold it; 0 is thread mode. Arm's numbers stay as they are.
    constexpr std::uint16_t code() const {
        return static_cast<std::uint16_t>(static_cast<unsigned>(space) << 14 | number);
    }
    static constexpr ExceptionId of(unsigned code) {
        return {static_cast<Space>(code >> 14 & 3), static_cast<std::uint16_t>(code & 0x3FFF)};
    }
    /// Where there is room for one number only: software of a RISC-V core that writes exception packets tells 16 above
    /// the cause of an interrupt, and 256 above that of an exception.
    static constexpr ExceptionId on_wire(unsigned number, bool is_riscv) {
        if (!is_riscv || number < 16) return make(Space::arm, number);
        return number < 256 ? riscv(number - 16, true) : riscv(number - 256, false);
    }
    constexpr unsigned wire() const {
        return space == Space::riscv_interrupt   ? number + 16u
               : space == Space::riscv_exception ? number + 256u
                                                 : number;
    }
    /// Whether it is one of A or R profile, of which `type()` is what the trace tells.
    constexpr bool is_typed() const { return space == Space::arm && number >= kPftTypes && number < kTypesEnd; }
    constexpr unsigned type() const { return number & 0xFFu; }
    /// HardFault and its relatives, 3 to 7 (Armv7-M B1.5.2; 7 is SecureFault of Armv8-M); for RISC-V all exceptions but
    /// breakpoints and environment calls (privileged ISA, table 3.6).
    constexpr bool is_fault() const {
        if (space == Space::arm && number >= kEtm4Types && number < kTypesEnd)  // system error, alignment, aborts
            return number == kEtm4Types + 4 || (number >= kEtm4Types + 10 && number <= kEtm4Types + 12);
        if (space == Space::arm && number >= kPftTypes && number < kEtm4Types)  // aborts, undefined instructions
            return number == kPftTypes + 4 || number == kPftTypes + 9 || number == kPftTypes + 11 || number == kPftTypes + 12;
        if (space == Space::arm) return number >= 3 && number <= 7;
        return space == Space::riscv_exception && number < 24 && number != 3 && !(number >= 8 && number <= 11) &&
               number != 14 && number != 17;
    }
    /// Whether it comes from outside of the program.
    constexpr bool is_interrupt() const {
        if (space == Space::arm && number >= kPftTypes && number < kTypesEnd) return (number & 0xFF) == 14 || (number & 0xFF) == 15;
        return space == Space::arm ? number >= 16 : space != Space::riscv_exception;
    }

    /// Whether an instruction that is meant for it enters it: SVC, SMC, HVC, environment calls, breakpoints (as above).
    constexpr bool is_call() const {
        if (space == Space::arm && number >= kEtm4Types && number < kTypesEnd) return number == kEtm4Types + 2;
        if (space == Space::arm && number >= kPftTypes) return number == kPftTypes + 2 || number == kPftTypes + 10;
        if (space == Space::arm) return number == 11;
        return space == Space::riscv_exception && (number == 3 || (number >= 8 && number <= 11));
    }

    bool operator==(const ExceptionId&) const = default;
};

/// Something for each exception, found by its code at once; what was not there yet is `none`.
template <class T>
class PerException {
  public:
    explicit PerException(T none) : none_(none) {}
    T& operator[](std::uint16_t code) {
        std::vector<T>& of = spaces_[code >> 14];
        const std::size_t number = code & 0x3FFFu;
        if (number >= of.size()) of.resize(number + 1, none_);
        return of[number];
    }

  private:
    T none_;
    std::array<std::vector<T>, 4> spaces_;
};

}  // namespace mt
