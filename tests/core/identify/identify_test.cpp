// Recordings whose settings are withheld: the bytes and the image tell how they are to be read.
#include <gtest/gtest.h>

#include <random>

#include "base/mapped_file.h"
#include "identify/file_sort.h"
#include "identify/identify.h"
#include "support.h"

namespace mt {
namespace {

std::shared_ptr<const Image> image_of(const std::string& path) {
    auto image = Image::open(path);
    EXPECT_TRUE(image) << path;
    return image ? *image : nullptr;
}

Identified of_file(const std::string& bytes, const std::string& image) {
    const auto file = MappedFile::open(bytes);
    EXPECT_TRUE(file) << bytes;
    return identify((*file)->bytes(), image.empty() ? nullptr : image_of(image), "", Progress());
}

class ARecordingWithoutItsTargetFile : public testing::TestWithParam<std::string> {};

// What the target file says comes first, and what is written reads the recording as that did.
TEST_P(ARecordingWithoutItsTargetFile, IsIdentifiedFromBytesAndImage) {
    const std::string path = test::data(GetParam());
    const auto target = read_target_file(path);
    ASSERT_TRUE(target);
    const StreamSpec& truth = target->streams[0];
    const Identified found = of_file(truth.file, target->cores[0].image);
    ASSERT_TRUE(found.sure()) << found.verdict();
    const Guess& g = found.guesses[0];
    EXPECT_EQ(protocol_name(g.stream.protocol), protocol_name(truth.protocol)) << found.verdict();
    EXPECT_EQ(g.stream.framing, truth.framing);
    if (truth.framing == Framing::tpiu) {
        EXPECT_EQ(g.stream.trace_id, truth.trace_id);
    }
    EXPECT_EQ(g.isa, target->cores[0].isa);
    if (truth.protocol == Protocol::itm) {
        EXPECT_EQ(g.stream.timestamp_prescaler, truth.timestamp_prescaler);
        ASSERT_FALSE(g.clocks.empty());
        EXPECT_EQ(g.clocks[0].hz, target->cores[0].clock_hz) << g.clocks[0].why;
    }
    test::Folder out;
    test::write_file(out / "found.target.toml", target_text(g, {truth.file}, target->cores[0].image, "found"));
    const test::Opened as_found = test::decode(out / "found.target.toml"), as_told = test::decode(path);
    ASSERT_EQ(as_found.trail->steps.size(), as_told.trail->steps.size());
    for (std::size_t i = 0; i < as_told.trail->steps.size(); ++i)
        EXPECT_EQ(as_found.trail->steps[i].steps, as_told.trail->steps[i].steps);
    for (std::size_t i = 0; i < as_told.trail->streams.size(); ++i)
        EXPECT_EQ(as_found.trail->streams[i].packets, as_told.trail->streams[i].packets);
}

INSTANTIATE_TEST_SUITE_P(Identify, ARecordingWithoutItsTargetFile,
                         testing::Values(std::string("mount/mount.target.toml"),
                                         std::string("mount-framed/mount.target.toml"),
                                         std::string("steps/arm-etm-mount/recording.target.toml"),
                                         std::string("steps/arm-etm-mount-cc/recording.target.toml"),
                                         std::string("steps/arm-etm-mount-rs/recording.target.toml"),
                                         std::string("steps/rv-etrace-mount/recording.target.toml"),
                                         std::string("steps/rv-etrace-mount-full/recording.target.toml"),
                                         std::string("steps/rv-etrace-mount-modes/recording.target.toml"),
                                         std::string("steps/rv-ntrace-mount-btm/recording.target.toml"),
                                         std::string("steps/rv-ntrace-mount-htm/recording.target.toml"),
                                         std::string("steps/arm-mtb-paddle/recording.target.toml"),
                                         std::string("steps/arm-pft-mount/recording.target.toml"),
                                         std::string("steps/arm-pft-mount-cc/recording.target.toml"),
                                         std::string("steps/arm-etm3-mount/recording.target.toml"),
                                         std::string("steps/arm-etm3-mount-cc/recording.target.toml"),
                                         std::string("steps/arm-etm-a-mount-cc/recording.target.toml")),
                         [](const auto& info) {
                             std::string name = info.param.substr(0, info.param.rfind('/'));
                             for (char& c : name)
                                 if (c == '/' || c == '-') c = '_';
                             return name;
                         });

TEST(Identify, WhatIsNoTraceIsSaidToBeNone) {
    const auto verdict = [](const std::vector<std::uint8_t>& bytes) {
        return identify(bytes, nullptr, "", Progress()).verdict();
    };
    EXPECT_EQ(verdict({}), "this is no trace that is known here: it is an empty file");
    EXPECT_EQ(verdict(std::vector<std::uint8_t>(4'000'000)),
              "this is no trace that is known here: it is nothing but zeros");
    const std::string text = test::read_text(test::data("README.md"));
    EXPECT_EQ(verdict({text.begin(), text.end()}), "this is no trace that is known here: it is text");
    const std::vector<std::uint8_t> picture = {0x89, 'P', 'N', 'G', '\r', '\n', 0x1A, '\n', 0,
                                               0,    0,   13,  'I', 'H',  'D',  'R',  0,    0};
    EXPECT_EQ(verdict(picture), "this is no trace that is known here: it is a PNG picture");
    const auto self = MappedFile::open("/proc/self/exe");
    ASSERT_TRUE(self);
    EXPECT_EQ(identify((*self)->bytes(), nullptr, "", Progress()).verdict(),
              "this is no trace that is known here: it is an ELF file for x86-64: a program of this computer");
}

TEST(Identify, NoiseIsNothing) {
    std::mt19937 random(7);
    std::vector<std::uint8_t> noise(200'000);
    for (auto& b : noise) b = static_cast<std::uint8_t>(random());
    for (const char* image : {"", "larkspur.elf", "larkspur-cop.elf"}) {
        const Identified found = identify(noise, *image == 0 ? nullptr : image_of(test::demo(image)), "", Progress());
        EXPECT_FALSE(found.sure()) << image << ": " << found.verdict();
        EXPECT_TRUE(found.verdict().starts_with("this is no trace that is known here"));
    }
}

TEST(Identify, BytesOfTwoProtocolsAreNoneThatIsKnown) {
    std::vector<std::uint8_t> mixed = test::read_bytes(test::data("mount/capture.bin"));
    const auto other = test::read_bytes(test::data("steps/arm-etm-mount/capture.bin"));
    mixed.resize(std::min(mixed.size(), other.size()));
    mixed.insert(mixed.end(), other.begin(), other.end());
    for (const char* image : {"", "mount/firmware.elf", "steps/mount-main.elf"}) {
        const Identified found = identify(mixed, *image == 0 ? nullptr : image_of(test::data(image)), "", Progress());
        EXPECT_FALSE(found.sure()) << image << ": " << found.verdict();
        EXPECT_NE(found.verdict().find("the best guess is "), std::string::npos) << found.verdict();
    }
}

TEST(Identify, WithoutAnImageTheProtocolIsStillFoundAndTheImageAskedFor) {
    const Identified found = of_file(test::data("steps/arm-etm-mount/capture.bin"), "");
    ASSERT_TRUE(found.sure()) << found.verdict();
    EXPECT_EQ(found.guesses[0].stream.protocol, Protocol::etm4);
    ASSERT_FALSE(found.guesses[0].questions.empty());
    EXPECT_TRUE(found.guesses[0].questions[0].starts_with("Which image ran?"));
    EXPECT_EQ(of_file(test::data("mount/capture.bin"), "").guesses[0].stream.protocol, Protocol::itm);
}

}  // namespace
}  // namespace mt
