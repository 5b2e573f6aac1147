#include "base/digits.h"

#include <gtest/gtest.h>

#include <random>
#include <string>

namespace mt {
namespace {

struct Taken {
    unsigned count;
    std::uint64_t value;
    std::size_t left;  ///< characters behind
    bool operator==(const Taken&) const = default;
};
std::ostream& operator<<(std::ostream& out, const Taken& t) { return out << t.count << " digits, " << t.value << ", " << t.left << " left"; }

Taken taken(const std::string& text, std::uint64_t before = 0) {
    const std::string exact(text);  // no byte behind it may be read
    const char* at = exact.data();
    Taken t{0, before, 0};
    t.count = take_digits(at, exact.data() + exact.size(), t.value);
    t.left = static_cast<std::size_t>(exact.data() + exact.size() - at);
    return t;
}

TEST(Digits, EndAtWhatIsNone) {
    EXPECT_EQ(taken(""), (Taken{0, 0, 0}));
    EXPECT_EQ(taken("abc"), (Taken{0, 0, 3}));
    EXPECT_EQ(taken("7"), (Taken{1, 7, 0}));
    EXPECT_EQ(taken("12;345678901"), (Taken{2, 12, 10}));
    EXPECT_EQ(taken("00000000\n"), (Taken{8, 0, 1}));
    EXPECT_EQ(taken("12345678"), (Taken{8, 12'345'678, 0}));
    EXPECT_EQ(taken("123456789012345 "), (Taken{15, 123'456'789'012'345, 1}));
    EXPECT_EQ(taken("-1"), (Taken{0, 0, 2}));
    for (const char* other : {"/", ":", "\x80", "\xB1", "\xFF", "p"}) EXPECT_EQ(taken(std::string("1") + other + "2345678").count, 1U) << other;
}

TEST(Digits, AreAppendedToWhatWasReadBefore) { EXPECT_EQ(taken("0625", 12), (Taken{4, 120'625, 0})); }

TEST(Digits, SixteenAtTheMostAreTaken) {
    EXPECT_EQ(taken("99999999999999999999"), (Taken{16, 9'999'999'999'999'999, 4}));
}

TEST(Digits, AnyNumberInAnySurroundingsIsRead) {
    std::mt19937_64 random(3);
    for (int turn = 0; turn < 5'000; ++turn) {
        const std::uint64_t value = random() >> (11 + random() % 53);
        const std::string digits = std::to_string(value);
        std::string behind;
        for (std::size_t i = random() % 12; i > 0; --i) behind += static_cast<char>(random());
        if (!behind.empty() && behind[0] >= '0' && behind[0] <= '9') behind[0] = ' ';
        ASSERT_EQ(taken(digits + behind), (Taken{static_cast<unsigned>(digits.size()), value, behind.size()})) << digits;
    }
}

}  // namespace
}  // namespace mt
