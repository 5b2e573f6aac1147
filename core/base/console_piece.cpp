#include "base/console_piece.h"

#include <algorithm>
#include <array>

namespace mt {
namespace {

constexpr std::array<std::uint8_t, 3> kMark = {'C', 'o', 'n'};
constexpr std::uint64_t kFarthest = std::uint64_t{1} << 52;  // ns

std::uint64_t number(std::span<const std::uint8_t> from) {
    std::uint64_t v = 0;
    for (std::size_t i = from.size(); i-- > 0;) v = v << 8 | from[i];
    return v;
}

}  // namespace

std::size_t read_console_piece(std::span<const std::uint8_t> raw, ConsolePiece& piece) {
    const std::size_t seen = std::min(raw.size(), kMark.size());
    if (!std::equal(raw.begin(), raw.begin() + static_cast<std::ptrdiff_t>(seen), kMark.begin())) return kNoConsolePiece;
    if (raw.size() < kConsoleHead) return 0;
    const std::uint64_t length = number(raw.subspan(4, 4));
    piece.channel = raw[3];
    piece.time_ns = number(raw.subspan(8, 8));
    if (piece.channel != ConsolePiece::kOutput && piece.channel != ConsolePiece::kErrors) return kNoConsolePiece;
    if (length > kMostConsoleText || piece.time_ns > kFarthest) return kNoConsolePiece;
    if (raw.size() < kConsoleHead + length) return 0;
    piece.text = raw.subspan(kConsoleHead, static_cast<std::size_t>(length));
    return kConsoleHead + static_cast<std::size_t>(length);
}

void write_console_piece(const ConsolePiece& piece, std::vector<std::uint8_t>& out) {
    const auto put = [&out](std::uint64_t v, int bytes) {
        for (int i = 0; i < bytes; ++i) out.push_back(static_cast<std::uint8_t>(v >> 8 * i));
    };
    out.insert(out.end(), kMark.begin(), kMark.end());
    put(piece.channel, 1);
    put(piece.text.size(), 4);
    put(piece.time_ns, 8);
    out.insert(out.end(), piece.text.begin(), piece.text.end());
}

}  // namespace mt
