// Images as text: what they hold, and which line is wrong.
#include "target/hex_image.h"

#include <gtest/gtest.h>

#include <cstdio>

#include "support.h"
#include "target/image.h"

namespace mt {
namespace {

std::string hex(const std::vector<std::uint8_t>& bytes) {
    std::string out;
    char digits[3];
    for (const std::uint8_t b : bytes) {
        std::snprintf(digits, sizeof digits, "%02X", b);
        out += digits;
    }
    return out;
}
std::uint8_t sum(const std::vector<std::uint8_t>& bytes) {
    unsigned s = 0;
    for (const std::uint8_t b : bytes) s += b;
    return static_cast<std::uint8_t>(s);
}
std::string intel(std::vector<std::uint8_t> record) {
    record.push_back(static_cast<std::uint8_t>(-sum(record)));
    return ":" + hex(record) + "\r\n";
}
std::string motorola(char type, std::vector<std::uint8_t> record) {
    record.insert(record.begin(), static_cast<std::uint8_t>(record.size() + 1));
    record.push_back(static_cast<std::uint8_t>(~sum(record)));
    return std::string("S") + type + hex(record) + "\n";
}

// What stands in memory while the program runs, as text. (What is written into flash lacks code at its place in RAM.)
std::string as_intel(const Image& image) {
    std::string out;
    for (const Image::Piece& p : image.pieces())
        for (std::size_t i = 0; i < p.bytes.size(); i += 16) {
            const std::uint64_t at = p.address + i;
            const std::size_t n = std::min<std::size_t>(16, p.bytes.size() - i);
            if (i == 0 || at % 65536 < 16)
                out += intel({2, 0, 0, 4, static_cast<std::uint8_t>(at >> 24), static_cast<std::uint8_t>(at >> 16)});
            std::vector<std::uint8_t> r = {static_cast<std::uint8_t>(n), static_cast<std::uint8_t>(at >> 8),
                                           static_cast<std::uint8_t>(at), 0};
            r.insert(r.end(), p.bytes.begin() + static_cast<std::ptrdiff_t>(i),
                     p.bytes.begin() + static_cast<std::ptrdiff_t>(i + n));
            out += intel(r);
        }
    return out + ":00000001FF\r\n";
}
std::string as_motorola(const Image& image) {
    std::string out = motorola('0', {0, 0, 'm'});
    for (const Image::Piece& p : image.pieces())
        for (std::size_t i = 0; i < p.bytes.size(); i += 32) {
            const std::uint64_t at = p.address + i;
            std::vector<std::uint8_t> r = {static_cast<std::uint8_t>(at >> 24), static_cast<std::uint8_t>(at >> 16),
                                           static_cast<std::uint8_t>(at >> 8), static_cast<std::uint8_t>(at)};
            const std::size_t n = std::min<std::size_t>(32, p.bytes.size() - i);
            r.insert(r.end(), p.bytes.begin() + static_cast<std::ptrdiff_t>(i),
                     p.bytes.begin() + static_cast<std::ptrdiff_t>(i + n));
            out += motorola('3', r);
        }
    return out + motorola('7', {8, 0, 1, 1});
}

TEST(HexImage, InstructionTraceIsFollowedThroughBytesAloneAsThroughTheElfFile) {
    const auto elf = Image::open(test::data("steps/mount-main.elf"));
    ASSERT_TRUE(elf);
    const auto truth = test::decode(test::data("steps/arm-etm-mount/recording.target.toml"));
    ASSERT_GT(truth.trail->steps[0].steps, 1000U);
    test::Folder folder;
    test::write_file(folder / "mount.hex", as_intel(**elf));
    test::write_file(folder / "mount.srec", as_motorola(**elf));
    test::write_file(folder / "capture.bin", test::read_bytes(test::data("steps/arm-etm-mount/capture.bin")));
    for (const char* name : {"mount.hex", "mount.srec"}) {
        std::string text = test::read_text(test::data("steps/arm-etm-mount/recording.target.toml"));
        const auto at = text.find("image");
        ASSERT_NE(at, std::string::npos);
        text.replace(at, text.find('\n', at) - at, std::string("image = \"") + name + "\"");
        test::write_file(folder / "x.target.toml", text);
        const auto bare = test::decode(folder / "x.target.toml");
        EXPECT_EQ(bare.trail->steps[0].steps, truth.trail->steps[0].steps) << name;
        EXPECT_EQ(bare.trail->steps[0].contradictions, 0U);
        ASSERT_FALSE(bare.trail->doubts.empty());
        EXPECT_NE(bare.trail->doubts[0].text.find("contains no symbols or debug information"), std::string::npos)
            << bare.trail->doubts[0].text;
    }
}

TEST(HexImage, PiecesThatFollowOneAnotherAreOneAndTheEntryIsKept) {
    const auto image =
        read_hex_image(intel({2, 0, 0, 4, 8, 0}) + intel({2, 0x10, 0, 0, 1, 2}) + intel({1, 0x10, 2, 0, 3}) +
                           intel({1, 0x20, 0, 0, 9}) + intel({4, 0, 0, 5, 8, 0, 1, 1}) + ":00000001FF\n",
                       "x.hex");
    ASSERT_TRUE(image) << image.error().text();
    ASSERT_EQ(image->pieces.size(), 2U);
    EXPECT_EQ(image->pieces.begin()->first, 0x08001000U);
    EXPECT_EQ(image->pieces.begin()->second, (std::vector<std::uint8_t>{1, 2, 3}));
    EXPECT_EQ(image->entry, 0x08000101U);
    const auto segment =
        read_hex_image(intel({2, 0, 0, 2, 0x10, 0}) + intel({1, 0, 5, 0, 7}) + ":00000001FF\n", "x.hex");
    ASSERT_TRUE(segment);
    EXPECT_EQ(segment->pieces.begin()->first, 0x10005U) << "type 02: a segment";
}

TEST(HexImage, WhatIsWrongNamesItsLine) {
    const auto wrong = [](const std::string& text) {
        const auto image = read_hex_image(text, "x.hex");
        return image ? std::string() : image.error().where + " " + image.error().what;
    };
    const std::string good = intel({1, 0, 0, 0, 5});
    EXPECT_EQ(wrong(good + ":0100000006FF\n"), "x.hex:2 holds a record whose sum is wrong");
    EXPECT_EQ(wrong(good + ":0500000005FA\n"), "x.hex:2 holds a record of another length than it says");
    EXPECT_EQ(wrong(good + "hello\n"), "x.hex:2 no record of an image");
    EXPECT_EQ(wrong(good + ":01000Z0005FA\n"),
              "x.hex:2 holds no record: length, address, type, data and sum in hexadecimal digits");
    EXPECT_EQ(wrong(good), "x.hex ends without its end record");
    EXPECT_EQ(wrong(":00000001FF\n"), "x.hex holds no bytes of a program");
    EXPECT_EQ(wrong("S1050000010203\n"), "x.hex:1 holds a record whose sum is wrong");
    EXPECT_EQ(wrong("S4050000010203\n"), "x.hex:1 holds no S-record: S and a type from 0 to 9");
}

TEST(HexImage, IsToldFromOtherText) {
    EXPECT_TRUE(is_hex_image(":10010000214601360121470136007EFE09D2190140"));
    EXPECT_TRUE(is_hex_image("S00600004844521B"));
    EXPECT_FALSE(is_hex_image("Some text that begins with S"));
    EXPECT_FALSE(is_hex_image(": a list"));
    EXPECT_FALSE(is_hex_image(""));
}

}  // namespace
}  // namespace mt
