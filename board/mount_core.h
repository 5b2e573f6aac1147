// The main core of the board as a debugger sees it: the scenario model with the firmware's memory behind it.
// Stops happen where the model enters a function or writes a variable; it executes no instructions.
#pragma once

#include <map>
#include <memory>

#include "arm_units.h"
#include "debug_core.h"
#include "mount_model.h"
#include "thumb_walk.h"
#include "target/image.h"

namespace board {

class MountCore : public DebugCore {
  public:
    /// `reset_os` is called out of reset, `os` with each event of the operating system. `bare`: the firmware sets up no
    /// trace; then what is sent is what a debugger sets in `units`.
    MountCore(std::shared_ptr<const mt::Image> image, MountOptions options, bool bare, UnitTroubles troubles,
              OsSink os = {}, std::function<void()> reset_os = {}, Bench* bench = nullptr);
    ArmUnits& units() { return units_; }
    /// Why the walk through the firmware rests; empty if it does not.
    std::string trouble() const { return model_ ? model_->walk_trouble() : std::string(); }

    std::string name() const override { return "main"; }
    std::string target_xml() const override;
    std::size_t registers() const override { return 17; }
    std::uint32_t read_register(std::size_t n) const override;
    void write_register(std::size_t n, std::uint32_t value) override;
    bool read(std::uint32_t address, std::span<std::uint8_t> into) override;
    bool write(std::uint32_t address, std::span<const std::uint8_t> bytes) override;
    void reset() override;
    std::uint64_t clock_hz() const override { return options_.clock_hz; }
    std::optional<Stop> run(std::uint64_t cycles) override;
    void step() override { (void)run(1); }
    void drain(std::vector<std::uint8_t>& out) override;
    /// Cycles since the model began to run.
    std::uint64_t cycle() const { return model_ ? model_->now() : 0; }

  private:
    std::uint32_t address_of(const char* name) const;
    void collect(bool all);
    void look_at_etm();
    bool entered(const char* function);
    bool written(const char* variable, std::uint32_t value);

    static constexpr std::uint32_t kFlash = 0x08000000, kFlashBytes = 512 << 10, kRam = 0x20000000,
                                   kRamBytes = 128 << 10;
    std::shared_ptr<const mt::Image> image_;
    MountOptions options_;
    OsSink os_;
    std::function<void()> reset_os_;
    Bench* bench_;
    std::vector<std::uint8_t> flash_, ram_;
    const bool bare_;
    ArmUnits units_;
    std::shared_ptr<const mt::Code> code_;  ///< once instructions are traced
    std::unique_ptr<Etm4Encoder> encoder_;
    std::unique_ptr<ThumbWalk> walk_;  ///< before the model, which uses it
    unsigned etm_starts_ = 0;
    std::unique_ptr<MountModel> model_;
    std::uint32_t pc_ = 0;
    bool started_ = false;
    std::optional<Stop> stop_;
    mutable std::map<std::string, std::uint32_t> addresses_;
};

}  // namespace board
