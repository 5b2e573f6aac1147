#include "instruments.h"

#include <algorithm>
#include <cmath>

namespace board {

CurrentProbe::CurrentProbe(double from, std::uint64_t seed) : from_(from), at_(from), random_(seed * 7919 + 17) {}

// The input follows as a low pass of the first order does.
void CurrentProbe::settle(double t) {
    if (t <= at_) return;
    const double follows = 1 - std::exp(-2 * M_PI * kBandwidthHz * (t - at_));
    seen_board_ += (board_ - seen_board_) * follows;
    seen_heater_ += (heater_ - seen_heater_) * follows;
    at_ = t;
}

void CurrentProbe::put(double counts) {
    const auto v = static_cast<std::int16_t>(std::clamp(std::lround(counts), -32768L, 32767L));
    out_.push_back(static_cast<std::uint8_t>(v));
    out_.push_back(static_cast<std::uint8_t>(static_cast<std::uint16_t>(v) >> 8));
}

void CurrentProbe::advance(double t) {
    while (next() <= t) {
        settle(next());
        put((seen_board_ + noise_(random_)) / kScale);
        put((seen_heater_ + noise_(random_)) / kScale);
        put(sync_ ? 1 : 0);
        ++taken_;
    }
}

void CurrentProbe::draw(double board, double heater, double t) {
    advance(t);
    settle(t);
    board_ = board;
    heater_ = heater;
}

void CurrentProbe::sync(bool high, double t) {
    advance(t);
    sync_ = high;
}

void CurrentProbe::drain(std::vector<std::uint8_t>& out) {
    out.insert(out.end(), out_.begin(), out_.end());
    out_.clear();
}

// IEEE 1364-2005, 18.2: the header, then each change behind its time.
LogicCapture::LogicCapture(const std::string& file, std::uint64_t clock_hz)
    : out_(file, std::ios::binary), clock_hz_(static_cast<double>(clock_hz)) {
    out_ << "$comment lines of the motor of axis 1, by the logic capture on the bench $end\n"
            "$timescale 10 ns $end\n$scope module mount $end\n"
            "$var wire 1 ! STEP $end\n$var wire 1 \" DIR $end\n$var wire 1 # INDEX $end\n$var wire 1 $ LIMIT $end\n"
            "$var wire 1 % DEBUG $end\n"
            "$upscope $end\n$enddefinitions $end\n#0\n0!\n0\"\n0#\n0$\n0%\n";
}

void LogicCapture::at(std::uint64_t cycle) {
    const double seconds = kBegan + static_cast<double>(cycle) / clock_hz_ * (1 + kClockPpm / 1e6);
    const auto ticks = static_cast<std::int64_t>(std::llround(seconds * 1e8));
    if (ticks > now_) out_ << '#' << ticks << '\n';
    now_ = std::max(now_, ticks);
}

void LogicCapture::wire(Wire wire, bool high, std::uint64_t cycle) {
    at(cycle);
    out_ << (high ? '1' : '0') << "!\"#$%"[static_cast<std::size_t>(wire)] << '\n';
}

bool LogicCapture::finish(std::uint64_t cycle) {
    at(cycle);
    out_.close();
    return static_cast<bool>(out_);
}

}  // namespace board
