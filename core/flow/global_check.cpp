#include "flow/global_check.h"

#include <algorithm>
#include <cmath>
#include <utility>

namespace mt {
namespace {

constexpr std::uint64_t kAll = std::uint64_t{1} << 26;
constexpr double kAlike = 0.005;      // rates of two steps
constexpr double kCoarse = 64;        // cycles by which a step is off anyhow
constexpr double kOfLength = 0.0002;  // … and the part of its length
constexpr double kTimesUsual = 8;

}  // namespace

std::optional<GlobalCheck::Stray> GlobalCheck::take(std::uint32_t value, unsigned size, Time when) {
    const std::uint64_t turn = std::min(kAll, std::uint64_t{1} << 7 * std::clamp(size, 1U, 4U));
    if (!anchored_) {
        // Bits that were not sent again are those of a timestamp that may have been lost.
        if (turn < kAll || std::exchange(unsure_, false)) return std::nullopt;
        anchored_ = true;
        last_ = value & (kAll - 1);
        last_at_ = when;
        return std::nullopt;
    }
    const Time from = last_at_;
    const auto passed = static_cast<double>(clock_.cycles(when - from));
    auto step = static_cast<double>((value - last_) & (turn - 1));
    last_at_ = when;
    // The bits that changed say how far it went only up to a turn.
    const double rate = rate_ > 0 ? rate_ : 1;
    step += std::max(0.0, std::round((passed * rate - step) / static_cast<double>(turn))) * static_cast<double>(turn);
    last_ = (last_ + static_cast<std::uint64_t>(std::fmod(step, static_cast<double>(kAll)))) & (kAll - 1);
    if (passed <= 0) return std::nullopt;
    const double now = step / passed;
    const bool agrees = rate_ > 0 && std::fabs(now / rate_ - 1) < kAlike;
    if (!sure_) {
        rate_ = now;
        sure_ = agrees;
        return std::nullopt;
    }
    const double off = step / rate_ - passed;
    if (std::fabs(off) > kCoarse + kOfLength * passed + kTimesUsual * usual_)
        return Stray{from, when, clock_.at(static_cast<std::int64_t>(off))};
    usual_ += (std::fabs(off) - usual_) / 16;
    return std::nullopt;
}

}  // namespace mt
