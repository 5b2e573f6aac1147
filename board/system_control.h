// The system control space of a core of M profile: SysTick, interrupt controller, system control block, and what follows
// from them, that is which exception is taken next. DDI 0403E B1.5 and B3; four bits of priority, 32 interrupts, no MPU.
#pragma once

#include <array>
#include <cstdint>
#include <optional>

namespace board {

class SystemControl {
  public:
    static constexpr unsigned kExceptions = 48;
    static constexpr std::uint32_t kBase = 0xE000E000;
    enum Exception : unsigned {
        kNmi = 2,
        kHardFault = 3,
        kMemManage = 4,
        kBusFault = 5,
        kUsageFault = 6,
        kSvCall = 11,
        kDebugMonitor = 12,
        kPendSv = 14,
        kSysTick = 15
    };

    /// `vectors` is where the vector table stands out of reset.
    void reset(std::uint32_t vectors);
    static bool holds(std::uint32_t address) { return (address & 0xFFFFF000) == kBase; }
    /// Of 1, 2 or 4 bytes, aligned; what there is not reads as zero and takes nothing.
    std::uint32_t read(std::uint32_t address, unsigned size, std::uint64_t cycle);
    void write(std::uint32_t address, unsigned size, std::uint32_t value, std::uint64_t cycle);

    void pend(unsigned exception) { pending_[exception] = true; }
    void begin(unsigned exception) {
        pending_[exception] = false;
        active_[exception] = true;
    }
    void end(unsigned exception) { active_[exception] = false; }
    /// The exception that runs, for ICSR; 0: none.
    void running(unsigned exception) { now_ = exception; }
    bool any_active() const;
    bool active(unsigned exception) const { return active_[exception]; }
    /// What the core runs at, without its masks: lower is more urgent, 256 that of a thread (B1.5.4).
    int level() const;
    /// The most urgent pending exception that is more urgent than `level`.
    std::optional<unsigned> next(int level) const;
    int priority(unsigned exception) const;
    /// BASEPRI as a level.
    int masking(std::uint32_t basepri) const { return basepri == 0 ? 256 : static_cast<int>(basepri & group_mask()); }

    std::uint32_t vectors() const { return vtor_; }
    bool enabled(unsigned exception) const;
    bool divide_by_zero_faults() const { return (ccr_ & 1u << 4) != 0; }
    bool unaligned_faults() const { return (ccr_ & 1u << 3) != 0; }
    bool sleeps_on_exit() const { return (scr_ & 2) != 0; }
    /// What was wrong: bits of CFSR (B3.2.15), and of a bus fault where.
    void tell_fault(std::uint32_t cfsr, std::optional<std::uint32_t> address);
    void tell_forced() { hfsr_ |= 1u << 30; }
    /// When SysTick comes to zero next; never: all ones.
    std::uint64_t next_tick() const { return next_tick_; }
    /// It came there.
    void tick();

  private:
    std::uint32_t word(std::uint32_t offset, std::uint64_t cycle);
    void set_word(std::uint32_t offset, std::uint32_t value, std::uint32_t changed, std::uint64_t cycle);
    std::uint32_t group_mask() const { return 0xFF & ~((1u << ((aircr_ >> 8 & 7) + 1)) - 1); }
    void start_tick(std::uint64_t cycle, std::uint32_t from);

    std::array<bool, kExceptions> pending_{}, active_{}, enabled_{};
    std::array<std::uint8_t, kExceptions> priorities_{};
    std::uint32_t vtor_ = 0, aircr_ = 0, scr_ = 0, ccr_ = 0, shcsr_ = 0, cfsr_ = 0, hfsr_ = 0, bfar_ = 0, now_ = 0;
    std::uint32_t tick_control_ = 0, tick_reload_ = 0, tick_stood_ = 0;
    std::uint64_t next_tick_ = ~std::uint64_t{0};
};

}  // namespace board
