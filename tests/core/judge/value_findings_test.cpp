// Findings of values: what left its range, rests, jumps, is written by somebody else, got lost; pins that move alone.
#include <gtest/gtest.h>

#include <cmath>

#include "itm_writer.h"
#include "judge/finding.h"
#include "support.h"

namespace mt {
namespace {

constexpr std::uint64_t kMs = 120'000;  // cycles

const Finding* found(const std::vector<Finding>& all, FindingKind kind) {
    for (const Finding& f : all)
        if (f.kind == kind) return &f;
    return nullptr;
}

// A mount that does nothing but a tick each millisecond, and what a test adds to it.
class ValueFindings : public ::testing::Test {
  protected:
    static constexpr int kTicks = 2000;
    template <class Each>
    std::vector<Finding> judge(Each each) {
        board::ItmWriter itm(120'000'000, 24'000'000);
        itm.sync(0);
        for (int i = 0; i < kTicks; ++i) {
            const std::uint64_t at = static_cast<std::uint64_t>(i) * kMs + 1000;
            itm.exception(at, 17, 1);
            each(itm, i, at + 240);
            itm.exception(at + 1200, 17, 2);
            itm.exception(at + 1212, 0, 3);
        }
        itm.flush(kTicks * kMs);
        opened = test::decode_bytes(folder, itm.bytes(), "120_000_000",
                                    "[[watch]]\ncomparator = 1\naddress = 0x20000000\ntype = \"i16\"\n" + more);
        return find_all(*opened.recording, *opened.trail);
    }
    test::Folder folder;
    std::string more;
    test::Opened opened;
};

std::uint32_t word(int v) { return static_cast<std::uint16_t>(static_cast<std::int16_t>(v)); }
int sway(int i) { return static_cast<int>(40 * std::sin(i / 7.0)) + i % 3; }

TEST_F(ValueFindings, AHealthyValueHasNone) {
    const auto all = judge([](auto& itm, int i, std::uint64_t at) { itm.data_write(at, 1, word(sway(i)), 2); });
    for (const Finding& f : all) ADD_FAILURE() << f.title << ": " << f.cause;
}

TEST_F(ValueFindings, AValueFarOutsideOfItsRangeIsOne) {
    const auto all =
        judge([](auto& itm, int i, std::uint64_t at) { itm.data_write(at, 1, word(i == 1234 ? 900 : sway(i)), 2); });
    const Finding* f = found(all, FindingKind::value_outlier);
    ASSERT_NE(f, nullptr);
    EXPECT_EQ(f->title, "0x20000000 was 900");
    EXPECT_NE(f->cause.find("samples lie between -39 and 41. interrupt 1 wrote it."), std::string::npos) << f->cause;
    EXPECT_NEAR(f->begin.seconds(), 1.234, 0.001);
    EXPECT_EQ(all.size(), 1U);
}

TEST_F(ValueFindings, AValueThatIsUsualButForOneByteMayHaveBeenDisturbedOnItsWay) {
    more = "[[watch]]\ncomparator = 2\naddress = 0x20000010\ntype = \"u32\"\n";
    const auto all = judge([](auto& itm, int i, std::uint64_t at) {
        const auto count = static_cast<std::uint32_t>(i % 90 + 10);
        itm.data_write(at, 2, i == 1234 ? count | 0x0200'0000U : count, 4);
    });
    EXPECT_EQ(found(all, FindingKind::value_outlier), nullptr);
    const Finding* f = found(all, FindingKind::disturbed_sample);
    ASSERT_NE(f, nullptr);
    EXPECT_EQ(f->title, "0x20000010 was 33554506 once, perhaps by a disturbed line");
    EXPECT_NE(f->cause.find("but for a single byte"), std::string::npos) << f->cause;
}

TEST_F(ValueFindings, ThatTellsNothingWhereThePacketsContradictEachOther) {
    const auto all = judge([](auto& itm, int i, std::uint64_t at) {
        itm.data_write(at, 1, word(i == 1234 ? 900 : sway(i)), 2);
        if (i == 700) itm.exception(at + 100, 22, 3);  // returns to what never began
    });
    EXPECT_EQ(found(all, FindingKind::value_outlier), nullptr);
}

TEST_F(ValueFindings, AValueThatRestsThoughItIsWrittenIsOne) {
    const auto all = judge(
        [](auto& itm, int i, std::uint64_t at) { itm.data_write(at, 1, word(sway(std::min(i, 1500))), 2); });
    const Finding* f = found(all, FindingKind::value_stuck);
    ASSERT_NE(f, nullptr);
    EXPECT_NE(f->cause.find("up to the end of the recording"), std::string::npos) << f->cause;
    EXPECT_NEAR(f->begin.seconds(), 1.5, 0.002);
}

TEST_F(ValueFindings, AJumpFarBeyondItsStepsIsOne) {
    // It walks about widely and slowly, and once leaps from one end to the other.
    const auto walk = [](int i) { return static_cast<int>(3000 * std::sin((i < 1000 ? i : i + 628) / 200.0)) + i % 2; };
    const auto all = judge([&](auto& itm, int i, std::uint64_t at) { itm.data_write(at, 1, word(walk(i)), 2); });
    const Finding* f = found(all, FindingKind::value_jump);
    ASSERT_NE(f, nullptr);
    EXPECT_NEAR(f->begin.seconds(), 1.0, 0.002);
}

TEST_F(ValueFindings, ACounterThatWrapsIsNone) {
    const auto all = judge([](auto& itm, int i, std::uint64_t at) { itm.data_write(at, 1, word(i * 20), 2); });
    EXPECT_EQ(found(all, FindingKind::value_jump), nullptr);
}

TEST_F(ValueFindings, AWriterWhoElseNeverWritesIsOne) {
    const auto all = judge([](auto& itm, int i, std::uint64_t at) {
        itm.data_write(at, 1, word(sway(i)), 2);
        if (i != 1300) return;
        itm.exception(at + 240, 19, 1);
        itm.data_write(at + 480, 1, word(sway(i) + 1), 2);
        itm.exception(at + 600, 19, 2);
        itm.exception(at + 612, 17, 3);
    });
    const Finding* f = found(all, FindingKind::odd_writer);
    ASSERT_NE(f, nullptr) << "of " << all.size();
    EXPECT_NE(f->title.find("interrupt 3"), std::string::npos) << f->title;
    EXPECT_NE(f->cause.find("interrupt 1"), std::string::npos) << f->cause;
}

TEST_F(ValueFindings, AnUpdateThatWasLostIsOne) {
    // The tick reads and writes; once another handler cuts in between and writes too.
    const auto all = judge([](auto& itm, int i, std::uint64_t at) {
        itm.data(at, 1, false, word(sway(i)), 2);
        if (i == 700) {
            itm.exception(at + 240, 16, 1);
            itm.data(at + 360, 1, true, word(77), 2);
            itm.exception(at + 600, 16, 2);
            itm.exception(at + 612, 17, 3);
        }
        itm.data(at + 840, 1, true, word(sway(i) + 1), 2);
    });
    const Finding* f = found(all, FindingKind::lost_update);
    ASSERT_NE(f, nullptr);
    EXPECT_NE(f->cause.find("cut in and wrote 77"), std::string::npos) << f->cause;
    EXPECT_NEAR(f->begin.seconds(), 0.7, 0.002);
}

class Lines : public ValueFindings {
  protected:
    // A line that moves with each tick, as a value change dump; `extra`: us at which it moves besides.
    std::vector<Finding> with_line(const std::vector<double>& extra, double ppm = 0) {
        std::vector<double> edges;
        for (int i = 0; i < kTicks; ++i) edges.push_back(i * 1000.0 + 1000 / 120.0 + (i % 5) * 0.2);
        edges.insert(edges.end(), extra.begin(), extra.end());
        std::sort(edges.begin(), edges.end());
        std::string vcd = "$timescale 1 ns $end $var wire 1 ! STEP $end $enddefinitions $end\n#0\n0!\n";
        for (std::size_t i = 0; i < edges.size(); ++i)
            vcd += "#" + std::to_string(static_cast<long long>(edges[i] * (1000 + ppm / 1000))) + "\n" +
                   std::to_string((i + 1) % 2) + "!\n";
        test::write_file(folder / "line.vcd", vcd);
        more = "[[signals]]\nfile = \"line.vcd\"\noffset_ns = 0\ndrift_ppm = " + std::to_string(ppm) + "\n";
        return judge([](auto&&...) {});
    }
};

TEST_F(Lines, ThatMoveWithTheirHandlerHaveNone) {
    for (const Finding& f : with_line({})) ADD_FAILURE() << f.title << ": " << f.cause;
}

TEST_F(Lines, ThatMoveOnceWithoutItHaveOne) {
    const auto all = with_line({1'500'400, 1'500'402});
    const Finding* f = found(all, FindingKind::stray_edge);
    ASSERT_NE(f, nullptr) << "of " << all.size();
    EXPECT_EQ(f->title, "STEP moved without interrupt 1");
    EXPECT_NEAR(f->begin.seconds(), 1.5004, 1e-5);
}

}  // namespace
}  // namespace mt
