// A core of M profile that executes a linked program: Armv7E-M without a floating-point unit. Instructions: DDI 0403E
// chapters A5 to A7; exceptions: B1.5. An instruction takes about the cycles that a Cortex-M4 takes without wait states.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <optional>
#include <set>
#include <span>
#include <utility>
#include <vector>

#include "system_control.h"

namespace board {

/// What the last instruction of a straight run did, as far as it decides where the program goes on.
struct ThumbBranch {
    enum class Kind : std::uint8_t { jump, call, indirect, indirect_call, exception_return, barrier };
    std::uint32_t first, last;  ///< addresses of the run's instructions
    Kind kind;
    bool taken;
    std::uint32_t target, back;  ///< where it goes; behind the branch
};

/// What a core meets beyond its own memory, and who hears of what it does.
class ThumbSurroundings {
  public:
    virtual ~ThumbSurroundings() = default;
    /// A load of 1, 2 or 4 bytes from what is no memory; nothing: a bus fault.
    virtual std::optional<std::uint32_t> load(std::uint32_t address, unsigned size) = 0;
    /// False: a bus fault.
    virtual bool store(std::uint32_t address, unsigned size, std::uint32_t value) = 0;
    /// An access to memory that was marked, by the instruction at `pc`; a store is done already.
    virtual void accessed(std::uint32_t address, unsigned size, bool is_write, std::uint32_t value, std::uint32_t pc) = 0;
    virtual void branched(const ThumbBranch& branch) = 0;
    /// Exception `number` is entered behind the run from `first` to `last` (first > last: none); `back` is where the
    /// interrupted program goes on. `chained`: straight from a handler that has just ended.
    virtual void entered(unsigned number, std::uint32_t first, std::uint32_t last, std::uint32_t back, std::uint32_t handler,
                         bool chained) = 0;
    /// The handler of `number` has ended.
    virtual void left(unsigned number) = 0;
    /// … and exception `number` goes on, or a thread (0), at `address`.
    virtual void returned(unsigned number, std::uint32_t address) = 0;
    /// PRIMASK changed.
    virtual void masked(bool is) = 0;
};

class ThumbCore {
  public:
    /// Flash is seen at address 0, too.
    static constexpr std::uint32_t kFlash = 0x08000000, kFlashBytes = 512 << 10, kRam = 0x20000000, kRamBytes = 128 << 10;
    /// Registers as a debugger numbers them: r0 to r12, sp, lr, pc, xPSR, MSP, PSP, PRIMASK, CONTROL, BASEPRI, FAULTMASK.
    static constexpr std::size_t kRegisters = 23;

    explicit ThumbCore(ThumbSurroundings& surroundings);

    /// Erased flash with this in it.
    void program(std::uint32_t address, std::span<const std::uint8_t> bytes);
    /// Memory is cleared, the stack pointer and the program counter come from the vector table at the begin of flash.
    void reset();
    std::uint32_t read_register(std::size_t n) const;
    void write_register(std::size_t n, std::uint32_t value);
    /// False if it is no memory in whole.
    bool read(std::uint32_t address, std::span<std::uint8_t> into) const;
    /// Into RAM.
    bool write(std::uint32_t address, std::span<const std::uint8_t> bytes);

    /// Executes until `cycle`, or until something calls `stop`, or before an instruction at one of `points`; the first is
    /// executed whatever stands there if `over_first`. Asleep, time passes.
    /// True: it stands before such a point.
    bool run_until(std::uint64_t cycle, const std::set<std::uint32_t>& points, bool over_first);
    /// One instruction, or the entry to one exception. False: it sleeps and nothing wakes it yet.
    bool step();
    /// Ends `run_until` behind the instruction that is executed.
    void stop() { stopped_ = true; }

    /// A jump to itself is not executed each time; for when nobody is told of branches.
    void leap_over_waiting(bool does) { leaps_ = does; }

    /// An interrupt line is raised: 0 is exception 16.
    void raise(unsigned interrupt);
    /// Accesses to these bytes are told; until `unmark`, which forgets all.
    void mark(std::uint32_t address, std::uint32_t length);
    void unmark() { marks_.assign(marks_.size(), 0); }

    /// The straight run that has not ended yet begins anew here.
    void begin_run() {
        run_first_ = r_[15];
        run_last_ = run_first_ - 1;
    }
    /// That run so far, by the addresses of its instructions; the first above the last: none.
    std::pair<std::uint32_t, std::uint32_t> open_run() const { return {run_first_, run_last_}; }
    std::uint64_t cycle() const { return cycle_; }
    /// Time passes in which it sleeps.
    void wait_until(std::uint64_t cycle) {
        if (cycle <= cycle_) return;
        slept_ += cycle - cycle_;
        cycle_ = cycle;
    }
    std::uint32_t pc() const { return r_[15]; }
    bool asleep() const { return asleep_ || locked_up_; }
    bool locked_up() const { return locked_up_; }
    unsigned exception() const { return ipsr_; }
    std::uint64_t instructions() const { return instructions_; }
    /// Cycles that instructions took beyond their first, without loads and stores, and those of loads and stores.
    std::uint64_t extra_cycles() const { return extra_; }
    std::uint64_t memory_cycles() const { return memory_extra_; }
    std::uint64_t slept_cycles() const { return slept_; }
    SystemControl& system() { return system_; }
    /// A debugger wrote to the system control space: what is pending is looked at again.
    void look_again() { attention_ = true; }

  private:
    struct Fault {
        unsigned number;
        std::uint32_t cfsr;
        std::optional<std::uint32_t> address;
    };
    using Kind = ThumbBranch::Kind;
    static Fault usage(unsigned bit) { return {SystemControl::kUsageFault, 1u << (16 + bit), {}}; }

    // Execution.
    void execute_next();
    void execute16(std::uint32_t i);
    void execute32(std::uint32_t i, std::uint32_t j);
    void miscellaneous(std::uint32_t i);
    void hint(std::uint32_t which);
    void data_processing(std::uint32_t op, bool s, std::uint32_t n, std::uint32_t d, std::uint32_t operand, bool carry);
    void plain_immediate(std::uint32_t i, std::uint32_t j);
    void branches_and_control(std::uint32_t i, std::uint32_t j);
    void load_store_single(std::uint32_t i, std::uint32_t j);
    void load_store_double(std::uint32_t i, std::uint32_t j);
    void load_store_multiple(std::uint32_t i, std::uint32_t j);
    void data_register(std::uint32_t i, std::uint32_t j);
    void multiply(std::uint32_t i, std::uint32_t j);
    void long_multiply(std::uint32_t i, std::uint32_t j);
    void parallel(std::uint32_t i, std::uint32_t j);
    void special_read(std::uint32_t d, std::uint32_t sysm);
    void special_write(std::uint32_t value, std::uint32_t sysm, std::uint32_t mask);
    std::uint32_t reg(std::uint32_t n) const { return n == 15 ? r_[15] + 4 : r_[n]; }
    void put(std::uint32_t n, std::uint32_t value) { n == 13 ? r_[13] = value & ~3u : r_[n] = value; }
    void set_primask(bool is);
    void set_control(std::uint32_t value);
    bool uses_process_stack() const { return (control_ & 2) != 0; }
    std::uint32_t& main_stack() { return uses_process_stack() ? other_sp_ : r_[13]; }
    std::uint32_t& process_stack() { return uses_process_stack() ? r_[13] : other_sp_; }
    bool privileged() const { return ipsr_ != 0 || (control_ & 1) == 0; }

    // Flags and arithmetic (A2.2.1).
    std::uint32_t add(std::uint32_t a, std::uint32_t b, bool carry, bool s);
    void flags(std::uint32_t result) {
        n_ = result >> 31 != 0;
        z_ = result == 0;
    }
    std::uint32_t shift(std::uint32_t value, unsigned type, unsigned amount, bool& carry) const;
    bool passes(unsigned condition) const;
    std::uint32_t xpsr() const;
    void set_flags(std::uint32_t xpsr);

    // Branches.
    void branch(std::uint32_t target, Kind kind);
    void branch_exchange(std::uint32_t target, Kind kind);
    std::optional<Kind> kind_of(std::uint32_t i, std::uint32_t j) const;

    // Memory.
    std::uint32_t load(std::uint32_t address, unsigned size);
    void store(std::uint32_t address, unsigned size, std::uint32_t value);
    std::uint32_t load_aligned(std::uint32_t address, unsigned size);
    void store_aligned(std::uint32_t address, unsigned size, std::uint32_t value);
    std::uint32_t load_elsewhere(std::uint32_t address, unsigned size);
    std::uint32_t fetch(std::uint32_t address) const;
    bool marked(std::uint32_t at, unsigned size) const { return (marks_[at / 32] | marks_[(at + size - 1) / 32]) != 0; }

    // Exceptions.
    int level() const;
    bool take_pending();
    void enter(unsigned number, std::uint32_t back, bool chained, std::uint32_t exc_return);
    void exception_return(std::uint32_t code);
    void fault(const Fault& f);
    void tick();
    bool wakes() const;
    void leap(std::uint64_t until);

    ThumbSurroundings& around_;
    SystemControl system_;
    std::vector<std::uint8_t> flash_, ram_, marks_;
    std::array<std::uint32_t, 16> r_{};
    std::uint32_t other_sp_ = 0;
    bool n_ = false, z_ = false, c_ = false, v_ = false, q_ = false;
    unsigned ge_ = 0, it_ = 0, ipsr_ = 0;
    bool primask_ = false, faultmask_ = false;
    std::uint32_t basepri_ = 0, control_ = 0;
    std::optional<std::uint32_t> exclusive_;
    bool asleep_ = false, locked_up_ = false, event_ = false, attention_ = false, stopped_ = false, leaps_ = false;
    std::uint64_t cycle_ = 0, instructions_ = 0, extra_ = 0, memory_extra_ = 0, slept_ = 0;
    std::uint32_t run_first_ = 0, run_last_ = 0;
    // Of the instruction that is executed.
    std::uint32_t next_ = 0, cost_ = 1, memory_cost_ = 0;
    std::optional<Kind> branched_;
    bool taken_ = true, fresh_it_ = false;
    std::uint32_t exc_return_ = 0;
};

}  // namespace board
