// The trace units of the board's co-processor as memory: encoder, funnel, RAM sink, pin sink. RISC-V Trace Control
// Interface Specification 1.0.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <vector>

#include "etrace_encoder.h"
#include "rv_core.h"
#include "unit_space.h"

namespace board {

/// Listens to the core and tells it to an encoder that is set up as the registers say.
class RvUnits : public UnitSpace, public RvListener {
  public:
    static constexpr std::uint32_t kEncoder = 0x20000000, kFunnel = 0x20001000, kRamSink = 0x20002000,
                                   kPinSink = 0x20003000;
    static constexpr std::uint32_t kSramBytes = 4096;

    explicit RvUnits(RvCore& core, UnitTroubles troubles = {});

    bool holds(std::uint32_t address) const override { return address >= kEncoder && address < kPinSink + 0x1000; }
    bool read(std::uint32_t address, std::uint32_t& value) override;
    bool write(std::uint32_t address, std::uint32_t value) override;

    void retired(const RvRetired& insn) override;
    void trapped(const RvTrapped& trap) override;
    void restarted() override;
    void halted() override;

    /// Everything on, as the firmware sets it: instruction trace with times over the pins.
    void set_by_firmware(std::uint32_t modes = cop_mode::kImplicitReturn);
    /// The encoder begins afresh: somebody came to listen.
    void afresh() { end_trace(); }
    /// Whether somebody listens at the pins: the encoder rests otherwise.
    void listened(bool on) { listened_ = on; }
    /// What left over the pins since the last call.
    void drain(std::vector<std::uint8_t>& out);

  private:
    bool awake(std::uint32_t base) const { return (reg(base) & 1) != 0; }
    bool on(std::uint32_t base) const { return (reg(base) & 3) == 3; }
    std::uint32_t reg(std::uint32_t address) const {
        const auto found = registers_.find(address);
        return found == registers_.end() ? 0 : found->second;
    }
    const char* name_of(std::uint32_t base) const;
    bool tracing() const;
    bool taken(std::uint32_t pc);
    void begin_trace();
    void end_trace();
    void collect();
    void store(const std::vector<std::uint8_t>& bytes);
    void look_at_listening();

    RvCore& core_;
    UnitTroubles troubles_;
    std::map<std::uint32_t, std::uint32_t> registers_;
    std::unique_ptr<EtraceEncoder> encoder_;
    std::vector<std::uint8_t> sram_, partial_, out_;
    std::vector<bool> latched_;
    bool listened_ = false;
};

}  // namespace board
