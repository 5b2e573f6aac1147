// The board's trace units behave as their documents say: what cannot be written is not, what is locked stays shut, and
// what is sent is what was set.
#include <gtest/gtest.h>

#include <algorithm>

#include "arm_units.h"
#include "itm_writer.h"
#include "mount_core.h"
#include "rv_units.h"

namespace board {
namespace {

constexpr std::uint32_t kItm = 0xE0000000, kDwt = 0xE0001000, kTpiu = 0xE0040000, kEtm = 0xE0041000,
                        kFunnel = 0xE0043000, kTmc = 0xE0044000, kDemcr = 0xE000EDFC, kKey = 0xC5ACCE55;

class TheUnits : public ::testing::Test {
  protected:
    std::uint32_t get(std::uint32_t address) {
        std::uint32_t value = 0;
        EXPECT_TRUE(units.read(address, value)) << std::hex << address;
        return value;
    }
    void put(std::uint32_t address, std::uint32_t value) {
        EXPECT_TRUE(units.write(address, value)) << std::hex << address;
    }
    void unlock(std::initializer_list<std::uint32_t> bases) {
        for (const std::uint32_t base : bases) put(base + 0xFB0, kKey);
    }
    /// Into the buffer, by what the TMC is set to.
    void feed(std::size_t n, std::uint8_t from = 0) {
        std::vector<std::uint8_t> bytes(n);
        for (std::size_t i = 0; i < n; ++i) bytes[i] = static_cast<std::uint8_t>(from + i);
        units.etm_bytes(bytes);
    }
    std::vector<std::uint32_t> drained() {
        std::vector<std::uint32_t> words;
        while ((get(kTmc + 0x00C) & 16) == 0 && words.size() < 5000) words.push_back(get(kTmc + 0x010));
        return words;
    }
    void open_buffer(std::uint32_t mode, std::uint32_t formatter = 0) {
        unlock({kFunnel, kTmc, kEtm});
        put(kEtm + 0x300, 0);
        put(kEtm + 0x040, 2);
        put(kFunnel, 3);
        put(kTmc + 0x028, mode);
        put(kTmc + 0x304, formatter);
        put(kTmc + 0x020, 1);
    }
    ArmUnits units;
};

TEST_F(TheUnits, IgnoreWritesUntilTheyAreUnlocked) {
    put(kItm + 0xE00, 0xFF);
    EXPECT_EQ(get(kItm + 0xE00), 0u);
    EXPECT_EQ(get(kItm + 0xFB4), 3u) << "implemented, locked";
    put(kItm + 0xFB0, 0x12345678);
    put(kItm + 0xE00, 0xFF);
    EXPECT_EQ(get(kItm + 0xE00), 0u) << "the wrong key";
    unlock({kItm});
    put(kItm + 0xE00, 0xFF);
    EXPECT_EQ(get(kItm + 0xE00), 0xFFu);
    put(kItm + 0xFB0, 0);
    put(kItm + 0xE00, 0);
    EXPECT_EQ(get(kItm + 0xE00), 0xFFu) << "shut again";
}

TEST_F(TheUnits, KeepWhatTheyAreReadOnly) {
    unlock({kDwt, kTpiu, kTmc, kItm});
    put(kDwt, 0xFFFFFFFF);
    EXPECT_EQ(get(kDwt) >> 28, 4u) << "four comparators";
    EXPECT_EQ(get(kDwt) & 0x0F000000, 0u) << "what it has not";
    put(kTpiu, 0);
    EXPECT_EQ(get(kTpiu), 0xBu);
    put(kTpiu + 0x004, 4);
    EXPECT_EQ(get(kTpiu + 0x004), 1u) << "three lines there are none of";
    put(kTpiu + 0x0F0, 3);
    EXPECT_EQ(get(kTpiu + 0x0F0), 1u) << "a reserved protocol";
    put(kTmc + 0x004, 7);
    EXPECT_EQ(get(kTmc + 0x004), 1024u);
    put(kItm + 0xFF0, 0);
    EXPECT_EQ(get(kItm + 0xFF0), 0x0Du);
    put(kDwt + 0x024, 0xFF);
    EXPECT_EQ(get(kDwt + 0x024), 0x1Fu) << "five bits of mask";
}

TEST_F(TheUnits, RefuseWhatIsNoWordAndKnowWhereTheyAre) {
    std::uint32_t value = 0;
    EXPECT_FALSE(units.read(kDwt + 2, value));
    EXPECT_FALSE(units.write(kDwt + 1, 0));
    EXPECT_FALSE(units.holds(0x20000000));
    EXPECT_FALSE(units.read(0x20000000, value));
    EXPECT_TRUE(units.holds(kTmc + 0xFFC));
}

TEST_F(TheUnits, TellAMatchOnceAndSilentlyForATrigger) {
    unlock({kDwt, kItm});
    put(kDemcr, 1u << 24);
    put(kItm + 0xE80, 0x9);  // on, with what the DWT tells
    put(kDwt + 0x020, 0x20000010);
    put(kDwt + 0x024, 2);
    put(kDwt + 0x028, 0xD);
    EXPECT_TRUE(units.accessed(0x20000014, 4, true, 1).empty()) << "another word";
    const auto told = units.accessed(0x20000012, 2, true, 1);
    ASSERT_EQ(told.size(), 1u) << "within the four bytes";
    EXPECT_TRUE(told[0].value);
    EXPECT_FALSE(told[0].pc || told[0].address);
    EXPECT_TRUE(units.accessed(0x20000010, 4, false, 1).empty()) << "a read";
    EXPECT_NE(get(kDwt + 0x028) & 1u << 24, 0u) << "MATCHED";
    EXPECT_EQ(get(kDwt + 0x028) & 1u << 24, 0u) << "cleared by reading";
    put(kDwt + 0x028, 0xB);
    EXPECT_TRUE(units.accessed(0x20000010, 4, true, 1).empty()) << "a trigger sends nothing";
    put(kDwt + 0x028, 0x2F);
    const auto both = units.accessed(0x20000010, 4, true, 1);
    ASSERT_EQ(both.size(), 1u);
    EXPECT_TRUE(both[0].value && both[0].address);
    put(kItm + 0xE80, 0x1);
    EXPECT_TRUE(units.accessed(0x20000010, 4, true, 1).empty()) << "nothing passes without TXENA";
}

struct Period {
    std::uint32_t ctrl;
    std::uint64_t samples, sync;
};
class APeriod : public TheUnits, public ::testing::WithParamInterface<Period> {};

TEST_P(APeriod, FollowsTheTapsOfTheCycleCounter) {
    unlock({kDwt, kItm});
    put(kDemcr, 1u << 24);
    put(kItm + 0xE80, 0xF);
    put(kDwt, GetParam().ctrl);
    EXPECT_EQ(units.sample_period(), GetParam().samples);
    EXPECT_EQ(units.sync_period(), GetParam().sync);
}

INSTANTIATE_TEST_SUITE_P(Taps, APeriod,
                         ::testing::Values(Period{0, 0, 0}, Period{1u << 12 | 1, 64, 0},
                                           Period{1u << 12 | 15u << 1 | 1, 1024, 0},
                                           Period{1u << 12 | 1u << 9 | 3u << 1 | 1, 4096, 0}, Period{1u << 12, 0, 0},
                                           Period{1u << 10 | 1, 0, 1u << 24}, Period{3u << 10 | 1, 0, 1u << 28},
                                           Period{1u << 10, 0, 0}));

TEST_F(TheUnits, DivideTheClockForTheLine) {
    unlock({kTpiu});
    put(kTpiu + 0x0F0, 2);
    put(kTpiu + 0x010, 59);
    EXPECT_EQ(units.bytes_per_s(120'000'000), 200'000u) << "2 MBaud, ten bits a byte";
    put(kTpiu + 0x0F0, 1);
    EXPECT_EQ(units.bytes_per_s(120'000'000), 125'000u) << "Manchester has two edges a bit";
    put(kTpiu + 0x0F0, 0);
    put(kTpiu + 0x004, 8);
    EXPECT_EQ(units.bytes_per_s(120'000'000), 60'000'000u) << "four lines";
}

TEST_F(TheUnits, KeepTheNewestInACircularBuffer) {
    open_buffer(0);
    feed(4096);
    feed(8, 0xA0);
    put(kTmc + 0x304, 1u << 12 | 1u << 6);  // stop with a flush by hand
    EXPECT_EQ(get(kTmc + 0x00C) & 5u, 5u) << "full and ready";
    const auto words = drained();
    ASSERT_EQ(words.size(), 1024u);
    EXPECT_EQ(words.front(), 0x0B0A0908u) << "the oldest eight bytes are gone";
    EXPECT_EQ(words.back(), 0xA7A6A5A4u);
    EXPECT_EQ(get(kTmc + 0x010), 0xFFFFFFFFu) << "nothing is left";
}

TEST_F(TheUnits, TakeNoMoreWhenASoftwareFifoIsFull) {
    open_buffer(1);
    feed(4096);
    feed(64, 0xA0);
    EXPECT_EQ(get(kTmc + 0x030), 1024u) << "the level";
    put(kTmc + 0x304, 1u << 12 | 1u << 6);
    const auto words = drained();
    ASSERT_EQ(words.size(), 1024u);
    EXPECT_EQ(words.front(), 0x03020100u) << "the oldest is kept";
}

TEST_F(TheUnits, StopSoManyWordsBehindATrigger) {
    open_buffer(0, 1u << 8 | 1u << 13);
    put(kTmc + 0x01C, 4);
    unlock({kDwt});
    put(kDwt + 0x020, 0x08000100);
    put(kDwt + 0x028, 8);              // a trigger at an instruction
    put(kEtm + 0x208, 1u << 16 | 1u);  // resource 2: the core's comparator 0
    put(kEtm + 0x020, 2);              // event 0 is it …
    put(kEtm + 0x024, 1u << 11);       // … and goes along the trace bus
    put(kEtm + 0x080, 0x201);
    put(kEtm + 0x004, 1);
    feed(64);
    EXPECT_TRUE(units.view(0x08000080, 0x080000FE));
    EXPECT_EQ(get(kTmc + 0x00C) & 2u, 0u);
    EXPECT_TRUE(units.view(0x080000F0, 0x08000110));
    EXPECT_EQ(get(kTmc + 0x00C) & 2u, 2u) << "triggered";
    feed(64, 0x80);
    const auto words = drained();
    ASSERT_EQ(words.size(), 20u) << "sixteen words before, four behind";
    EXPECT_EQ(words.back(), 0x8F8E8D8Cu);
}

TEST_F(TheUnits, TraceBetweenStartAndStopAndInRangesAlone) {
    unlock({kEtm});
    put(kEtm + 0x300, 0);
    put(kEtm + 0x400, 0x08000100);  // comparator 0
    put(kEtm + 0x408, 0x08000200);
    put(kEtm + 0x088, 1u | 2u << 16);
    put(kEtm + 0x080, 1);
    put(kEtm + 0x004, 1);
    EXPECT_FALSE(units.view(0x08000000, 0x08000010)) << "not started";
    EXPECT_TRUE(units.view(0x08000100, 0x08000110));
    EXPECT_TRUE(units.view(0x08000000, 0x08000010));
    EXPECT_FALSE(units.view(0x08000200, 0x08000204));
    put(kEtm + 0x004, 0);
    put(kEtm + 0x088, 0);
    put(kEtm + 0x084, 1);
    put(kEtm + 0x080, 0x201);
    put(kEtm + 0x004, 1);
    EXPECT_TRUE(units.view(0x080001F0, 0x08000204)) << "touches the range";
    EXPECT_FALSE(units.view(0x08000202, 0x08000210));
}

TEST_F(TheUnits, TakeSettingsOfTheTraceUnitOnlyWhileItIsOff) {
    unlock({kEtm});
    put(kEtm + 0x010, 1u << 11);
    EXPECT_EQ(get(kEtm + 0x010), 0u) << "the OS lock is on";
    put(kEtm + 0x300, 0);
    put(kEtm + 0x010, 0xFFFFFFFF);
    EXPECT_EQ(get(kEtm + 0x010), 1u << 11 | 1u << 12) << "only what it has: timestamps and return stack";
    EXPECT_EQ(get(kEtm + 0x00C) & 1u, 1u) << "idle";
    put(kEtm + 0x004, 1);
    EXPECT_EQ(get(kEtm + 0x00C) & 1u, 0u);
    put(kEtm + 0x034, 12);
    EXPECT_EQ(get(kEtm + 0x034), 0u) << "not while it works";
    EXPECT_TRUE(units.etm_on());
}

TEST_F(TheUnits, LetNothingThroughThatIsNotOnTheWay) {
    std::vector<std::uint8_t> out;
    unlock({kFunnel, kTmc, kTpiu});
    const std::vector<std::uint8_t> bytes(64, 0x55);
    put(kTpiu + 0x304, 0x100);
    units.itm_bytes(bytes);
    units.drain(out);
    EXPECT_TRUE(out.empty()) << "the funnel is shut and the buffer is off";
    put(kFunnel, 1);
    put(kTmc + 0x028, 2);
    put(kTmc + 0x020, 1);
    units.itm_bytes(bytes);
    units.drain(out);
    EXPECT_EQ(out, bytes);
    out.clear();
    units.etm_bytes(bytes);
    units.drain(out);
    EXPECT_TRUE(out.empty()) << "the ETM's input is shut";
}

TEST_F(TheUnits, FrameWhatGoesOverThePortAndBeginWithASynchronisation) {
    unlock({kFunnel, kTmc, kTpiu, kItm});
    put(kItm + 0xE80, 5u << 16);
    put(kFunnel, 3);
    put(kTmc + 0x028, 2);
    put(kTmc + 0x020, 1);
    put(kTpiu + 0x304, 0x102);
    units.itm_bytes(std::vector<std::uint8_t>(300, 0xA5));
    std::vector<std::uint8_t> out;
    units.drain(out);
    ASSERT_GT(out.size(), 300u);
    EXPECT_EQ((std::vector<std::uint8_t>(out.begin(), out.begin() + 4)),
              (std::vector<std::uint8_t>{0xFF, 0xFF, 0xFF, 0x7F}));
    EXPECT_EQ(out[4], 5u << 1 | 1) << "the ID comes first";
}

TEST(TheLine, DatesPacketsByTheTickThatIsSet) {
    for (const unsigned prescaler : {0u, 1u, 4u, 16u, 64u}) {
        ItmWriter writer(120'000'000, 24'000'000);
        writer.set(2'400'000, 120'000'000, prescaler);
        std::uint64_t cycle = 0;
        for (int i = 0; i < 50; ++i) writer.exception(cycle += 6400, 17, i % 2 == 0 ? 1 : 2);
        writer.flush(cycle + 1000);
        std::uint64_t ticks = 0, stamps = 0;
        const auto& b = writer.bytes();
        for (std::size_t i = 0; i < b.size();) {
            if (b[i] == 0x0E) {
                i += 3;
                continue;
            }
            ++stamps;  // D4.2.4, format 1: a header, then up to four bytes of seven bits
            ASSERT_EQ(b[i] & 0xCF, 0xC0) << "offset " << i;
            std::uint64_t value = 0;
            unsigned shift = 0;
            do {
                value |= static_cast<std::uint64_t>(b[++i] & 0x7F) << shift;
                shift += 7;
            } while ((b[i] & 0x80) != 0);
            ++i;
            ticks += value;
        }
        EXPECT_EQ(stamps, prescaler == 0 ? 0u : 50u);
        if (prescaler > 0) EXPECT_EQ(ticks * prescaler, 50u * 6400u) << "a tick each " << prescaler;
    }
}

class TheCoProcessorsUnits : public ::testing::Test {
  protected:
    std::uint32_t get(std::uint32_t address) {
        std::uint32_t value = 0;
        EXPECT_TRUE(units.read(address, value));
        return value;
    }
    void put(std::uint32_t address, std::uint32_t value) { EXPECT_TRUE(units.write(address, value)); }
    /// Encoder and funnel on, into the RAM sink.
    void trace_to_ram(std::uint32_t sink) {
        put(RvUnits::kFunnel, 1);
        put(RvUnits::kFunnel, 3);
        put(RvUnits::kRamSink, 1);
        put(RvUnits::kRamSink, sink);
        put(RvUnits::kEncoder, 1);
        put(RvUnits::kEncoder, 7 | 6u << 4);
    }
    std::shared_ptr<const mt::Image> image = mt::Image::open(MT_DEMO "/larkspur-cop.elf").value();
    RvCore core{image, 1};
    RvUnits units{core};
};

TEST_F(TheCoProcessorsUnits, AnswerOnceTheyAreAwakeAndForgetAsleep) {
    put(RvUnits::kFunnel + 0x008, 0xFFFF);
    EXPECT_EQ(get(RvUnits::kFunnel + 0x008), 0u) << "asleep";
    put(RvUnits::kFunnel, 1);
    put(RvUnits::kFunnel + 0x008, 0x5);
    EXPECT_EQ(get(RvUnits::kFunnel + 0x008), 5u);
    put(RvUnits::kEncoder, 7 | 6u << 4);
    put(RvUnits::kEncoder, 0x70);
    EXPECT_EQ(get(RvUnits::kEncoder) & ~8u, 0u) << "without trTeActive nothing is kept";
    EXPECT_EQ(get(RvUnits::kEncoder + 4), 1u | 1u << 8) << "an encoder of version 1.0";
    put(RvUnits::kEncoder + 4, 0);
    EXPECT_EQ(get(RvUnits::kEncoder + 4), 1u | 1u << 8);
}

TEST_F(TheCoProcessorsUnits, HaveFourComparatorsAndSixOptionalModes) {
    put(RvUnits::kEncoder, 1);
    put(RvUnits::kEncoder + 0x00C, 0xFFFF);
    EXPECT_EQ(get(RvUnits::kEncoder + 0x00C), 0xFu);
    put(RvUnits::kEncoder + 0x008, 0xFFFFFFFF);
    EXPECT_EQ(get(RvUnits::kEncoder + 0x008), 63U) << "all that trTeInstFeatures names up to the cache of jump targets";
    put(RvUnits::kEncoder + 0x600 + 4 * 0x20, 1);
    EXPECT_EQ(get(RvUnits::kEncoder + 0x600 + 4 * 0x20), 0u) << "a fifth comparator there is not";
}

TEST_F(TheCoProcessorsUnits, WrapTheirMemoryOrStopAtItsEnd) {
    trace_to_ram(3);
    core.run(400'000);
    EXPECT_EQ(get(RvUnits::kRamSink + 0x020) & 1u, 1u) << "wrapped";
    EXPECT_EQ(get(RvUnits::kRamSink) & 2u, 2u) << "and goes on";
    put(RvUnits::kRamSink, 1);
    put(RvUnits::kRamSink + 0x020, 0);
    put(RvUnits::kRamSink, 3 | 1u << 8);
    core.run(400'000);
    EXPECT_EQ(get(RvUnits::kRamSink + 0x020), 1u) << "stopped where it wrapped";
    EXPECT_EQ(get(RvUnits::kRamSink) & 2u, 0u) << "says that it is off";
}

TEST_F(TheCoProcessorsUnits, ReadTheirMemoryWordByWord) {
    trace_to_ram(3 | 1u << 8);
    core.run(400'000);
    put(RvUnits::kRamSink + 0x028, 0);
    std::vector<std::uint32_t> once, again;
    for (int i = 0; i < 1024; ++i) once.push_back(get(RvUnits::kRamSink + 0x040));
    for (int i = 0; i < 1024; ++i) again.push_back(get(RvUnits::kRamSink + 0x040));
    EXPECT_EQ(once, again) << "the read pointer wraps";
    EXPECT_GT(std::count_if(once.begin(), once.end(), [](std::uint32_t w) { return w != 0; }), 900);
}

TEST_F(TheCoProcessorsUnits, SayNothingWithoutASinkOrOutsideOfAFilter) {
    std::vector<std::uint8_t> out;
    put(RvUnits::kFunnel, 3);
    put(RvUnits::kEncoder, 7 | 6u << 4);
    core.run(100'000);
    units.drain(out);
    EXPECT_TRUE(out.empty()) << "no sink";
    put(RvUnits::kPinSink, 3 | 5u << 4);
    units.listened(true);
    units.drain(out);
    core.run(100'000);
    units.drain(out);
    EXPECT_GT(out.size(), 500u);
    out.clear();
    put(RvUnits::kEncoder + 0x610, 0x10);  // a range where no code is
    put(RvUnits::kEncoder + 0x618, 0x20);
    put(RvUnits::kEncoder + 0x600, 5u << 4 | 3u << 12 | 1u << 16);
    put(RvUnits::kEncoder + 0x400, 1u | 1u << 4);
    put(RvUnits::kEncoder + 0x00C, 1);
    core.run(100);
    units.drain(out);
    out.clear();
    core.run(100'000);
    units.drain(out);
    EXPECT_TRUE(out.empty()) << "nothing runs there";
}

TEST(TheMainCore, SendsNothingUnlessItIsSetAndWhatItsFirmwareSets) {
    const auto image = mt::Image::open(MT_DEMO "/larkspur.elf").value();
    MountOptions options;
    options.seconds = 1e6;
    options.fault_at = 2e6;
    for (const bool bare : {true, false}) {
        MountCore core(image, options, bare, {});
        for (int i = 0; i < 100; ++i) (void)core.run(240'000);
        std::vector<std::uint8_t> out;
        core.drain(out);
        EXPECT_EQ(out.empty(), bare);
        std::uint32_t tcr = 0;
        ASSERT_TRUE(core.units().read(0xE0000E80, tcr));
        EXPECT_EQ((tcr & 1) != 0, !bare);
    }
}

}  // namespace
}  // namespace board
