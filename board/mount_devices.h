// What the firmware of the main core reaches beyond its memory, and the world behind it: the step driver's timer, the
// encoder of the axis, the guide camera's bytes, the slow sensor bus. Deterministic for given options.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <random>

#include "instruments.h"
#include "mount_options.h"

namespace board {

class MountDevices {
  public:
    /// `raise` raises an interrupt line. `bench` may be null; it must outlive the devices.
    MountDevices(const MountOptions& options, std::function<void(unsigned line)> raise, Bench* bench);
    void reset();
    /// The cycle of what happens next.
    std::uint64_t next() const;
    /// What happens until `cycle`.
    void advance(std::uint64_t cycle);

    /// Nothing, false: no device is there. A debugger that only looks (`acts` false) changes nothing.
    std::optional<std::uint32_t> load(std::uint32_t address, std::uint64_t cycle, bool acts);
    bool store(std::uint32_t address, std::uint32_t value, std::uint64_t cycle);

  private:
    static constexpr std::uint32_t kStep = 0x40010000, kEncoder = 0x40011000, kGuide = 0x40012000, kBus = 0x40013000,
                                   kClock = 0x40014000;
    static constexpr unsigned kFrameBytes = 96;

    std::uint64_t cycles(double microseconds) const {
        return static_cast<std::uint64_t>(microseconds * static_cast<double>(options_.clock_hz) / 1e6);
    }
    double between(double low, double high) { return low + (high - low) * std::uniform_real_distribution<double>(0, 1)(random_); }
    void set_wire(Wire wire, bool high, std::uint64_t cycle) {
        if (bench_ != nullptr && bench_->wire) bench_->wire(wire, high, cycle);
    }
    std::uint8_t pixel(unsigned n);
    void bus_write(std::uint8_t value, std::uint64_t cycle);
    std::uint8_t bus_read(std::uint64_t cycle, bool acts);

    MountOptions options_;
    std::function<void(unsigned)> raise_;
    Bench* bench_;
    std::mt19937_64 random_;
    std::uint64_t step_at_ = 0, index_at_ = 0, index_ends_ = 0, byte_at_ = 0, flip_at_ = 0;
    double index_us_ = 0, step_us_ = 0, frame_us_ = 0;
    bool step_high_ = false;
    std::uint32_t motor_ = 0, encoder_ = 0;
    bool flipped_ = false;
    std::uint64_t frame_ = 0;
    unsigned byte_ = 0;  ///< of the frame that comes in
    std::uint8_t received_ = 0;
    // The sensor bus.
    std::uint64_t ready_at_ = 0, transfers_ = 0;
    bool sensor_ = false;
    unsigned bus_byte_ = 0;
    std::uint8_t reply_ = 0;
};

}  // namespace board
