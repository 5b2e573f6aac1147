// Pieces of a console's text, each with when it came (docs/formats/console.md).
#pragma once

#include <cstdint>
#include <span>
#include <vector>

namespace mt {

struct ConsolePiece {
    enum Channel : std::uint8_t { kOutput = 1, kErrors = 2 };
    std::uint8_t channel = kOutput;
    std::uint64_t time_ns = 0;  ///< since the recording's start
    std::span<const std::uint8_t> text;
};

inline constexpr std::size_t kConsoleHead = 16, kMostConsoleText = 4096,
                             kMostConsolePiece = kConsoleHead + kMostConsoleText;
inline constexpr std::size_t kNoConsolePiece = ~std::size_t{0};

/// Takes the piece at the begin of `raw` and says how long it is: 0 if it does not end within `raw`, kNoConsolePiece if
/// none begins there. The piece's text lies in `raw`.
std::size_t read_console_piece(std::span<const std::uint8_t> raw, ConsolePiece& piece);

/// Appends a piece. REQUIRES: its text is no longer than kMostConsoleText.
void write_console_piece(const ConsolePiece& piece, std::vector<std::uint8_t>& out);

}  // namespace mt
