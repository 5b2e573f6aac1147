// Pieces of a console's text, in docs/formats/console.md: whole, cut, and among what is none.
#include "base/console_piece.h"

#include <gtest/gtest.h>

#include <random>
#include <string>

namespace mt {
namespace {

std::vector<std::uint8_t> piece(std::uint8_t channel, std::uint64_t at, const std::string& text) {
    std::vector<std::uint8_t> out;
    write_console_piece({channel, at, {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}}, out);
    return out;
}

TEST(ConsolePieces, AreReadAsTheyWereWritten) {
    const auto bytes = piece(ConsolePiece::kErrors, 1'234'567'890'123, "limit switch\n");
    ASSERT_EQ(bytes.size(), kConsoleHead + 13);
    EXPECT_EQ(std::string(bytes.begin(), bytes.begin() + 3), "Con");
    ConsolePiece read;
    ASSERT_EQ(read_console_piece(bytes, read), bytes.size());
    EXPECT_EQ(read.channel, ConsolePiece::kErrors);
    EXPECT_EQ(read.time_ns, 1'234'567'890'123U);
    EXPECT_EQ(std::string(read.text.begin(), read.text.end()), "limit switch\n");
}

TEST(ConsolePieces, ThatAreCutWaitForMore) {
    const auto bytes = piece(ConsolePiece::kOutput, 5, "guide star");
    ConsolePiece read;
    for (std::size_t n = 0; n < bytes.size(); ++n)
        EXPECT_EQ(read_console_piece(std::span(bytes).first(n), read), 0U) << n;
}

TEST(ConsolePieces, DoNotBeginWhereAnythingOfTheirHeadIsWrong) {
    const auto good = piece(ConsolePiece::kOutput, 5, "x");
    const auto with = [&good](std::size_t at, std::uint8_t value) {
        auto bytes = good;
        bytes[at] = value;
        ConsolePiece read;
        return read_console_piece(bytes, read);
    };
    for (const std::size_t of_mark : {0, 1, 2}) EXPECT_EQ(with(of_mark, 'x'), kNoConsolePiece) << of_mark;
    EXPECT_EQ(with(3, 0), kNoConsolePiece) << "a channel that there is not";
    EXPECT_EQ(with(3, 3), kNoConsolePiece);
    EXPECT_EQ(with(5, 0x11), kNoConsolePiece) << "longer than a piece may be";
    EXPECT_EQ(with(15, 0x80), kNoConsolePiece) << "after a time that no recording has";
}

TEST(ConsolePieces, OfRandomBytesReachNoFurtherThanTheBytes) {
    std::mt19937 random(7);
    for (int i = 0; i < 20'000; ++i) {
        std::vector<std::uint8_t> bytes(random() % 64);
        for (auto& b : bytes) b = static_cast<std::uint8_t>(random());
        const char mark[] = "Con\1";
        for (std::size_t k = 0; k < std::min<std::size_t>(bytes.size(), random() % 6); ++k)
            bytes[k] = static_cast<std::uint8_t>(mark[k % 4]);
        ConsolePiece read;
        const std::size_t n = read_console_piece(bytes, read);
        if (n != kNoConsolePiece) EXPECT_LE(n, bytes.size());
    }
}

}  // namespace
}  // namespace mt
