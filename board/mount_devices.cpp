#include "mount_devices.h"

#include <algorithm>
#include <cmath>

namespace board {
namespace {
constexpr std::uint64_t kNever = ~std::uint64_t{0};
constexpr unsigned kEncoderLine = 0, kStepLine = 1, kGuideLine = 3;
constexpr double kBytePeriod = 86.8;  // us; 115 200 Baud
}  // namespace

MountDevices::MountDevices(const MountOptions& options, std::function<void(unsigned line)> raise, Bench* bench)
    : options_(options), raise_(std::move(raise)), bench_(bench) {
    reset();
}

void MountDevices::reset() {
    random_.seed(options_.seed);
    step_us_ = 430;
    index_us_ = 2310;
    frame_us_ = 600'000;
    step_at_ = cycles(step_us_);
    index_at_ = cycles(index_us_);
    byte_at_ = cycles(frame_us_);
    index_ends_ = kNever;
    // The axis turns over: until the firmware trips over what it reads then, two or three rounds of its loop pass.
    flip_at_ = options_.healthy || options_.fault_at < 0 ? kNever : cycles(std::max(options_.fault_at - 0.03, 0.02) * 1e6);
    step_high_ = flipped_ = sensor_ = false;
    motor_ = encoder_ = 0;
    frame_ = byte_ = 0;
    received_ = reply_ = 0;
    ready_at_ = transfers_ = bus_byte_ = 0;
}

std::uint64_t MountDevices::next() const { return std::min({step_at_, index_at_, index_ends_, byte_at_, flip_at_}); }

// A star that drifts by an eighth of a pixel from frame to frame. In the second frame a cloud spreads it, and it has
// moved: the centroid creeps there.
std::uint8_t MountDevices::pixel(unsigned n) {
    const bool cloudy = frame_ == 1 && !options_.healthy;
    const double moved = frame_ == 0 || options_.healthy ? 0 : 10;
    const double at = (8000.0 + 30.0 * static_cast<double>(frame_ + 1)) / 256 + moved, wide = cloudy ? 6 : 3;
    const double off = (n - at) / wide;
    return static_cast<std::uint8_t>((cloudy ? 90 : 200) * std::exp(-off * off / 2) + between(2, 5));
}

void MountDevices::advance(std::uint64_t cycle) {
    while (next() <= cycle) {
        const std::uint64_t at = next();
        if (at == step_at_) {
            raise_(kStepLine);
            set_wire(Wire::step, step_high_ = !step_high_, at);  // a step of the motor with each edge
            step_at_ = cycles(step_us_ += 250);
        } else if (at == index_at_) {
            encoder_ = motor_ + static_cast<std::uint32_t>(static_cast<std::int32_t>(between(-40, 40))) - (flipped_ ? 1u << 30 : 0);
            raise_(kEncoderLine);
            set_wire(Wire::index, true, at);
            index_ends_ = at + cycles(31);
            index_at_ = cycles(index_us_ += 4860 + between(-1.2, 1.2));
        } else if (at == index_ends_) {
            set_wire(Wire::index, false, at);
            index_ends_ = kNever;
        } else if (at == flip_at_) {
            set_wire(Wire::limit, true, at);
            flipped_ = true;
            flip_at_ = kNever;
        } else {
            received_ = pixel(byte_);
            raise_(kGuideLine);
            if (++byte_ < kFrameBytes) {
                byte_at_ = cycles(frame_us_ + kBytePeriod * byte_);
            } else {
                byte_ = 0;
                ++frame_;
                set_wire(Wire::direction, frame_ % 3 == 2, at);
                byte_at_ = cycles(frame_us_ += 2'000'000);
            }
        }
    }
}

std::optional<std::uint32_t> MountDevices::load(std::uint32_t address, std::uint64_t cycle, bool acts) {
    switch (address) {
        case kStep + 16:
            return motor_;
        case kEncoder + 16:
            return encoder_;
        case kGuide:
            return received_;
        case kBus:
            return bus_read(cycle, acts);
        case kBus + 4:
            return cycle >= ready_at_ ? 1 : 0;
        default:
            if (address >= kStep && address < kClock + 0x1000) return 0;
            return std::nullopt;
    }
}

bool MountDevices::store(std::uint32_t address, std::uint32_t value, std::uint64_t cycle) {
    if (address < kStep || address >= kClock + 0x1000) return false;
    if (address == kStep + 16) motor_ = value;
    if (address == kBus) bus_write(static_cast<std::uint8_t>(value), cycle);
    return true;
}

// A byte goes out and one comes in. Now and then the status bit stays low for long: the index pulse disturbs the sensor.
void MountDevices::bus_write(std::uint8_t value, std::uint64_t cycle) {
    if (value == 0x90 || value == 0xA4) {
        sensor_ = value == 0x90;
        bus_byte_ = 0;
        transfers_ += sensor_ ? 1 : 0;
    } else {
        ++bus_byte_;
    }
    const bool late = !options_.healthy && sensor_ && bus_byte_ == 2 && transfers_ % 11 == 7;
    ready_at_ = cycle + cycles(late ? between(66, 74) : between(0.9, 1.6));
    const auto temperature = static_cast<unsigned>(2140 + transfers_ / 64 % 8);  // it is a mild night
    const auto second = static_cast<std::uint8_t>(cycle / options_.clock_hz % 60);
    if (sensor_)
        reply_ = static_cast<std::uint8_t>(bus_byte_ == 1 ? temperature >> 8 : bus_byte_ == 2 ? temperature : 0);
    else
        reply_ = bus_byte_ == 1 ? second : 0;
}

// Behind a byte the slave wants time; before the one that will be late, until just before the next index pulse.
std::uint8_t MountDevices::bus_read(std::uint64_t cycle, bool acts) {
    if (!acts) return reply_;
    ready_at_ = cycle + cycles(sensor_ ? 900 : 150);
    if (!options_.healthy && sensor_ && bus_byte_ == 1 && transfers_ % 11 == 7) {
        const std::uint64_t before = index_at_ - cycles(between(1, 9));
        if (before > ready_at_) ready_at_ = before;
    }
    return reply_;
}

}  // namespace board
