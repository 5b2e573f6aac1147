// How fast bytes come, of a line that was listened to for a short while.
#pragma once

#include <algorithm>
#include <cstdint>

namespace mt {

/// Measures from the first bytes to the last: what a device had kept before, and the time until it began to send,
/// would otherwise make the rate of a second's listening wrong.
class ArrivalPace {
  public:
    /// `bytes` came `at_s` seconds after the listening began; times do not fall.
    void arrived(double at_s, std::uint64_t bytes) {
        if (bytes == 0) return;
        if (first_s_ < 0) {
            first_s_ = at_s;
        } else {
            after_first_ += bytes;
            longest_s_ = std::max(longest_s_, at_s - last_s_);
        }
        last_s_ = at_s;
    }
    /// Whether enough came, over long enough, to tell a rate.
    [[nodiscard]] bool tells() const { return last_s_ - first_s_ >= kShortest; }
    /// Bytes a second; meaningless unless `tells`.
    [[nodiscard]] double rate() const { return static_cast<double>(after_first_) / (last_s_ - first_s_); }
    /// The share of it that is uncertain, because bytes come in lumps.
    [[nodiscard]] double doubt() const { return longest_s_ / (last_s_ - first_s_); }

  private:
    static constexpr double kShortest = 0.1;
    double first_s_ = -1, last_s_ = -1, longest_s_ = 0;
    std::uint64_t after_first_ = 0;
};

}  // namespace mt
