// Values that were read through a debug server: what a damaged record spoils.
#include <gtest/gtest.h>

#include "support.h"

namespace mt {
namespace {

std::string record(std::uint64_t sent_ns, std::uint32_t took_ns, std::uint32_t which, std::uint64_t value) {
    std::string out;
    const auto put = [&out](std::uint64_t v, int bytes) {
        for (int i = 0; i < bytes; ++i) out += static_cast<char>(v >> 8 * i);
    };
    put(sent_ns, 8);
    put(took_ns, 4);
    put(which, 4);
    put(value, 8);
    return out;
}

TEST(PolledValues, ADamagedTimeSpoilsItsOwnRecordAlone) {
    const test::Folder folder;
    test::write_file(folder / "p.trace", record(1'000'000, 500, 0, 1) + record(2'000'000, 500, 0, 2) + record(std::uint64_t{1} << 51, 500, 0, 3) +
                                             record(4'000'000, 500, 0, 4) + record(500, 500, 0, 5) + record(6'000'000, 500, 9, 6) +
                                             record(7'000'000, 500, 0, 7) + "cut");
    test::write_file(folder / "p.target.toml",
                     "format = \"mindful-trail-target/1\"\nname = \"mount\"\n[[core]]\nname = \"main\"\nisa = \"armv7e-m\"\nclock_hz = "
                     "1_000_000\n[[stream]]\nprotocol = \"polled\"\ncore = \"main\"\nfile = \"p.trace\"\n[stream.polled]\nvalues = [{ name = "
                     "\"axis_error\", address = 0x20000010, type = \"u32\", rate_hz = 1000 }]\n");
    const auto o = test::decode(folder / "p.target.toml");
    ASSERT_EQ(o.trail->tasks.values.size(), 1U);
    const ValueLane& lane = o.trail->tasks.values[0];
    std::vector<std::string> values;
    for (std::size_t i = 0; i < lane.samples.size(); ++i) values.push_back(lane.text(i));
    EXPECT_EQ(values, (std::vector<std::string>{"1", "2", "4", "7"}));
    EXPECT_EQ(lane.samples.back().time, Time::from_us(7000.5)) << "the time of the answer";
    EXPECT_EQ(lane.origin(0).slack_ns, 500U);
    EXPECT_EQ(o.trail->measured[0].odd_bytes, 3 * 24 + 3U);
}

}  // namespace
}  // namespace mt
