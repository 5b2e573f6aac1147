// The trace hardware of the simulated board: ITM and DWT packets through a small buffer and a slow line.
// Armv7-M Architecture Reference Manual (DDI 0403E), appendix D4.
#pragma once

#include <algorithm>
#include <cstdint>
#include <vector>

namespace board {

/// Appends packets to a byte stream as a core with a serial-wire output of `baud` would: timestamps after
/// each group of packets, delayed when the line is behind; packets lost, and an overflow packet, when the
/// buffer is full. Times are core cycles and must not decrease.
class ItmWriter {
  public:
    ItmWriter(std::uint64_t clock_hz, std::uint64_t baud) : cycles_per_byte_(clock_hz * 10 / baud) {}

    /// What the line carries, and how packets are dated: `prescaler` cycles a tick; 0: not at all.
    void set(std::uint64_t bytes_per_s, std::uint64_t clock_hz, unsigned prescaler) {
        cycles_per_byte_ = std::max<std::uint64_t>(clock_hz / std::max<std::uint64_t>(bytes_per_s, 1), 1);
        prescaler_ = prescaler;
    }
    void exception(std::uint64_t cycle, unsigned number, unsigned function);  ///< 1 entered, 2 left, 3 returned to
    void pc_sample(std::uint64_t cycle, std::uint32_t pc);
    void sleep_sample(std::uint64_t cycle);
    void counters(std::uint64_t cycle, unsigned wrapped);  ///< bit 0 CPI, then exception, sleep, LSU, fold (D4.3.1)
    void port(std::uint64_t cycle, unsigned number, std::uint32_t value, unsigned size);
    void data_write(std::uint64_t cycle, unsigned comparator, std::uint32_t value, unsigned size) {
        data(cycle, comparator, true, value, size);
    }
    /// The value of an access; where its instruction stands; the low half of its address.
    void data(std::uint64_t cycle, unsigned comparator, bool is_write, std::uint32_t value, unsigned size);
    void data_pc(std::uint64_t cycle, unsigned comparator, std::uint32_t pc);
    void data_address(std::uint64_t cycle, unsigned comparator, std::uint32_t address);
    /// Global timestamp of a 48-bit counter that runs at the core clock; its upper part too if `whole`.
    void global_time(std::uint64_t cycle, std::uint64_t counter, bool whole = true);
    void sync(std::uint64_t cycle);
    /// A global timestamp goes before the next packet and tells its moment; the counter is `offset` ahead of the
    /// cycles.
    void want_global(std::uint64_t offset) {
        global_wanted_ = true;
        global_offset_ = offset;
    }
    /// The next one is told whole.
    void forget_global() { global_high_ = ~std::uint64_t{0}; }
    /// Until `cycle` all packets are lost (the probe's side stalls).
    void stall_until(std::uint64_t cycle) { stalled_until_ = cycle; }
    void flush(std::uint64_t cycle);

    const std::vector<std::uint8_t>& bytes() const { return bytes_; }
    /// Moves the bytes so far to the end of `out`.
    void drain(std::vector<std::uint8_t>& out) {
        out.insert(out.end(), bytes_.begin(), bytes_.end());
        bytes_.clear();
    }
    std::uint64_t lost() const { return lost_; }

  private:
    bool begin(std::uint64_t cycle, std::size_t size);
    void put(std::uint8_t byte);
    void put_value(std::uint32_t value, unsigned size);
    void timestamp(std::uint64_t cycle, unsigned relation);
    std::uint64_t behind(std::uint64_t cycle) const {
        return line_free_ > cycle ? (line_free_ - cycle) / cycles_per_byte_ : 0;
    }

    static constexpr std::uint64_t kBuffer = 48, kBusy = 30;  ///< bytes
    std::uint64_t cycles_per_byte_, line_free_ = 0, last_stamp_ = 0, group_ = 0, stalled_until_ = 0, lost_ = 0;
    unsigned prescaler_ = 1;
    bool global_wanted_ = false;
    std::uint64_t global_offset_ = 0, global_high_ = ~std::uint64_t{0};
    bool pending_ = false, mixed_ = false, overflowed_ = false;
    std::vector<std::uint8_t> bytes_;
};

}  // namespace board
