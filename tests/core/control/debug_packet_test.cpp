// Packets of the GDB remote serial protocol, written out as they stand on the line.
#include <gtest/gtest.h>

#include "control/debug_packet.h"

namespace mt {
namespace {

using Kind = DebugPacketReader::Item::Kind;

DebugPacketReader fed(std::string_view bytes) {
    DebugPacketReader reader;
    reader.feed({reinterpret_cast<const std::uint8_t*>(bytes.data()), bytes.size()});
    return reader;
}

TEST(DebugPackets, APacketEndsWithTheSumOfItsBytes) {
    EXPECT_EQ(framed_debug_packet("OK"), "$OK#9a");
    EXPECT_EQ(framed_debug_packet(""), "$#00");
    auto reader = fed("$OK#9a");
    const auto item = reader.next();
    ASSERT_TRUE(item);
    EXPECT_EQ(item->kind, Kind::packet);
    EXPECT_EQ(item->payload, "OK");
    EXPECT_FALSE(reader.next());
}

TEST(DebugPackets, SpecialCharactersAreEscaped) {
    EXPECT_EQ(framed_debug_packet("a#b"),
              "$a}\x03"
              "b#43");
    auto reader = fed(framed_debug_packet("$}#*x"));
    EXPECT_EQ(reader.next()->payload, "$}#*x");
}

TEST(DebugPackets, RunLengthsAreExpanded) {
    // '0' and "* ": three more of it (32 - 29), as in the manual's example.
    EXPECT_EQ(unescaped_debug_payload("0* "), "0000");
    EXPECT_EQ(unescaped_debug_payload("ab*\"c"), "abbbbbbc");
    EXPECT_FALSE(unescaped_debug_payload("*~")) << "nothing stands before it";
    EXPECT_FALSE(unescaped_debug_payload("a*")) << "no count";
    EXPECT_FALSE(unescaped_debug_payload("a}"));
}

TEST(DebugPackets, AWrongSumIsDamageAndTheNextPacketIsReadAgain) {
    auto reader = fed("+$OK#9b$OK#9a-");
    EXPECT_EQ(reader.next()->kind, Kind::acknowledged);
    EXPECT_EQ(reader.next()->kind, Kind::damaged);
    EXPECT_EQ(reader.next()->kind, Kind::packet);
    EXPECT_EQ(reader.next()->kind, Kind::refused);
}

TEST(DebugPackets, APacketCutShortByAnotherIsDamage) {
    auto reader = fed("$m0,4$OK#9a");
    EXPECT_EQ(reader.next()->kind, Kind::damaged);
    EXPECT_EQ(reader.next()->payload, "OK");
}

TEST(DebugPackets, NotificationsAreToldApart) {
    auto reader = fed("%Stop:T05#6f");
    const auto item = reader.next();
    ASSERT_TRUE(item);
    EXPECT_EQ(item->kind == Kind::notification || item->kind == Kind::damaged, true);
    auto right = framed_debug_packet("Stop:T05");
    right[0] = '%';
    EXPECT_EQ(fed(right).next()->kind, Kind::notification);
}

TEST(DebugPackets, AnEndlessPacketTakesNoEndlessMemory) {
    DebugPacketReader reader;
    const std::vector<std::uint8_t> piece(1 << 16, 'x');
    const std::uint8_t begin = '$';
    reader.feed({&begin, 1});
    for (int i = 0; i < 40; ++i) reader.feed(piece);
    const std::string end = "#00";
    reader.feed({reinterpret_cast<const std::uint8_t*>(end.data()), end.size()});
    EXPECT_EQ(reader.next()->kind, Kind::too_long);
}

TEST(DebugPackets, HexIsPairsOfDigits) {
    EXPECT_EQ(bytes_of_hex("00ff7F"), std::string("\x00\xff\x7f", 3));
    EXPECT_FALSE(bytes_of_hex("0"));
    EXPECT_FALSE(bytes_of_hex("0g"));
    EXPECT_EQ(hex_of_bytes("A\n"), "410a");
}

}  // namespace
}  // namespace mt
