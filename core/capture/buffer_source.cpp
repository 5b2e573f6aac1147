#include "capture/buffer_source.h"

#include <algorithm>

#include "base/text.h"

namespace mt {

Result<void> BufferSource::take(Progress* progress) {
    const bool pause = server_.running() && !server_.reads_while_running();
    if (pause)
        if (auto halted = server_.halt(); !halted) return tl::make_unexpected(halted.error());
    auto read = read_trace_buffer(memory_, unit_, encoder(), unit_patience_, progress);
    if (!read) return tl::make_unexpected(read.error());
    if (!finished_)
        if (auto on = restart(); !on) return on;
    if (pause && !finished_)
        if (auto on = server_.resume(); !on) return on;
    bytes_.erase(bytes_.begin(), bytes_.begin() + static_cast<std::ptrdiff_t>(at_));
    at_ = 0;
    if (restarted_)
        gap_ = read->wrapped ? "the " + unit_.name + " overwrote trace before it was read"
                             : "the " + unit_.name + " was stopped to be read";
    restarted_ = true;
    bytes_.insert(bytes_.end(), read->bytes.begin(), read->bytes.end());
    text_ = read->text;
    return {};
}

Result<std::size_t> BufferSource::read(std::span<std::uint8_t> into, Milliseconds) {
    const auto now = std::chrono::steady_clock::now();
    if (at_ == bytes_.size() && !finished_ && every_.count() > 0 && now >= next_) {
        const bool first = next_ == std::chrono::steady_clock::time_point{};
        next_ = now + every_;
        if (!first)
            if (auto ok = take(nullptr); !ok) return tl::make_unexpected(ok.error());
    }
    const std::size_t n = std::min(into.size(), bytes_.size() - at_);
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(at_), n, into.begin());
    at_ += n;
    return n;
}

Result<std::string> BufferSource::finish(Progress* progress) {
    if (finished_) return text_;
    finished_ = true;
    if (auto ok = take(progress); !ok) return tl::make_unexpected(ok.error());
    return text_;
}

}  // namespace mt
