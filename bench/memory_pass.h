// What every rate is compared with: a plain pass over the same bytes in the same run.
#pragma once

#include <algorithm>
#include <chrono>
#include <cstdint>
#include <span>

namespace mt::bench {

/// Seconds that adding up all bytes takes, at the best of `times`.
inline double memory_pass_seconds(std::span<const std::uint8_t> bytes, int times = 5) {
    using Clock = std::chrono::steady_clock;
    double best = 1e9;
    for (int i = 0; i < times; ++i) {
        const auto from = Clock::now();
        std::uint64_t sum = 0;
        for (const std::uint8_t b : bytes) sum += b;
        volatile std::uint64_t kept = sum;
        (void)kept;
        best = std::min(best, std::chrono::duration<double>(Clock::now() - from).count());
    }
    return best;
}

}  // namespace mt::bench
