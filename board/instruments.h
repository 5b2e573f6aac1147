// What is clipped to the board: a current probe and a logic capture, each with a clock of its own. Nothing of it goes
// through the chip.
#pragma once

#include <cstdint>
#include <fstream>
#include <functional>
#include <random>
#include <string>
#include <vector>

namespace board {

/// Lines of the board that an instrument may be clipped to; `debug` is high while `focus` has the core.
enum class Wire : std::uint8_t { step, direction, index, limit, debug };

/// Is told what the board does; times are core cycles.
struct Bench {
    std::function<void(Wire wire, bool high, std::uint64_t cycle)> wire;
    /// What the board and the focuser's heater draw from now on, in mA; the board's includes the heater.
    std::function<void(double board, double heater, std::uint64_t cycle)> draw;
};

/// Two currents and a sync line, sampled at an even rate and sent as three 16-bit numbers, little endian. What is
/// faster than its input lets through is smoothed.
class CurrentProbe {
  public:
    static constexpr double kRateHz = 50'000, kClockPpm = 38, kScale = 0.0125;  ///< kScale: mA of a count
    static constexpr double kBandwidthHz = 8'000, kNoise = 0.35;                ///< noise: mA, RMS

    /// Its first sample is that of the moment `from`, in seconds of the board.
    CurrentProbe(double from, std::uint64_t seed);
    // In the order of time, in seconds of the board.
    void draw(double board, double heater, double t);
    void sync(bool high, double t);
    /// Takes the samples up to a moment.
    void advance(double t);
    void drain(std::vector<std::uint8_t>& out);

  private:
    double next() const { return from_ + static_cast<double>(taken_) / (kRateHz * (1 + kClockPpm / 1e6)); }
    void settle(double t);
    void put(double counts);

    double from_, at_;
    std::uint64_t taken_ = 0;
    std::mt19937_64 random_;
    std::normal_distribution<double> noise_{0, kNoise};
    double board_ = 0, heater_ = 0;  ///< what is drawn …
    double seen_board_ = 0, seen_heater_ = 0;  ///< … and what the input has let through of it
    bool sync_ = false;
    std::vector<std::uint8_t> out_;
};

/// The lines of the motor and the debug line as a value change dump.
class LogicCapture {
  public:
    static constexpr double kClockPpm = -23, kBegan = 1.9;  ///< seconds before the recording

    /// Writes to `file`; `clock_hz` turns the board's cycles into seconds.
    LogicCapture(const std::string& file, std::uint64_t clock_hz);
    void wire(Wire wire, bool high, std::uint64_t cycle);
    /// The file is whole. False if it could not be written.
    bool finish(std::uint64_t cycle);

  private:
    void at(std::uint64_t cycle);
    std::ofstream out_;
    double clock_hz_;
    std::int64_t now_ = -1;
};

}  // namespace board
