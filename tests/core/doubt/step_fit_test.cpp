// A parameter of the target file that does not match the encoder is named, with the value that fits.
#include <gtest/gtest.h>

#include <random>

#include "doubt/step_fit.h"
#include "support.h"

namespace mt {
namespace {

struct Mistake {
    const char* capture;
    const char* name;
    const char* fits;
    std::function<void(StreamSpec&)> make;
    friend void PrintTo(const Mistake& m, std::ostream* out) { *out << m.capture << ", " << m.name; }
};

struct Stream {
    StreamSpec spec;
    std::shared_ptr<const Code> code;
    std::span<const std::uint8_t> raw;
    std::shared_ptr<const Recording> keeps;
};

Stream stream_of(const std::string& capture) {
    auto recording = open_recording(test::data("steps/" + capture + "/recording.target.toml"));
    EXPECT_TRUE(recording);
    const Recording& r = **recording;
    const auto raw = r.step_streams[0].bytes();
    return {r.target.streams[0], r.code[0], raw.first(std::min<std::size_t>(raw.size(), 64 << 10)), *recording};
}

class AMistakeInTheTargetFile : public testing::TestWithParam<Mistake> {};

TEST_P(AMistakeInTheTargetFile, IsNamedWithTheValueThatFits) {
    const Mistake& m = GetParam();
    Stream s = stream_of(m.capture);
    EXPECT_TRUE(step_fit(s.spec, s.code, s.raw).good());
    EXPECT_FALSE(suspect_parameter(s.spec, s.code, s.raw)) << "nothing is wrong yet";
    m.make(s.spec);
    const auto suspect = suspect_parameter(s.spec, s.code, s.raw);
    ASSERT_TRUE(suspect);
    EXPECT_EQ(suspect->name, m.name);
    EXPECT_EQ(suspect->fits, m.fits);
    EXPECT_TRUE(suspect->after.good());
    EXPECT_NE(suspect->text().find(std::string("Is ") + m.name + " " + m.fits + " rather than"), std::string::npos)
        << suspect->text();
}

INSTANTIATE_TEST_SUITE_P(
    Parameters, AMistakeInTheTargetFile,
    testing::Values(
        Mistake{"rv-etrace-mount", "iaddress_width", "32", [](StreamSpec& s) { s.etrace.iaddress_width = 64; }},
        Mistake{"rv-etrace-mount", "iaddress_lsb", "1", [](StreamSpec& s) { s.etrace.iaddress_lsb = 2; }},
        Mistake{"rv-etrace-mount", "privilege_width", "2", [](StreamSpec& s) { s.etrace.privilege_width = 1; }},
        Mistake{"rv-etrace-mount", "time_width", "0", [](StreamSpec& s) { s.etrace.time_width = 40; }},
        Mistake{"rv-etrace-mount", "context_width", "0", [](StreamSpec& s) { s.etrace.context_width = 32; }},
        Mistake{"rv-etrace-mount", "src_id_bits", "0", [](StreamSpec& s) { s.etrace.src_id_bits = 3; }},
        Mistake{"rv-etrace-mount-return", "return_stack_size", "3",
                [](StreamSpec& s) { s.etrace.return_stack_size = 1; }},
        Mistake{"rv-ntrace-mount-htm", "src_bits", "0", [](StreamSpec& s) { s.ntrace.src_bits = 4; }},
        Mistake{"rv-ntrace-mount-htm", "timestamps", "true", [](StreamSpec& s) { s.ntrace.timestamps = false; }},
        Mistake{"arm-etm-mount-rs", "return_stack", "true", [](StreamSpec& s) { s.etm4.return_stack = false; }},
        Mistake{"arm-etm-mount-rs", "trace_id", "16", [](StreamSpec& s) { s.trace_id = 17; }},
        Mistake{"arm-etm-mount-rs", "framing", "\"tpiu\" with trace_id 16",
                [](StreamSpec& s) { s.framing = Framing::none; }},
        Mistake{"arm-etm-mount-cc", "commopt", "1", [](StreamSpec& s) { s.etm4.commit_in_cycles = true; }},
        Mistake{"arm-etm-a-mount", "context_id_bytes", "4", [](StreamSpec& s) { s.etm4.context_id_bytes = 0; }},
        Mistake{"arm-pft-mount", "context_id_bytes", "4", [](StreamSpec& s) { s.pft.context_id_bytes = 1; }},
        Mistake{"arm-pft-mount-cc", "cycle_accurate", "true", [](StreamSpec& s) { s.pft.cycle_accurate = false; }},
        Mistake{"arm-pft-mount", "protocol", "\"pft\"",
                [](StreamSpec& s) {
                    s.protocol = Protocol::etm3;
                    s.etm3.context_id_bytes = 4;
                }},
        Mistake{"arm-etm-a-mount", "protocol", "\"etm4\"",
                [](StreamSpec& s) {
                    s.protocol = Protocol::pft;
                    s.pft.context_id_bytes = 4;
                }},
        Mistake{"arm-etm-mount-rs", "protocol", "\"etm4\" with return_stack true",
                [](StreamSpec& s) {
                    s.protocol = Protocol::etm3;
                    s.etm4 = {};
                }},
        Mistake{"rv-etrace-mount", "protocol", "\"etrace\"", [](StreamSpec& s) { s.protocol = Protocol::ntrace; }},
        Mistake{"rv-ntrace-mount-htm", "protocol", "\"ntrace\"", [](StreamSpec& s) { s.protocol = Protocol::etrace; }},
        Mistake{"arm-etm3-mount", "alternative_branch", "true", [](StreamSpec& s) { s.etm3.alternative_branch = false; }},
        Mistake{"arm-etm3-mount-cc", "cycle_accurate", "true", [](StreamSpec& s) { s.etm3.cycle_accurate = false; }},
        Mistake{"arm-etm3-mount", "context_id_bytes", "0", [](StreamSpec& s) { s.etm3.context_id_bytes = 4; }}));

// Support packets say how the encoder was set up: what the target file states before them does not matter.
TEST(AnOptionOfETrace, ThatTheStreamItselfTellsIsNoMistake) {
    Stream full = stream_of("rv-etrace-mount-full"), returns = stream_of("rv-etrace-mount-return");
    full.spec.etrace.full_address = false;
    returns.spec.etrace.implicit_return = false;
    EXPECT_TRUE(step_fit(full.spec, full.code, full.raw).good());
    EXPECT_TRUE(step_fit(returns.spec, returns.code, returns.raw).good());
}

struct Doubted {
    test::Folder folder;
    std::string text, advice;
};

// What is said of a capture after its bytes or its target file were changed.
void doubted(Doubted& d, const std::string& capture, const std::function<void(std::vector<std::uint8_t>&)>& bytes,
             const std::string& image = "mount-cop.elf") {
    const std::string from = test::data("steps/" + capture);
    const std::string file = capture.starts_with("arm") ? "capture.bin" : "trace.bin";
    auto raw = test::read_bytes(from + "/" + file);
    bytes(raw);
    test::write_file(d.folder / file, raw);
    std::string target = test::read_text(from + "/recording.target.toml");
    const std::string stated = capture.starts_with("arm") ? "../mount-main.elf" : "../mount-cop.elf";
    target.replace(target.find(stated), stated.size(), test::data("steps/") + image);
    test::write_file(d.folder / "x.target.toml", target);
    const auto opened = test::decode(d.folder / "x.target.toml");
    for (const auto& doubt : opened.trail->doubts)
        if (doubt.text.find("no time") == std::string::npos) {
            d.text += doubt.text + "\n";
            d.advice += doubt.advice + "\n";
        }
}

TEST(AStreamThatDoesNotFit, IsCalledDamagedWhereLongStretchesAroundFit) {
    Doubted d;
    doubted(d, "rv-etrace-mount", [](std::vector<std::uint8_t>& raw) {
        std::mt19937 random(7);
        for (int i = 0; i < 12; ++i) raw[4'000 + random() % (raw.size() - 8'000)] ^= 1u << random() % 8;
    });
    EXPECT_NE(d.text.find("is damaged"), std::string::npos) << d.text;
    EXPECT_EQ(d.text.find("do not fit together"), std::string::npos) << d.text;
    EXPECT_NE(d.advice.find("check the line"), std::string::npos) << d.advice;
    EXPECT_EQ(d.advice.find("image"), std::string::npos) << d.advice;
}

// One wrong byte of an address spoils those behind it, up to the next synchronisation.
TEST(AStreamThatDoesNotFit, IsCalledDamagedHoweverOftenAWrongByteIsFelt) {
    std::size_t told = 0;
    for (const std::ptrdiff_t first : {9'000, 12'000, 14'000, 16'000, 18'000, 21'000, 24'000, 27'000}) {
        Doubted d;
        doubted(
            d, "arm-etm-mount",
            [&](std::vector<std::uint8_t>& raw) {
                for (int i = 0; i < 5; ++i)  // of long addresses (0x9B) the third byte
                    *(std::find(raw.begin() + first + 29'000 * i, raw.end(), 0x9B) + 3) ^= 0x40;
            },
            "mount-main.elf");
        told += d.text.find("is damaged") != std::string::npos ? 1u : 0u;
        EXPECT_EQ(d.text.find("do not fit together"), std::string::npos) << d.text;
        EXPECT_EQ(d.advice.find("image"), std::string::npos) << d.advice;
    }
    EXPECT_GE(told, 6U) << "of eight: a wrong byte may lie where nobody can feel it";
}

TEST(AStreamThatDoesNotFit, IsCalledDamagedWhereBytesAreMissing) {
    Doubted d;
    doubted(d, "rv-etrace-mount",
            [](std::vector<std::uint8_t>& raw) { raw.erase(raw.begin() + 90'000, raw.begin() + 90'037); });
    EXPECT_EQ(d.advice.find("image"), std::string::npos) << d.text << d.advice;
}

TEST(AStreamThatDoesNotFit, IsCalledOfAnotherImageWhereNothingElseHelps) {
    Doubted d;
    doubted(
        d, "rv-etrace-mount", [](std::vector<std::uint8_t>&) {}, "../../../demo/larkspur-cop.elf");
    EXPECT_NE(d.text.find("do not fit together"), std::string::npos) << d.text;
    EXPECT_NE(d.advice.find("Is this the image that ran?"), std::string::npos) << d.advice;
}

// Random bytes take no minutes to be refused; a stream that starts late, or is damaged for long, is no noise.
TEST(Noise, IsNoStreamOfAnyProtocolAndAStreamIsNone) {
    std::vector<std::uint8_t> noise(5 << 20);
    std::mt19937_64 random(3);
    for (auto& byte : noise) byte = static_cast<std::uint8_t>(random());
    for (const char* capture :
         {"rv-etrace-mount", "rv-ntrace-mount-htm", "rv-ntrace-mount-btm", "arm-etm-mount-rs", "arm-mtb-paddle"}) {
        SCOPED_TRACE(capture);
        const Stream s = stream_of(capture);
        EXPECT_TRUE(is_noise(s.spec, s.code, noise, 0));
        // Half a megabyte of it is trace.
        std::vector<std::uint8_t> late = noise;
        for (std::size_t at = 3 << 20; at < (3 << 20) + (512 << 10); at += s.raw.size())
            std::copy(s.raw.begin(), s.raw.end(), late.begin() + static_cast<std::ptrdiff_t>(at));
        EXPECT_FALSE(is_noise(s.spec, s.code, late, 0));
    }
    const Stream s = stream_of("rv-etrace-mount");
    EXPECT_FALSE(is_noise(s.spec, s.code, std::span(noise).first(1 << 20), 0)) << "too short to judge without reading";
}

TEST(Noise, IsRefusedWithWhatToCheck) {
    test::Folder folder;
    std::vector<std::uint8_t> noise(9 << 20);
    std::mt19937_64 random(3);
    for (auto& byte : noise) byte = static_cast<std::uint8_t>(random());
    test::write_file(folder / "noise", noise);
    test::write_file(folder / "n.target.toml",
                     "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"cop\"\nisa = \"rv32imac\"\n"
                     "clock_hz = 1000000\nimage = \"" +
                         test::data("steps/mount-cop.elf") +
                         "\"\n[[stream]]\nfile = \"noise\"\nprotocol = \"ntrace\"\ncore = \"cop\"\n");
    auto recording = open_recording(folder / "n.target.toml");
    ASSERT_TRUE(recording) << recording.error().text();
    Progress progress;
    const auto trail = read_trail(**recording, progress);
    ASSERT_FALSE(trail);
    EXPECT_NE(trail.error().what.find("no N-Trace stream"), std::string::npos) << trail.error().text();
    EXPECT_NE(trail.error().advice.find("protocol"), std::string::npos) << trail.error().text();
}

}  // namespace
}  // namespace mt
