// The main core of the board: it executes the firmware's image. What its trace units are set to is sent: exceptions,
// samples, values, ports, instructions. A debugger has it in hand.
#pragma once

#include <memory>

#include "arm_units.h"
#include "debug_core.h"
#include "etm4_encoder.h"
#include "itm_writer.h"
#include "kernel_watch.h"
#include "mount_devices.h"
#include "thumb_core.h"
#include "target/image.h"

namespace board {

class MountCore : public DebugCore, private ThumbSurroundings {
  public:
    /// `reset_os` is called out of reset, `os` with each event of the operating system. `bare`: the firmware sets up no
    /// trace; then what is sent is what a debugger sets in `units`.
    MountCore(std::shared_ptr<const mt::Image> image, MountOptions options, bool bare, UnitTroubles troubles,
              OsSink os = {}, std::function<void()> reset_os = {}, Bench* bench = nullptr);
    ArmUnits& units() { return units_; }

    std::string name() const override { return "main"; }
    std::string target_xml() const override;
    std::size_t registers() const override { return ThumbCore::kRegisters; }
    std::uint32_t read_register(std::size_t n) const override { return core_.read_register(n); }
    void write_register(std::size_t n, std::uint32_t value) override;
    bool read(std::uint32_t address, std::span<std::uint8_t> into) override;
    bool write(std::uint32_t address, std::span<const std::uint8_t> bytes) override;
    void reset() override;
    std::uint64_t clock_hz() const override { return options_.clock_hz; }
    std::optional<Stop> run(std::uint64_t cycles) override;
    void step() override;
    void halted() override;
    void drain(std::vector<std::uint8_t>& out) override;
    /// Cycles since it came out of reset.
    std::uint64_t cycle() const { return core_.cycle(); }
    std::uint64_t instructions() const { return core_.instructions(); }

  private:
    // As the core meets its surroundings.
    std::optional<std::uint32_t> load(std::uint32_t address, unsigned size) override;
    bool store(std::uint32_t address, unsigned size, std::uint32_t value) override;
    void accessed(std::uint32_t address, unsigned size, bool is_write, std::uint32_t value, std::uint32_t pc) override;
    void branched(const ThumbBranch& branch) override;
    void entered(unsigned number, std::uint32_t first, std::uint32_t last, std::uint32_t back, std::uint32_t handler,
                 bool chained) override;
    void left(unsigned number) override;
    void returned(unsigned number, std::uint32_t address) override;
    void masked(bool is) override;

    std::uint32_t address_of(const char* name) const;
    void begin();
    void prepare();
    void look_at_watches(std::uint32_t address, unsigned size, bool is_write);
    void collect(bool all);
    void look_at_etm();
    void look_at_line();
    void look_at_bench();
    void sample();
    void count_events();
    void tell_exception(unsigned number, unsigned function);
    void tell_port(unsigned number, std::uint32_t value, unsigned size) {
        if (units_.port(number)) out_.port(core_.cycle(), number, value, size);
    }

    static constexpr std::uint64_t kSamplePeriod = 16384;
    std::shared_ptr<const mt::Image> image_;
    MountOptions options_;
    std::function<void()> reset_os_;
    Bench* bench_;
    const bool bare_;
    ArmUnits units_;
    ThumbCore core_;
    MountDevices devices_;
    KernelWatch kernel_;
    ItmWriter out_;
    std::unique_ptr<Etm4Encoder> encoder_;  ///< while instructions are traced
    unsigned etm_starts_ = 0;
    bool told_halt_ = false;
    std::uint32_t main_ = 0;  ///< where the program begins; 0: not known
    bool started_ = false;    ///< it came there
    std::optional<Stop> stop_;
    double drawn_ = -1;  ///< mA
    bool worked_ = false;
    std::uint64_t next_sample_ = kSamplePeriod, next_sync_ = 0, next_global_ = 0;
    bool told_units_ = false;
    std::uint32_t fault_at_ = 0;  ///< what the last access that failed went for
    // What the event counters have seen, and where they stand in eight bits (C1.8.7).
    std::uint64_t counted_extra_ = 0, counted_memory_ = 0, slept_ = 0, counted_slept_ = 0;
    std::array<std::uint64_t, 5> counters_{};
};

}  // namespace board
