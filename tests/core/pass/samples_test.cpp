// Streams of samples: every type, times on an even grid, what is cut, lost and brought to the recording's clock.
#include <gtest/gtest.h>

#include <bit>

#include <nlohmann/json.hpp>

#include "instruments.h"
#include "mount_model.h"
#include "pass/growing_trail.h"
#include "pass/stream_decoder.h"
#include "share/tables.h"
#include "support.h"

namespace mt {
namespace {

class Samples : public ::testing::Test {
  protected:
    void write(const std::vector<std::uint8_t>& bytes) {
        test::write_file(folder / "s.bin", std::string(bytes.begin(), bytes.end()));
    }
    std::string target(const std::string& keys) const {
        return "format = \"mindful-trail-target/1\"\n[[stream]]\nprotocol = \"samples\"\nfile = \"s.bin\"\n"
               "[stream.samples]\n" +
               keys;
    }
    test::Opened open(const std::string& keys) {
        test::write_file(folder / "t.target.toml", target(keys));
        return test::decode(folder / "t.target.toml");
    }
    static std::string doubts(const Trail& trail) {
        std::string all;
        for (const Doubt& d : trail.doubts) all += d.text + "\n";
        return all;
    }
    test::Folder folder;
};

struct Typed {
    const char* type;
    bool big_endian;
    std::vector<std::uint8_t> bytes;
    const char* text;
};
class EachType : public Samples, public ::testing::WithParamInterface<Typed> {};

TEST_P(EachType, IsReadAsItStands) {
    write(GetParam().bytes);
    const auto o = open(std::string("type = \"") + GetParam().type + "\"\nrate_hz = 10\nchannels = [{ name = \"v\" }]\n" +
                        (GetParam().big_endian ? "big_endian = true\n" : ""));
    const ValueLane& v = o.trail->tasks.values.at(0);
    ASSERT_EQ(v.samples.size(), 1U);
    EXPECT_EQ(v.text(0), GetParam().text);
}
INSTANTIATE_TEST_SUITE_P(
    Samples, EachType,
    ::testing::Values(Typed{"u8", false, {0xFE}, "254"}, Typed{"i8", false, {0xFE}, "-2"},
                      Typed{"u16", false, {0x34, 0xF2}, "62004"}, Typed{"i16", true, {0xF2, 0x34}, "-3532"},
                      Typed{"u24", false, {1, 2, 0xF3}, "15925761"}, Typed{"i24", false, {1, 2, 0xF3}, "-851455"},
                      Typed{"i24", true, {0xF3, 2, 1}, "-851455"}, Typed{"u32", false, {1, 0, 0, 0xFF}, "4278190081"},
                      Typed{"i32", true, {0xFF, 0, 0, 1}, "-16777215"}, Typed{"f32", false, {0, 0, 0xC0, 0x3F}, "1.5"},
                      Typed{"f64", true, {0xBF, 0xF8, 0, 0, 0, 0, 0, 1}, "-1.5000000000000002"}),
    [](const auto& of) { return std::string(of.param.type) + (of.param.big_endian ? "big" : "little"); });

TEST_F(Samples, FollowEachOtherEvenlyAndAreScaled) {
    std::vector<std::uint8_t> bytes;
    for (int i = 0; i < 30'000; ++i)
        for (const int v : {i % 1000, -(i % 7)}) {
            bytes.push_back(static_cast<std::uint8_t>(v));
            bytes.push_back(static_cast<std::uint8_t>(v >> 8));
        }
    write(bytes);
    const auto o = open(
        "name = \"supply\"\ntype = \"i16\"\nrate_hz = 30_000\n"
        "channels = [{ name = \"current\", scale = 0.5, offset = 10, unit = \"mA\" }, { name = \"counts\" }]\n");
    const ValueLane &current = o.trail->tasks.values.at(0), &counts = o.trail->tasks.values.at(1);
    EXPECT_EQ(current.unit, "mA");
    EXPECT_EQ(current.source, "supply");
    EXPECT_DOUBLE_EQ(current.value(999).number(), 509.5);
    EXPECT_EQ(counts.text(6), "-6") << "whole numbers that are not scaled stay whole";
    EXPECT_EQ(current.samples.time(29'999).ps, 999'966'666'667) << "a third of a picosecond does not add up";
    EXPECT_EQ(current.at(Time::from_ms(500)), 15'000U);
    const auto widest = current.extent(1, 29'999);
    EXPECT_DOUBLE_EQ(current.value_of(widest.least).number(), 10);
    EXPECT_DOUBLE_EQ(current.value_of(widest.greatest).number(), 509.5);
    EXPECT_EQ(o.trail->end, current.samples.back().time) << "there is nothing else that tells how long it is";
    const auto s = summary_json(*o.recording, *o.trail);
    EXPECT_EQ(s["streams"][0]["samples"], 30'000);
    EXPECT_EQ(s["streams"][0]["protocol"], "samples");
}

TEST_F(Samples, ASpikeOfOneSampleIsFoundAmongMillions) {
    std::vector<std::uint8_t> bytes(3'000'000, 5);
    bytes[1'234'567] = 200;
    write(bytes);
    const auto o = open("type = \"u8\"\nrate_hz = 1_000_000\nchannels = [{ name = \"v\" }]\n");
    const ValueLane& v = o.trail->tasks.values.at(0);
    EXPECT_EQ(v.extent(1, 2'999'999).greatest, 200U);
    EXPECT_EQ(v.extent(1'234'568, 2'999'999).greatest, 5U);
    EXPECT_EQ(v.extent(100, 1'234'567).greatest, 5U);
    EXPECT_EQ(v.extent(1'234'567, 1'234'568).greatest, 200U);
}

TEST_F(Samples, AreTheSameHoweverTheirBytesAreCut) {
    std::vector<std::uint8_t> bytes;
    for (int i = 0; i < 3000; ++i) bytes.push_back(static_cast<std::uint8_t>(i * 37));
    write(bytes);
    const auto o = open("type = \"i24\"\nrate_hz = 500\nchannels = [{ name = \"a\" }, { name = \"b\" }]\n");
    GrowingTrail growing(*o.recording);
    auto decoders = make_decoders(*o.recording, growing);
    ASSERT_EQ(decoders.size(), 1U);
    ASSERT_TRUE(decoders[0]->start(bytes, 0, [](std::uint64_t) { return 0.0; }, false));
    std::size_t at = 0, given = 0;
    for (std::size_t step = 1; given < bytes.size(); step = step % 11 + 1) {
        given = std::min(bytes.size(), given + step);
        at += *decoders[0]->feed(std::span(bytes).subspan(at, given - at), given == bytes.size());
    }
    for (std::size_t c = 0; c < 2; ++c) {
        const ValueLane &whole = o.trail->tasks.values.at(c), &cut = growing.trail().tasks.values.at(c);
        ASSERT_EQ(cut.samples.size(), whole.samples.size());
        for (std::size_t i = 0; i < whole.samples.size(); ++i) ASSERT_EQ(cut.samples.bits(i), whole.samples.bits(i));
    }
}

TEST_F(Samples, BytesThatMakeNoWholeSampleAreSaid) {
    write(std::vector<std::uint8_t>(4003, 1));
    const auto o = open("type = \"i16\"\nrate_hz = 500\nchannels = [{ name = \"a\" }, { name = \"b\" }]\n");
    EXPECT_NE(doubts(*o.trail).find("has 3 B that make no whole sample of its 2 channels"), std::string::npos)
        << doubts(*o.trail);
    write({1, 2, 3});
    EXPECT_NE(doubts(*open("type = \"f64\"\nrate_hz = 1\nchannels = [{ name = \"a\" }]\n").trail).find("no whole sample"),
              std::string::npos);
}

TEST_F(Samples, AfterALostConnectionAreWhereTheyCame) {
    write(std::vector<std::uint8_t>(2000, 7));
    test::write_file(folder / "s.bin.journal",
                     "{\"what\":\"started\",\"source\":\"tcp\",\"when\":\"2026-01-01T00:00:00\"}\n"
                     "{\"what\":\"first_byte\",\"after_s\":0.5,\"slack_s\":0}\n"
                     "{\"what\":\"lost\",\"offset\":1000,\"reason\":\"closed\"}\n"
                     "{\"what\":\"resumed\",\"offset\":1000,\"missing_s\":3}\n");
    const auto o = open("type = \"u8\"\nrate_hz = 1000\nchannels = [{ name = \"a\" }]\n");
    const ValueLane& a = o.trail->tasks.values.at(0);
    ASSERT_EQ(a.samples.size(), 2000U);
    EXPECT_EQ(a.samples.time(0), Time::from_ms(500));
    EXPECT_EQ(a.samples.time(999), Time::from_ms(1499));
    EXPECT_EQ(a.samples.time(1000), Time::from_ms(4500));
    EXPECT_EQ(a.holds_until(999, o.trail->end), Time::from_ms(1500)) << "nothing is known in between";
    EXPECT_NE(doubts(*o.trail).find("was lost 1 time"), std::string::npos) << doubts(*o.trail);
    EXPECT_NE(doubts(*o.trail).find("placed by when their first byte came"), std::string::npos) << doubts(*o.trail);
}

TEST_F(Samples, KeysThatAreWrongAreNamed) {
    const auto what = [&](const std::string& keys) {
        const auto t = parse_target_file(target(keys), "t.target.toml");
        return t ? std::string("fine") : t.error().text();
    };
    const std::string channel = "channels = [{ name = \"a\" }]\n";
    EXPECT_EQ(what("type = \"u8\"\nrate_hz = 0.5\n" + channel), "fine");
    EXPECT_NE(what("type = \"u7\"\nrate_hz = 1\n" + channel).find("one of u8, i8"), std::string::npos);
    EXPECT_NE(what("type = \"u8\"\nrate_hz = 0\n" + channel).find("rate_hz"), std::string::npos);
    EXPECT_NE(what("type = \"u8\"\nrate_hz = 1\nchannels = []\n").find("1 to 256"), std::string::npos);
    EXPECT_NE(what("type = \"u8\"\nrate_hz = 1\nchannels = [{ name = \"a\" }, { name = \"a\" }]\n").find("two channels"),
              std::string::npos);
    const auto none = parse_target_file(
        "format = \"mindful-trail-target/1\"\n[[stream]]\nprotocol = \"samples\"\nfile = \"s\"\n", "t.target.toml");
    EXPECT_NE(none.error().text().find("[stream.samples]"), std::string::npos);
}

// The probe's clock starts 0.25 s before the recording and is 38 ppm fast; its sync line shows when `focus` runs.
TEST_F(Samples, OfTheProbeAreBroughtToTheClockOfTheTrace) {
    board::MountOptions options;
    options.seconds = 14;
    board::CurrentProbe probe(-0.25, 5);
    board::Bench bench;
    const auto seconds = [&](std::uint64_t c) { return static_cast<double>(c) / static_cast<double>(options.clock_hz); };
    bench.draw = [&](double all, double heater, std::uint64_t c) { probe.draw(all, heater, seconds(c)); };
    bench.wire = [&](board::Wire wire, bool high, std::uint64_t c) {
        if (wire == board::Wire::debug) probe.sync(high, seconds(c));
    };
    board::MountHooks hooks;
    hooks.bench = &bench;
    const auto trace = board::record_mount(options, [](const std::string&) { return std::pair(0x08000000U, 64U); }, hooks);
    probe.advance(14);
    std::vector<std::uint8_t> samples;
    probe.drain(samples);
    write(samples);
    test::write_file(folder / "trace.bin", std::string(trace.begin(), trace.end()));
    const std::string rest =
        "[[core]]\nname = \"main\"\nisa = \"armv7e-m\"\nclock_hz = 120_000_000\n"
        "[[stream]]\nprotocol = \"itm\"\ncore = \"main\"\nfile = \"trace.bin\"\n"
        "[[watch]]\ncomparator = 0\naddress = 0\ntype = \"u32\"\nrole = \"current-task\"\n"
        "names = { 0 = \"idle\", 1 = \"track\", 2 = \"guide\", 3 = \"clock\", 4 = \"focus\" }\n";
    const auto o = open(
        "name = \"probe\"\ntype = \"i16\"\nrate_hz = 50_000\nchannels = [{ name = \"board current\", scale = 0.0125, "
        "unit = \"mA\" }, { name = \"heater current\", scale = 0.0125, unit = \"mA\" }, { name = \"sync\" }]\n"
        "align = [{ task = \"focus\", edge = \"sync both\" }]\n" +
        rest);
    ASSERT_EQ(o.trail->beside.size(), 1U) << doubts(*o.trail);
    const LaidSignals& laid = o.trail->beside[0];
    EXPECT_EQ(laid.how, LaidSignals::How::aligned) << doubts(*o.trail);
    EXPECT_NEAR(laid.offset_ns, 0.25e9 * (1 + 38e-6), 10'000);
    EXPECT_NEAR(laid.drift_ppm, 38, 3);
    EXPECT_LT(laid.uncertainty_ns, 20'000);
    const auto& values = o.trail->tasks.values;
    const ValueLane& current = *std::find_if(values.begin(), values.end(),
                                             [](const ValueLane& l) { return l.name == "board current"; });
    EXPECT_NEAR(current.samples.time(0).seconds(), -0.25, 20e-6);
    double asleep = 0, busy = 0;
    std::size_t n_asleep = 0, n_busy = 0;
    const auto& runs = o.trail->tasks.cores.at(0).runs;
    for (std::size_t i = 0; i + 1 < runs.size(); ++i) {
        if (runs[i].begin + Time::from_us(1500) > runs[i + 1].begin) continue;
        const std::size_t at = current.at(runs[i].begin + Time::from_us(1200));
        const std::string& who = runs[i].who < o.trail->tasks.tasks.size() ? o.trail->tasks.tasks[runs[i].who].name : "";
        if (who == "guide") busy += current.value(at).number(), ++n_busy;
        if (who == "idle") asleep += current.value(at).number(), ++n_asleep;
    }
    ASSERT_GT(n_busy, 10U);
    ASSERT_GT(n_asleep, 100U);
    EXPECT_GT(busy / static_cast<double>(n_busy), asleep / static_cast<double>(n_asleep) + 30) << "the filter works hard";
}

}  // namespace
}  // namespace mt
