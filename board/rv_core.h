// The encoder co-processor of the board: an RV32IMAC core with timer, software and external interrupts that
// executes a linked program. RISC-V Instruction Set Manual, volume I (RV32I 2.1, M 2.0, A 2.1, C 2.0,
// Zicsr 2.0) and volume II (machine mode 1.12); memory map of the timer and interrupt controller as on
// common single-board virtual machines, so that the same program runs there.
#pragma once

#include <array>
#include <memory>
#include <random>

#include "debug_core.h"
#include "target/image.h"

namespace board {

/// An instruction that was executed. `word` is the 32-bit form, also of a compressed one.
struct RvRetired {
    std::uint32_t pc = 0, word = 0, length = 4, next = 0;
    std::uint64_t cycle = 0;
};
/// An exception or interrupt was taken before the instruction at `epc` was executed; ecall and ebreak count as
/// executed.
struct RvTrapped {
    std::uint32_t cause = 0, value = 0, epc = 0;
    bool interrupt = false;
    std::uint64_t cycle = 0;
};
/// Is told what the core does.
class RvListener {
  public:
    virtual ~RvListener() = default;
    virtual void retired(const RvRetired& insn) = 0;
    virtual void trapped(const RvTrapped& trap) = 0;
    /// The core was reset: what follows has nothing to do with what was before.
    virtual void restarted() = 0;
    /// The core stands still behind the last instruction.
    virtual void halted() {}
};

class RvCore : public DebugCore {
  public:
    static constexpr std::uint32_t kRam = 0x80000000, kRamBytes = 1 << 20;
    static constexpr std::uint64_t kHz = 10'000'000;  ///< an instruction each cycle, a timer tick each cycle

    /// `seed` decides when the encoder's edges come.
    RvCore(std::shared_ptr<const mt::Image> image, std::uint64_t seed);

    std::string name() const override { return "cop"; }
    std::string target_xml() const override;
    std::size_t registers() const override { return 33; }
    std::uint32_t read_register(std::size_t n) const override { return n == 32 ? pc_ : n < 32 ? x_[n] : 0; }
    void write_register(std::size_t n, std::uint32_t value) override;
    bool read(std::uint32_t address, std::span<std::uint8_t> into) override;
    bool write(std::uint32_t address, std::span<const std::uint8_t> bytes) override;
    void reset() override;
    std::uint64_t clock_hz() const override { return kHz; }
    std::optional<Stop> run(std::uint64_t cycles) override;
    void step() override;
    void halted() override {
        if (listener_ != nullptr) listener_->halted();
    }
    void drain(std::vector<std::uint8_t>&) override {}  // its trace goes to a ring buffer in its memory

    /// From now on told of every instruction; null: nobody. Must outlive the core, or be taken away.
    void listen(RvListener* listener) { listener_ = listener; }
    std::uint32_t pc() const { return pc_; }
    std::uint64_t cycles() const { return cycle_; }
    std::uint64_t instructions() const { return retired_; }
    bool asleep() const { return asleep_; }

  private:
    struct Trap {
        std::uint32_t cause, value;
    };
    void execute();
    void execute_one(std::uint32_t i, std::uint32_t length);
    void execute_amo(std::uint32_t i);
    void execute_system(std::uint32_t i, std::uint32_t length);
    void trap(std::uint32_t cause, std::uint32_t value);
    bool take_interrupt();
    std::uint32_t pending() const;
    void devices();
    std::uint64_t next_event() const;
    template <class T>
    T load(std::uint32_t address);
    template <class T>
    void store(std::uint32_t address, T value);
    std::uint32_t device_read(std::uint32_t address) const;
    std::uint32_t device_read_claim();
    void device_write(std::uint32_t address, std::uint32_t value);
    std::uint32_t csr(std::uint32_t number) const;
    void set_csr(std::uint32_t number, std::uint32_t value);
    void check_watch(std::uint32_t address, std::uint32_t length, bool is_write);
    void set(std::uint32_t rd, std::uint32_t value) {
        x_[rd] = value;
        x_[0] = 0;
    }

    std::shared_ptr<const mt::Image> image_;
    std::uint64_t seed_;
    std::mt19937_64 random_;
    std::vector<std::uint8_t> ram_;
    std::array<std::uint32_t, 32> x_{};
    std::uint32_t pc_ = 0;
    std::uint64_t cycle_ = 0, retired_ = 0, timer_compare_ = ~std::uint64_t{0};
    std::uint64_t next_edge_ = 0, next_doorbell_ = 0;
    std::uint32_t mstatus_ = 0, mie_ = 0, mtvec_ = 0, mscratch_ = 0, mepc_ = 0, mcause_ = 0, mtval_ = 0;
    std::uint32_t software_ = 0;
    std::uint32_t edge_pending_ = 0, edge_claimed_ = 0, edge_enabled_ = 0, edge_priority_ = 0, threshold_ = 0;
    std::optional<std::uint32_t> reservation_;
    bool asleep_ = false;
    std::optional<Stop> hit_;
    RvListener* listener_ = nullptr;
};

}  // namespace board
