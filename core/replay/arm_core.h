// What 32-bit Arm cores of all profiles have in common, of which some is known: registers, flags, the T32 set. Armv7-M ARM
// (DDI 0403E), A5 to A7; the same instructions of Armv7-A and R: DDI 0406C, A6 to A8.
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

#include "flow/steps.h"
#include "replay/condition_flags.h"
#include "replay/past_memory.h"
#include "target/code.h"

namespace mt {

namespace arm {

inline Known known(std::uint64_t v) { return {v & 0xFFFF'FFFF, true, Known::kNever}; }
inline Known flag(bool v) { return {v ? 1u : 0u, true, Known::kNever}; }
inline Known offset(const Known& base, std::int64_t by) {
    if (base.known) return known(base.value + static_cast<std::uint64_t>(by));
    return bounds_of_sum(base, known(static_cast<std::uint64_t>(by)), 0);
}
inline std::uint32_t extended(std::uint64_t v, unsigned bytes) {
    const auto x = static_cast<std::uint32_t>(v);
    if (bytes == 1) return static_cast<std::uint32_t>(static_cast<std::int32_t>(static_cast<std::int8_t>(x)));
    if (bytes == 2) return static_cast<std::uint32_t>(static_cast<std::int32_t>(static_cast<std::int16_t>(x)));
    return x;
}

}  // namespace arm

/// The integer set; floating point and vectors are followed as far as they touch core registers, the stack and memory. What
/// the profiles have each in its own way is asked of the classes below. Copies are cheap. One thread at a time.
class ArmCore {
  public:
    virtual ~ArmCore() = default;
    /// r0 to r12, 13: the stack pointer in use, 14: the link register.
    const Known& r(unsigned n) const { return n == 13 ? sp() : r_[n]; }
    const ConditionFlags& flags() const { return flags_; }
    const PastMemory& memory() const { return memory_; }
    PastMemory& memory() { return memory_; }
    /// So many instructions were of no kind that is known here; after each nothing was known any more.
    std::uint64_t strange() const { return strange_; }

  protected:
    /// `shared`: others write to its memory, too: only its stack can be known.
    ArmCore(std::shared_ptr<const Code> code, PastMemory memory, bool shared);
    ArmCore(const ArmCore&) = default;
    ArmCore(ArmCore&&) = default;
    ArmCore& operator=(const ArmCore&) = default;
    ArmCore& operator=(ArmCore&&) = default;

    struct Shifted {
        Known value, carry;
    };
    virtual const Known& sp() const = 0;
    virtual void set_sp(const Known& value) = 0;
    virtual void lose(std::uint64_t step) = 0;
    /// A value went into the program counter.
    virtual void jump(const Known& target, std::uint64_t step, std::uint32_t next) = 0;
    /// System instructions of T32 (A5.3.4, A5.3.5), loads and stores of frames, and of 16 bits CPS; false: none is known.
    virtual bool special(std::uint32_t i, std::uint32_t pc, std::uint64_t step) = 0;
    virtual bool frames(std::uint32_t /*i*/, std::uint64_t /*step*/) { return false; }
    virtual bool change_state(std::uint32_t /*i*/, std::uint64_t /*step*/) { return true; }
    /// `pc`: four bytes behind the instruction, so that all else can be as of T32.
    virtual bool a32(std::uint32_t /*i*/, std::uint32_t /*pc*/, std::uint32_t /*slot*/, std::uint64_t /*step*/, std::uint32_t /*next*/) { return false; }
    /// Stack pointers that stand beside the registers, if there are any.
    virtual std::array<Known*, 2> stack_pointers() { return {}; }
    /// Whether the instruction that may not have run changed the mode.
    virtual bool changed_mode() { return false; }

    void execute_one(std::uint32_t slot, std::uint64_t step, std::uint32_t next);
    struct Registers {
        std::array<Known, 15> r;
        std::array<Known, 2> stacks;
    };
    void take_registers(Registers& into);
    void put_registers(const Registers& all);
    void merge(const Registers& one, const Registers& other, std::uint64_t step);
    void resolve_registers();
    void lose_registers(std::uint64_t step);
    void set(unsigned rd, const Known& value, std::uint64_t step);
    Known read(unsigned n, std::uint32_t pc) const;
    Known carry() const {
        const auto c = flags_.get(ConditionFlags::kC);
        return c ? arm::flag(*c) : Known{};
    }
    void set_nz(const Known& value);
    void set_carry(const Known& carry);
    Known load(const Known& address, unsigned bytes, bool with_sign, bool by_stack);
    void store(const Known& address, unsigned bytes, const Known& value, bool by_stack, std::uint64_t step);
    Known add(const Known& a, const Known& b, const Known& carry, bool set_flags);
    static Shifted shift(const Known& value, unsigned type, const Known& amount, const Known& carry);
    void logic(unsigned op, unsigned rd, const Known& a, const Shifted& b, bool set_flags, std::uint64_t step);
    /// What a 32-bit instruction with operand `b` calculates (A5.3.1, A5.3.11 share their numbers).
    bool calculate(unsigned op, unsigned rd, unsigned rn, const Shifted& b, bool set_flags, std::uint32_t pc,
                   std::uint64_t step);
    bool narrow(std::uint32_t i, std::uint32_t pc, std::uint32_t slot, std::uint64_t step, std::uint32_t next, bool in_it);
    bool wide(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next);
    bool multiple(std::uint32_t list, unsigned rn, bool loads, bool before, bool up, bool writes_back, std::uint64_t step,
                  std::uint32_t next);
    bool single(std::uint32_t i, std::uint32_t pc, std::uint64_t step, std::uint32_t next);
    bool dual(std::uint32_t i, std::uint32_t pc, std::uint64_t step);
    bool coprocessor(std::uint32_t i, std::uint64_t step);
    /// VLD1 to VLD4, VST1 to VST4 (DDI 0406C, A7.7).
    bool structures(std::uint32_t i, std::uint64_t step);
    void store_unknown(const Known& address, unsigned count, bool by_stack, std::uint64_t step);

    static constexpr unsigned kExecuted = 0, kLost = 1, kMerged = 2, kReturned = 3;  ///< kinds of origins
    std::uint64_t now_ = 0;      ///< the step that is executed
    unsigned kind_ = kExecuted;  ///< of what happens now
    std::uint32_t last_ = 0;     ///< slot of the instruction executed last
    std::shared_ptr<const Code> code_;
    struct Fetched {
        std::uint32_t word = 0, pc = 0;
        std::uint8_t size = 0;  ///< halfwords; 0: not met yet
        bool arm = false, decides = false;
    };
    std::shared_ptr<std::vector<Fetched>> fetched_;          ///< by slot
    std::shared_ptr<std::vector<std::uint8_t>> conditions_;  ///< of each slot in an IT block that was met: 1 + condition
    PastMemory memory_;
    std::array<Known, 15> r_;
    ConditionFlags flags_;
    /// M profile: whether an exception saves floating-point registers, too (CONTROL.FPCA, DDI 0403E B1.4.4); nothing: not
    /// known.
    std::optional<bool> fp_active_ = false;
    std::optional<bool> fp_automatic_ = true;  ///< FPCCR.ASPEN (B3.2.21): using them makes that so; set at reset
    unsigned unsure_ = 0;     ///< so many instructions may stand in an IT block that was not seen
    bool doubtful_ = false;   ///< what is executed may not have run
    /// Of instructions under a condition of which nobody knows whether it held: registers if it did, and if it did not, as
    /// long as they follow each other.
    struct Fork {
        static constexpr unsigned kNone = 99;
        unsigned condition = kNone;
        Registers held, failed;
    };
    Fork fork_;
    bool bit_bands_ = false;  ///< there may be aliases of single bits (DDI 0403E, B3.1)
    bool shared_ = false;
    std::uint64_t strange_ = 0;
};

}  // namespace mt
