// The trace units of the board's main core as memory: DWT, ITM, ETM, funnel, buffer, port, and the ROM tables that list
// them. Registers behave as their architecture documents say; what they are set to decides what is sent. DDI 0403E C1,
// IHI 0064 chapter 7, DDI 0461 chapter 3, IHI 0029.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <map>
#include <string>
#include <utility>
#include <vector>

#include "frame_writer.h"
#include "unit_space.h"

namespace board {

class ArmUnits : public UnitSpace {
  public:
    explicit ArmUnits(UnitTroubles troubles = {});

    // As the debugger sees them.
    bool holds(std::uint32_t address) const override;
    bool read(std::uint32_t address, std::uint32_t& value) override;
    bool write(std::uint32_t address, std::uint32_t value) override;

    /// What the firmware sets up, if it does: exceptions, samples, two variables, the console, 24 MBaud. `watched` are
    /// the addresses of the variables.
    void set_by_firmware(std::uint64_t clock_hz, std::uint64_t baud, std::array<std::uint32_t, 2> watched);
    /// ITM and DWT send nothing.
    void silence();

    // As the core asks them.
    bool dwt_sends() const { return itm_on() && (itm_tcr_ & 1u << 3) != 0; }
    bool exceptions() const { return dwt_sends() && (dwt_ctrl_ & 1u << 16) != 0; }
    /// Cycles from a sample of the program counter to the next; 0: none.
    std::uint64_t sample_period() const;
    /// The same for synchronisation packets of the ITM.
    std::uint64_t sync_period() const;
    std::uint64_t global_period() const;
    /// Event counters that tell when they wrap: bit 0 CPI, then exception, sleep, LSU, fold (DDI 0403E C1.8.7).
    unsigned event_counters() const { return dwt_sends() ? dwt_ctrl_ >> 17 & 0x1F : 0; }
    bool local_timestamps() const { return itm_on() && (itm_tcr_ & 2) != 0; }
    unsigned prescaler() const { return 1u << (2 * (itm_tcr_ >> 8 & 3)); }
    bool port(unsigned number) const { return itm_on() && (itm_ter_ >> (number & 31) & 1) != 0; }
    /// The events since the last call, a bit each, that go into the instruction trace.
    unsigned take_events() { return std::exchange(events_, 0u); }
    /// What comparators tell of an access; triggers among them go to the ETM.
    struct Told {
        unsigned comparator;
        bool pc, value, address;
    };
    std::vector<Told> accessed(std::uint32_t address, unsigned size, bool is_write, std::uint32_t value);
    /// Bytes a second that the way out of the ITM carries.
    std::uint64_t bytes_per_s(std::uint64_t clock_hz) const;

    bool etm_on() const { return (etm_prgctl_ & 1) != 0 && !etm_os_locked_; }
    bool etm_return_stack() const { return (reg(kEtm + 0x010) & 1u << 12) != 0; }
    bool etm_timestamps() const { return (reg(kEtm + 0x010) & 1u << 11) != 0; }
    unsigned etm_sync_bytes() const;
    /// Changes each time the ETM is switched on: it begins afresh.
    unsigned etm_starts() const { return etm_starts_; }
    /// Whether the straight run from `first` to `last` is traced (IHI 0064 4.3, ViewInst).
    bool view(std::uint32_t first, std::uint32_t last);

    // The way of the trace.
    void itm_bytes(const std::vector<std::uint8_t>& bytes);
    void etm_bytes(const std::vector<std::uint8_t>& bytes);
    /// Nothing more comes for now: the port fills its frame up.
    void idle() { put_frames(true); }
    /// What left over the pins since the last call.
    void drain(std::vector<std::uint8_t>& out);
    /// Is asked for what is on its way before the buffer is looked at; `all` also for what could wait.
    std::function<void(bool all)> collect;
    /// The rest of the system control space, which is the core's; left out: memory that keeps what is written.
    std::function<std::uint32_t(std::uint32_t address)> system_read;
    std::function<void(std::uint32_t address, std::uint32_t value)> system_write;
    /// Where data accesses are to be told of: address and length.
    std::vector<std::pair<std::uint32_t, std::uint32_t>> watched() const;

  private:
    static constexpr std::uint32_t kItm = 0xE0000000, kDwt = 0xE0001000, kFpb = 0xE0002000, kScs = 0xE000E000,
                                   kTpiu = 0xE0040000, kEtm = 0xE0041000, kCti = 0xE0042000, kFunnel = 0xE0043000,
                                   kTmc = 0xE0044000, kRom2 = 0xE00FE000, kRom = 0xE00FF000;
    static constexpr std::uint32_t kTmcWords = 1024;

    struct Identity {
        const char* name;
        std::uint32_t base;
        unsigned component_class, part;
        std::uint32_t device_type, device_id, device_architecture;
        bool lock;
    };
    static const std::vector<Identity>& identities();
    const Identity* identity(std::uint32_t address) const;
    bool itm_on() const { return (demcr_ & 1u << 24) != 0 && (itm_tcr_ & 1) != 0; }
    std::uint32_t reg(std::uint32_t address) const {
        const auto found = registers_.find(address);
        return found == registers_.end() ? 0 : found->second;
    }
    bool read_management(const Identity& unit, std::uint32_t offset, std::uint32_t& value) const;
    std::uint32_t read_rom(std::uint32_t base, std::uint32_t offset) const;
    std::uint32_t read_etm(std::uint32_t offset) const;
    std::uint32_t read_tmc(std::uint32_t offset);
    void write_dwt(std::uint32_t offset, std::uint32_t value);
    void write_etm(std::uint32_t offset, std::uint32_t value);
    void write_tmc(std::uint32_t offset, std::uint32_t value);
    bool tmc_stopped() const { return (tmc_ctl_ & 1) == 0 || tmc_stopped_; }
    void route(std::uint8_t id, const std::vector<std::uint8_t>& bytes);
    void put_frames(bool all);
    void store(const std::vector<std::uint8_t>& bytes);
    void hit(unsigned group, unsigned number);
    bool resource(unsigned selector, unsigned group, unsigned number) const;
    bool counter_resource(unsigned selector) const;

    UnitTroubles troubles_;
    std::map<std::uint32_t, std::uint32_t> registers_;
    std::map<std::uint32_t, bool> locked_;
    std::uint32_t demcr_ = 0, dwt_ctrl_ = 0x40000000, itm_tcr_ = 0, itm_ter_ = 0;
    std::uint32_t etm_prgctl_ = 0, etm_power_ = 0;
    bool etm_os_locked_ = true, started_ = true;
    unsigned etm_starts_ = 0;
    std::uint32_t counter_ = 0;
    std::uint32_t tmc_ctl_ = 0, tmc_rwp_ = 0, tmc_rrp_ = 0, tmc_left_ = 0;
    unsigned events_ = 0;
    bool tmc_full_ = false, tmc_stopped_ = false, tmc_triggered_ = false;
    std::uint32_t tmc_unread_ = 0;  ///< words that RRD has still to give
    std::vector<std::uint8_t> tmc_, tmc_partial_, out_;
    FrameWriter in_buffer_, on_port_;
    unsigned frames_ = 0;
};

}  // namespace board
