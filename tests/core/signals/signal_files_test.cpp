// Files of measuring devices against what is known to be in them.
#include <gtest/gtest.h>

#include <cmath>
#include <fstream>

#include <nlohmann/json.hpp>

#include "base/mapped_file.h"
#include "signals/signal_file.h"
#include "support.h"

namespace mt {
namespace {

using Json = nlohmann::json;

Json truth(const std::string& name) { return Json::parse(test::read_text(test::data("signals/" + name))); }

SignalFile file(const std::string& name, const SignalChoice& choice = {}) {
    auto read = read_signal_file(test::data("signals/" + name), choice);
    EXPECT_TRUE(read) << read.error().text();
    return read ? std::move(*read) : SignalFile{};
}

const ValueLane& lane(const SignalFile& f, const std::string& name) {
    static const ValueLane none;
    for (const ValueLane& l : f.lanes)
        if (l.name == name) return l;
    ADD_FAILURE() << "no lane " << name;
    return none;
}

double sum_of(const ValueLane& l) {
    long double sum = 0;
    for (std::size_t i = 0; i < l.samples.size(); ++i)
        if (l.known(i)) sum += l.value(i).number();
    return static_cast<double>(sum);
}

Result<SignalFile> vcd(const std::string& text, const SignalChoice& choice = {}) {
    return read_vcd({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, "t.vcd", choice);
}
Result<SignalFile> csv(const std::string& text, const SignalChoice& choice = {}) {
    return read_csv_signals({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, "t.csv", choice);
}

TEST(AValueChangeDump, HoldsWhatItsTruthSays) {
    const SignalFile f = file("vcd-mount.vcd");
    const Json t = truth("signals-truth.json")["vcd"][0];
    EXPECT_NEAR(static_cast<double>(f.end.ps) / 1000, t["end_ns"].get<double>(), 0.1);
    ASSERT_EQ(f.lanes.size(), t["signals"].size());
    for (const Json& s : t["signals"]) {
        const ValueLane& l = lane(f, s["name"]);
        EXPECT_EQ(l.source, s["scope"]);
        EXPECT_EQ(l.samples.size(), s["values"]) << l.name;
        if (s["type"] == "real") {
            EXPECT_DOUBLE_EQ(l.value(0).number(), s["first"]);
            EXPECT_DOUBLE_EQ(l.value(l.samples.size() - 1).number(), s["last"]);
            EXPECT_DOUBLE_EQ(l.value_of(l.least).number(), s["min"]);
            EXPECT_DOUBLE_EQ(l.value_of(l.greatest).number(), s["max"]);
            EXPECT_NEAR(sum_of(l), s["sum"], 0.001);
            EXPECT_EQ(l.holes.size(), 1U) << "nothing is dumped in between";
            continue;
        }
        std::uint64_t x = 0, z = 0, rises = 0;
        Time high, first, last;
        for (std::size_t i = 0; i < l.samples.size(); ++i) {
            x += l.origin(i).worth == ValueOrigin::Worth::undefined ? 1 : 0;
            z += l.origin(i).worth == ValueOrigin::Worth::undriven ? 1 : 0;
            if (!l.known(i) || l.samples.bits(i) != 1 || s["width"] != 1) continue;
            const bool rise = i > 0 && !(l.known(i - 1) && l.samples.bits(i - 1) == 1);
            if (rise && rises++ == 0) first = l.samples.time(i);
            if (rise) last = l.samples.time(i);
            if (i + 1 < l.samples.size()) high += l.samples.time(i + 1) - l.samples.time(i);
        }
        EXPECT_EQ(x, s["with_x"]) << l.name;
        EXPECT_EQ(z, s["with_z"]) << l.name;
        if (s["width"] == 1) {
            EXPECT_NEAR(static_cast<double>(high.ps) / 1000, s["high_ns"], 0.1) << l.name;
            EXPECT_EQ(rises, s["rises"]) << l.name;
            EXPECT_NEAR(static_cast<double>(first.ps) / 1000, s["first_rise_ns"], 0.1);
            EXPECT_NEAR(static_cast<double>(last.ps) / 1000, s["last_rise_ns"], 0.1);
        } else {
            EXPECT_NEAR(sum_of(l), s["sum"], 0.5) << l.name;
        }
    }
}

TEST(ATable, OfSemicolonsAndDecimalCommasHoldsWhatItsTruthSays) {
    const SignalFile f = file("current-mount.csv");
    const Json t = truth("signals-truth.json")["csv"][0];
    const ValueLane &current = lane(f, "supply current"), &pin = lane(f, "star table use");
    EXPECT_EQ(current.unit, "mA");
    EXPECT_EQ(current.samples.size(), t["rows"]);
    EXPECT_EQ(current.samples.time(0).ps, 3'200'000'000'000);
    EXPECT_EQ(f.end.ps, 3'899'980'000'000);
    EXPECT_NEAR(sum_of(current), t["sum_mA"], 0.01);
    EXPECT_DOUBLE_EQ(current.value_of(current.least).number(), t["min_mA"]);
    EXPECT_DOUBLE_EQ(current.value_of(current.greatest).number(), t["max_mA"]);
    EXPECT_EQ(pin.sort, ValueSort::signed_whole);
    EXPECT_EQ(sum_of(pin), t["pin_high_samples"]);
    EXPECT_TRUE(f.warnings.empty()) << f.warnings[0];
}

TEST(AnMdfFile, HoldsWhatItsTruthSays) {
    const SignalFile f = file("mdf-mount.mf4");
    const Json t = truth("mdf-truth.json")["files"][0];
    std::size_t lanes = 0;
    for (const Json& g : t["groups"])
        for (const Json& c : g["channels"]) {
            if (c["name"] == "t" || c["name"] == "time") continue;
            ++lanes;
            const ValueLane& l = lane(f, c["name"]);
            EXPECT_EQ(l.source, g["group"]);
            EXPECT_EQ(l.unit, c["unit"].is_null() ? "" : c["unit"].get<std::string>());
            EXPECT_EQ(l.samples.size(), c["n"]) << l.name;
            std::uint64_t valid = 0;
            std::size_t first = l.samples.size(), last = 0;
            std::map<std::string, std::uint64_t> counts;
            for (std::size_t i = 0; i < l.samples.size(); ++i) {
                if (!l.known(i)) continue;
                ++valid;
                first = std::min(first, i);
                last = i;
                ++counts[l.text(i)];
            }
            EXPECT_EQ(valid, c["valid"]) << l.name;
            if (c.contains("counts")) {
                EXPECT_EQ(counts, (c["counts"].get<std::map<std::string, std::uint64_t>>())) << l.name;
                EXPECT_EQ(l.text(first), c["first"]) << l.name;
                EXPECT_EQ(l.text(last), c["last"]) << l.name;
            } else {
                EXPECT_NEAR(sum_of(l), c["sum"], 1e-6 * std::abs(c["sum"].get<double>())) << l.name;
                EXPECT_DOUBLE_EQ(l.value(first).number(), c["first"]) << l.name;
                EXPECT_DOUBLE_EQ(l.value(last).number(), c["last"]) << l.name;
            }
        }
    EXPECT_EQ(f.lanes.size(), lanes);
    EXPECT_TRUE(f.warnings.empty()) << f.warnings[0];
}

// IEEE 1364-2005 18.2.1: values that are shorter than the vector, codes of several characters, variables that share
// one.
TEST(AValueChangeDump, ExtendsVectorsAndSharesCodes) {
    const auto f =
        vcd("$timescale 1us $end $scope module a $end $var reg 8 ab n [7:0] $end $var wire 8 ab m $end\n"
            "$var integer 32 ! i $end $var wire 1 \"# bit [2] $end $upscope $end $enddefinitions $end\n"
            "#5 b101 ab b11111111111111111111111111111110 ! 1\"#\n#7 bx1 ab bz ab\n");
    ASSERT_TRUE(f) << f.error().text();
    ASSERT_EQ(f->lanes.size(), 4U);
    EXPECT_EQ(lane(*f, "n").value(0).number(), 5);
    EXPECT_EQ(lane(*f, "m").samples.size(), 3U) << "the same code";
    EXPECT_EQ(lane(*f, "n").text(1), "x");
    EXPECT_EQ(lane(*f, "n").text(2), "z");
    EXPECT_EQ(lane(*f, "i").value(0).number(), -2);
    EXPECT_EQ(lane(*f, "bit[2]").samples.time(0).ps, 5'000'000);
}

TEST(AValueChangeDump, BeginsUnknownWithoutANumber) {
    const auto f =
        vcd("$timescale 1ns $end $var wire 8 ! n $end $enddefinitions $end\n#0 bx ! bz !\n#5 b101 !\n#6 b111 !\n");
    ASSERT_TRUE(f) << f.error().text();
    EXPECT_EQ(f->lanes[0].least, 5U) << "what is not known is not the least";
    EXPECT_EQ(f->lanes[0].extent(0, 4).greatest, 7U);
}

TEST(AValueChangeDump, SaysWhatIsWrongWithIt) {
    EXPECT_NE(vcd("$date x $end $var wire 1 ! a $end").error().what.find("do not end"), std::string::npos);
    EXPECT_NE(vcd("$timescale 3 ns $end $enddefinitions $end").error().what.find("$timescale is '3ns'"),
              std::string::npos);
    EXPECT_NE(vcd("$enddefinitions $end #0").error().what.find("declares no signals"), std::string::npos);
    EXPECT_NE(vcd("$var wire x ! a $end $enddefinitions $end").error().what.find("width of 'a'"), std::string::npos);
    const auto late = vcd("$timescale 1ns $end $var wire 1 ! a $end $enddefinitions $end\n#9 1! #4 0! #x 1!\n");
    ASSERT_TRUE(late) << late.error().text();
    ASSERT_EQ(late->warnings.size(), 2U);
    EXPECT_NE(late->warnings[0].find("runs backwards in line 2"), std::string::npos) << late->warnings[0];
    EXPECT_NE(late->warnings[1].find("no number"), std::string::npos) << late->warnings[1];
    EXPECT_EQ(late->lanes[0].samples.size(), 2U);
}

TEST(AValueChangeDump, OfAMillionSignalsIsReadAsFarAsMakesSense) {
    std::string text = "$timescale 1ns $end\n";
    for (int i = 0; i < 100'000; ++i)
        text += "$var wire 1 c" + std::to_string(i) + " s" + std::to_string(i) + " $end\n";
    text += "$enddefinitions $end\n#1\n1c99999\n1c1\n";
    const auto all = vcd(text);
    ASSERT_TRUE(all) << all.error().text();
    EXPECT_EQ(all->lanes.size(), kMostSignals);
    EXPECT_NE(all->warnings.at(0).find("only the first"), std::string::npos);
    const auto one = vcd(text, {"s99999"});
    ASSERT_TRUE(one) << one.error().text();
    ASSERT_EQ(one->lanes.size(), 1U);
    EXPECT_EQ(one->lanes[0].samples.size(), 1U);
}

TEST(ATable, IsToldApartByItsSeparatorUnitsAndHead) {
    for (const char* text : {"time_us,u_V\n1,0.5\n2,-1.5\n", "t [us]\tu [V]\n1\t0.5\n2\t-1.5\n",
                             "# remark\n\nTime (us) ; u (V)\r\n1;0,5\r\n2;-1,5\r\n", "t,u\nus,V\n1,0.5\n2,-1.5\n",
                             "\xEF\xBB\xBFt [us]|u [V]\n1|0.5\n2|-1.5"}) {
        const auto f = csv(text);
        ASSERT_TRUE(f) << text << f.error().text();
        ASSERT_EQ(f->lanes.size(), 1U) << text;
        EXPECT_EQ(f->lanes[0].unit, "V") << text;
        ASSERT_EQ(f->lanes[0].samples.size(), 2U) << text;
        EXPECT_EQ(f->lanes[0].samples.time(1).ps, 2'000'000) << text;
        EXPECT_EQ(f->lanes[0].value(1).number(), -1.5) << text;
    }
}

TEST(ATable, KeepsWhatIsMissingMissing) {
    const auto f = csv("time [s],a,b,mode\n0,1,,idle\n1,,2.5,\n2,x,3,slew\nbad,4,4,4\n1,5,5,5\n3,7\n");
    ASSERT_TRUE(f) << f.error().text();
    const ValueLane &a = lane(*f, "a"), &b = lane(*f, "b"), &mode = lane(*f, "mode");
    ASSERT_EQ(a.samples.size(), 3U);
    EXPECT_EQ(a.text(1), "invalid") << "a word among numbers";
    EXPECT_EQ(a.text(2), "7");
    EXPECT_EQ(b.samples.size(), 2U);
    EXPECT_EQ(mode.text(0), "idle");
    EXPECT_EQ(mode.text(1), "slew");
    std::string all;
    for (const auto& w : f->warnings) all += w + "\n";
    EXPECT_NE(all.find("line 5 is no number"), std::string::npos) << all;
    EXPECT_NE(all.find("backwards in line 6"), std::string::npos) << all;
    EXPECT_NE(all.find("line 7 has fewer columns"), std::string::npos) << all;
}

TEST(ATable, InAnotherEncodingIsReadTheSame) {
    const std::string latin = "time [\xB5s];Strom [mA]\n1;2\n3;4\n";
    const auto f = csv(latin);
    ASSERT_TRUE(f) << f.error().text();
    EXPECT_EQ(f->lanes[0].samples.time(1).ps, 3'000'000);
    std::string wide = "\xFF\xFE";
    for (const char c : std::string("t [ms],n\n1,5\n2,6\n")) wide += {c, '\0'};
    const auto g = csv(wide);
    ASSERT_TRUE(g) << g.error().text();
    EXPECT_EQ(g->lanes[0].value(1).number(), 6);
    EXPECT_EQ(signal_format_of({reinterpret_cast<const std::uint8_t*>(wide.data()), wide.size()}), "CSV");
}

TEST(ATable, WithoutNumbersIsAProblem) {
    for (const char* text : {"", "hello\nworld\n", "a,b\nc,d\n"}) {
        const auto f = csv(text);
        ASSERT_FALSE(f) << text;
        EXPECT_NE(f.error().what.find("no rows of numbers"), std::string::npos) << f.error().text();
    }
}

// Any byte of the file changed, or the file cut anywhere: something is read or said, and nothing else happens.
TEST(AnMdfFile, ThatLiesIsAProblemOrAWarning) {
    const auto file_of_it = *MappedFile::open(test::data("signals/mdf-mount.mf4"));
    const auto whole = file_of_it->bytes();
    std::size_t said = 0, tried = 0;
    const auto spoil = [&](std::size_t from, std::size_t to, std::size_t step) {  // where its blocks are
        for (std::size_t at = from; at < to; at += step) {
            std::vector<std::uint8_t> bad(whole.begin(), whole.end());
            bad[at] ^= static_cast<std::uint8_t>(0x41 + at % 190);
            const auto f = read_mdf(bad, "bad.mf4", {});
            ++tried;
            said += !f || !f->warnings.empty() ? 1 : 0;
        }
    };
    spoil(0, 1'400, 13);
    spoil(151'376, whole.size(), 17);
    EXPECT_GT(said, tried / 10);
    for (std::size_t n = 0; n < 160'000; n += 1'999) {
        const auto f = read_mdf(whole.first(n), "cut.mf4", {});
        EXPECT_TRUE(!f || !f->warnings.empty()) << n;
    }
}

TEST(SignalFiles, OneThatWasPackedAndCutOffIsReadUpToThereAndSaysSo) {
    const auto whole = read_signal_file(test::demo("larkspur-night.vcd.xz"), {});
    ASSERT_TRUE(whole) << whole.error().text();
    EXPECT_TRUE(whole->warnings.empty());
    auto bytes = test::read_bytes(test::demo("larkspur-night.vcd.xz"));
    bytes.resize(bytes.size() / 3);
    test::Folder folder;
    test::write_file(folder / "cut.vcd.xz", bytes);
    const auto cut = read_signal_file(folder / "cut.vcd.xz", {});
    ASSERT_TRUE(cut) << cut.error().text();
    ASSERT_EQ(cut->lanes.size(), whole->lanes.size());
    EXPECT_LT(cut->lanes[0].samples.size(), whole->lanes[0].samples.size());
    EXPECT_GT(cut->lanes[0].samples.size(), 0U);
    ASSERT_FALSE(cut->warnings.empty());
    EXPECT_NE(cut->warnings.back().find("is compressed and damaged"), std::string::npos) << cut->warnings.back();
}

}  // namespace
}  // namespace mt
