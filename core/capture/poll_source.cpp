#include "capture/poll_source.h"

#include <algorithm>
#include <array>
#include <cstdio>

namespace mt {

PollSource::Steady::time_point PollSource::next_due() const {
    return next_.empty() ? Steady::time_point::max() : *std::min_element(next_.begin(), next_.end());
}

Result<std::size_t> PollSource::read(std::span<std::uint8_t> into, Milliseconds) {
    if (!begun_) return std::size_t{0};
    std::size_t given = 0;
    for (std::size_t v = 0; v < values_.size() && given + PolledParameters::kRecord <= into.size(); ++v) {
        const auto sent = Steady::now();
        if (sent < next_[v]) continue;
        const PolledParameters::Value& value = values_[v];
        std::array<std::uint8_t, 8> bytes{};
        if (auto read = server_.read_memory(value.address, std::span(bytes).first(value.bytes())); !read)
            return tl::make_unexpected(read.error());
        const auto came = Steady::now();
        const auto ns = [](Steady::duration d) {
            return static_cast<std::uint64_t>(std::max<std::int64_t>(0, std::chrono::duration_cast<std::chrono::nanoseconds>(d).count()));
        };
        const std::uint64_t at = ns(sent - start_), took = std::min<std::uint64_t>(ns(came - sent), 0xFFFF'FFFF);
        std::uint8_t* out = into.data() + given;
        for (unsigned i = 0; i < 8; ++i) out[i] = static_cast<std::uint8_t>(at >> 8 * i);
        for (unsigned i = 0; i < 4; ++i) out[8 + i] = static_cast<std::uint8_t>(took >> 8 * i);
        for (unsigned i = 0; i < 4; ++i) out[12 + i] = static_cast<std::uint8_t>(v >> 8 * i);
        std::copy(bytes.begin(), bytes.end(), out + 16);
        given += PolledParameters::kRecord;
        ++taken_[v];
        last_ = came;
        // A round that was missed is not made up for: the next one is due a period from now.
        const auto period = std::chrono::duration_cast<Steady::duration>(std::chrono::duration<double>(1 / value.rate_hz));
        next_[v] = std::max(next_[v] + period, came < next_[v] + period ? next_[v] + period : came);
        if (next_[v] < start_) next_[v] = sent + period;
    }
    return given;
}

std::vector<std::string> PollSource::reached() const {
    std::vector<std::string> lines;
    const double seconds = std::chrono::duration<double>(last_ - start_).count();
    for (std::size_t v = 0; v < values_.size(); ++v) {
        char text[64];
        std::snprintf(text, sizeof text, ": %.1f a second of %.6g",
                      seconds > 0 ? static_cast<double>(taken_[v]) / seconds : 0.0, values_[v].rate_hz);
        lines.push_back(values_[v].name + text);
    }
    return lines;
}

}  // namespace mt
