// Memory of which some is known, against memory kept byte by byte in the plainest way, through thousands of accesses made
// at random.
#include <gtest/gtest.h>

#include <map>
#include <optional>
#include <random>

#include "base/text.h"
#include "replay/past_memory.h"
#include "support.h"

namespace mt {
namespace {

// Two pages and a bit: accesses go over the borders of pages, and over those of what is memory.
constexpr std::uint64_t kBegin = 0x3000'0F00, kEnd = 0x3000'3000, kAround = 0x3000'0E00, kBehind = 0x3000'3100;

// The plainest way: each byte, when it was written, and whether it is known.
class PlainMemory {
  public:
    std::optional<std::uint8_t> byte(std::uint64_t at) const {
        const auto found = bytes_.find(at);
        return found == bytes_.end() ? std::nullopt : found->second;
    }
    void write(std::uint64_t at, unsigned bytes, const Known& value) {
        for (unsigned i = 0; i < bytes; ++i, ++at)
            if (at >= kBegin && at < kEnd)
                bytes_[at] = value.known ? std::optional(static_cast<std::uint8_t>(value.value >> (8 * i))) : std::nullopt;
    }
    void forget() { bytes_.clear(); }
    void forget(std::uint64_t begin, std::uint64_t end) {
        for (std::uint64_t at = begin; at < end; ++at) bytes_.erase(at);
    }
    Known read(std::uint64_t at, unsigned bytes) const {
        Known out{0, true};
        for (unsigned i = 0; i < bytes; ++i) {
            const auto b = byte(at + i);
            if (!b) return {};
            out.value |= std::uint64_t{*b} << (8 * i);
        }
        return out;
    }

  private:
    std::map<std::uint64_t, std::optional<std::uint8_t>> bytes_;
};

class RandomAccesses : public testing::TestWithParam<unsigned> {
  protected:
    std::uint64_t somewhere() { return kAround + random() % (kBehind - kAround); }
    std::mt19937_64 random{GetParam()};
    PastMemory memory;
    PlainMemory plain;
};

TEST_P(RandomAccesses, GiveWhatThePlainestMemoryGives) {
    memory.add_memory(kBegin, kEnd);
    std::uint64_t reads = 0, known = 0;
    for (std::uint64_t step = 0; step < 20'000; ++step) {
        const unsigned bytes = 1U << random() % 4;
        const std::uint64_t at = somewhere();
        const unsigned what = random() % 100;
        if (what < 45) {
            const Known value{random(), random() % 5 != 0};
            memory.write(at, bytes, value, step);
            plain.write(at, bytes, value);
        } else if (what == 45 && random() % 20 == 0) {
            memory.forget(step);
            plain.forget();
        } else if (what < 48) {
            const std::uint64_t least = somewhere(), most = least + random() % 300;
            memory.forget(Known::between(least, most), bytes, step);
            plain.forget(least, most + bytes);
        } else {
            const Known is = memory.read(at, bytes), shall = plain.read(at, bytes);
            ++reads;
            known += shall.known ? 1 : 0;
            // It may forget more than it must (many ranges at once), and never less.
            if (is.known) {
                ASSERT_TRUE(shall.known) << "step " << step << ": " << bytes << " bytes at " << hex_text(at);
                ASSERT_EQ(hex_text(is.value, 16), hex_text(shall.value, 16)) << "step " << step << " at " << hex_text(at);
                ASSERT_TRUE(is.set_at == Known::kNever || is.set_at < step);
            }
        }
    }
    EXPECT_GT(reads, 8'000U);
    EXPECT_GT(known, 200U);
}

TEST_P(RandomAccesses, ACopyKeepsWhatItWasACopyOf) {
    memory.add_memory(kBegin, kEnd);
    for (std::uint64_t step = 0; step < 500; ++step) memory.write(somewhere(), 4, {random(), true}, step);
    const PastMemory copy = memory;
    std::map<std::uint64_t, std::optional<std::uint8_t>> before;
    for (std::uint64_t at = kAround; at < kBehind; ++at) before[at] = copy.byte(at);
    PastMemory other = copy;
    for (std::uint64_t step = 500; step < 1500; ++step) {
        PastMemory& one = random() % 2 == 0 ? memory : other;
        const std::uint64_t at = somewhere(), what = random() % 200;
        if (what == 0)
            one.forget(step);
        else if (what < 20)
            one.forget(Known::between(at, at + random() % 400), 4, step);
        else
            one.write(at, 4, {random(), true}, step);
    }
    for (const auto& [at, byte] : before) ASSERT_EQ(copy.byte(at), byte) << hex_text(at);
}

TEST(PastMemoryThatIsForgotten, InAThousandPlacesOneByOneKeepsAllOthers) {
    PastMemory m;
    m.add_memory(kBegin, kEnd);
    for (std::uint64_t at = kBegin; at < kEnd; at += 4) m.write(at, 4, {at, true}, 1);
    for (std::uint64_t at = kBegin; at < kEnd; at += 8) m.forget(Known::between(at, at), 4, 2 + at);
    for (std::uint64_t at = kBegin; at < kEnd; at += 8) {
        ASSERT_FALSE(m.read(at, 4).known);
        ASSERT_EQ(m.read(at, 4).set_at, 2 + at) << "that is when";
        ASSERT_EQ(m.read(at + 4, 4).value, at + 4);
    }
}

TEST(PastMemoryThatIsForgotten, AsAWholeTellsWhenAndIsWrittenAnew) {
    PastMemory m;
    m.add_memory(kBegin, kEnd);
    m.write(kBegin, 4, {1, true}, 1);
    for (std::uint64_t step = 10; step < 20; ++step) m.forget(step);
    EXPECT_FALSE(m.read(kBegin, 4).known);
    EXPECT_EQ(m.read(kBegin, 4).set_at, 19U);
    m.write(kBegin + 4, 4, {2, true}, 20);
    EXPECT_EQ(m.read(kBegin + 4, 4).value, 2U);
    EXPECT_FALSE(m.read(kBegin, 4).known) << "what stood there before does not come back";
    EXPECT_EQ(m.read(kBegin, 4).set_at, 19U);
}

INSTANTIATE_TEST_SUITE_P(Seeds, RandomAccesses, testing::Values(1U, 2U, 3U, 4U),
                         [](const auto& info) { return "Seed" + std::to_string(info.param); });

TEST(PastMemoryBounds, OfAWordHoldUntilAPartOfItIsWritten) {
    PastMemory m;
    m.add_memory(kBegin, kEnd);
    m.write(kBegin, 4, Known::between(10, 20), 5);
    EXPECT_EQ(m.read(kBegin, 4).low, 10U);
    EXPECT_EQ(m.read(kBegin, 4).high, 20U);
    EXPECT_EQ(m.read(kBegin, 4).set_at, 5U);
    EXPECT_EQ(m.read(kBegin, 2).high, 0xFFFF'FFFFU) << "of a part nothing is told";
    m.write(kBegin + 3, 1, {0, true}, 6);
    EXPECT_EQ(m.read(kBegin, 4).high, 0xFFFF'FFFFU);
    m.write(kBegin, 4, Known::between(1, 2), 7);
    m.forget(Known::between(kBegin + 2, kBegin + 2), 1, 8);
    EXPECT_EQ(m.read(kBegin, 4).high, 0xFFFF'FFFFU);
}

TEST(PastMemoryBounds, OfWhatIsNoMemoryAreNotKept) {
    PastMemory m;
    m.add_memory(kBegin, kEnd);
    m.write(kEnd + 16, 4, Known::between(1, 2), 1);
    EXPECT_EQ(m.read(kEnd + 16, 4).high, 0xFFFF'FFFFU);
    m.write(kEnd + 16, 4, {3, true}, 2);
    EXPECT_FALSE(m.read(kEnd + 16, 4).known);
}

TEST(PastMemoryOfAStack, IsMemoryFromWhereTheStackPointerLed) {
    PastMemory m;
    m.write(kEnd, 4, {3, true}, 1);
    EXPECT_FALSE(m.read(kEnd, 4).known);
    m.note_stack(kEnd + 8);
    m.write(kEnd, 4, {3, true}, 2);
    EXPECT_EQ(m.read(kEnd, 4).value, 3U);
}

TEST(PastMemoryRanges, ThatTouchBecomeOneInWhateverOrderTheyCome) {
    const std::vector<std::pair<std::uint64_t, std::uint64_t>> ranges{{0x100, 0x200}, {0x200, 0x280}, {0x300, 0x400}, {0x180, 0x320}, {0x50, 0x60}};
    std::vector<std::size_t> order{0, 1, 2, 3, 4};
    do {
        PastMemory m;
        for (const std::size_t i : order) m.add_memory(ranges[i].first, ranges[i].second);
        for (const std::uint64_t at : {0x50, 0x5F, 0x100, 0x1FF, 0x200, 0x2FF, 0x3FF}) {
            m.write(at, 1, {1, true}, 1);
            ASSERT_TRUE(m.byte(at)) << hex_text(at);
        }
        for (const std::uint64_t at : {0x4F, 0x60, 0xFF, 0x400}) {
            m.write(at, 1, {1, true}, 1);
            ASSERT_FALSE(m.byte(at)) << hex_text(at);
        }
    } while (std::next_permutation(order.begin(), order.end()));
}

// Memory of which nothing is known, and a value that instruction 7 loads from it.
class ValueThatIsNotKnown : public testing::Test {
  protected:
    ValueThatIsNotKnown() { m.add_memory(0x1000, 0x3000); }
    Known loaded(std::uint64_t address, unsigned bytes) {
        const Known v = m.load(address, bytes, 7, 0);
        EXPECT_FALSE(v.known);
        EXPECT_NE(v.origin, 0U) << "it is kept count of";
        return v;
    }
    PastMemory m;
};

TEST_F(ValueThatIsNotKnown, IsKnownInAllItsCopiesOnceOneIs) {
    const Known first = loaded(0x1000, 4);
    EXPECT_EQ(m.load(0x1000, 4, 8, 0).origin, first.origin) << "still the same value";
    m.write(0x2000, 4, first, 9);
    const Known sum = bounds_of_sum(first, Known{5, true}, 0);
    m.write(0x2004, 4, sum, 10);
    m.write(0x2008, 4, first, 11);
    m.write(0x2009, 1, {}, 12);  // part of it is another value now
    m.learn(sum, 0x105);
    EXPECT_EQ(m.read(0x1000, 4).value, 0x100U);
    EXPECT_EQ(m.read(0x2000, 4).value, 0x100U);
    EXPECT_EQ(m.byte(0x2001), 1);
    EXPECT_EQ(m.read(0x2004, 4).value, 0x105U);
    EXPECT_FALSE(m.read(0x2008, 4).known);
    m.forget(20);
    EXPECT_FALSE(m.read(0x2000, 4).known) << "somebody wrote somewhere";
}

TEST_F(ValueThatIsNotKnown, StaysSoWhereWhatIsLearntContradictsItself) {
    const Known v = loaded(0x1000, 4);
    m.learn(v, 1);
    EXPECT_TRUE(m.read(0x1000, 4).known);
    m.learn(v, 2);
    EXPECT_FALSE(m.read(0x1000, 4).known);
    m.learn(v, 1);
    EXPECT_FALSE(m.read(0x1000, 4).known) << "nor later";
}

TEST_F(ValueThatIsNotKnown, OfEightBytesIsFollowedAsOneOnly) {
    const Known v = loaded(0x1008, 8);
    m.learn(v, 0x1122334455667788);
    EXPECT_EQ(m.read(0x1008, 8).value, 0x1122334455667788U);
    EXPECT_EQ(m.read(0x100C, 4).value, 0x11223344U) << "its upper half";
    m.write(0x100C, 4, {}, 9);
    EXPECT_FALSE(m.read(0x1008, 8).known);
    EXPECT_FALSE(m.read(0x1008, 4).known) << "nobody keeps count of a half";
}

}  // namespace
}  // namespace mt
