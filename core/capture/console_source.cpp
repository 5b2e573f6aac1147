#include "capture/console_source.h"

#include <algorithm>
#include <array>

#include "base/console_piece.h"

namespace mt {

Result<std::size_t> ConsoleSource::read(std::span<std::uint8_t> into, Milliseconds patience) {
    const auto keep = [this](std::uint8_t channel, Steady::time_point came, std::span<const std::uint8_t> text) {
        if (!begun_) return;
        const auto after = std::chrono::duration_cast<std::chrono::nanoseconds>(came - start_).count();
        ConsolePiece piece;
        piece.channel = channel;
        piece.time_ns = static_cast<std::uint64_t>(std::max<std::int64_t>(0, after));
        for (; !text.empty(); text = text.subspan(piece.text.size())) {
            piece.text = text.first(std::min(text.size(), kMostConsoleText));
            write_console_piece(piece, waiting_);
        }
    };
    if (waiting_.empty() && server_ != nullptr) {
        for (const DebugServer::Printed& p : server_->take_console())
            keep(p.errors ? ConsolePiece::kErrors : ConsolePiece::kOutput, p.came,
                 {reinterpret_cast<const std::uint8_t*>(p.text.data()), p.text.size()});
    } else if (waiting_.empty()) {
        std::string typed;
        {
            const std::lock_guard guard(lock_);
            typed.swap(typed_);
        }
        if (!typed.empty())
            if (auto sent = inner_->write({reinterpret_cast<const std::uint8_t*>(typed.data()), typed.size()}); !sent)
                return tl::make_unexpected(sent.error());
        std::array<std::uint8_t, kMostConsoleText> text;
        const auto given = inner_->read(text, patience);
        if (!given) return given;
        keep(ConsolePiece::kOutput, Steady::now(), std::span(text).first(*given));
    }
    const std::size_t n = std::min(into.size(), waiting_.size());
    std::copy_n(waiting_.begin(), n, into.begin());
    waiting_.erase(waiting_.begin(), waiting_.begin() + static_cast<std::ptrdiff_t>(n));
    return n;
}

Result<void> ConsoleSource::type(const std::string& text) {
    if (server_ != nullptr) return server_->type(text);
    if (!inner_->writable()) return failure("nothing can be typed there", "console", "it comes from a file: give it a line or a connection");
    const std::lock_guard guard(lock_);
    typed_ += text;
    return {};
}

std::uint64_t ConsoleSource::lost() { return server_ != nullptr ? server_->console_lost() : inner_->lost(); }

}  // namespace mt
