// Values as a table, held against recordings whose values are known.
#include <gtest/gtest.h>

#include <algorithm>
#include <map>
#include <sstream>

#include "base/mapped_file.h"
#include "share/value_tables.h"
#include "support.h"

namespace mt {
namespace {

std::vector<std::string> fields(const std::string& line) {
    std::vector<std::string> all;
    std::istringstream in(line);
    for (std::string f; std::getline(in, f, ',');) all.push_back(f);
    return all;
}

struct Known {
    const char* folder;
    double ns_per_tick;
};
class ValuesOfARecording : public ::testing::TestWithParam<Known> {};

TEST_P(ValuesOfARecording, AreThoseThatTheFirmwareWroteAndRead) {
    const std::string folder = std::string(MT_DATA "/") + GetParam().folder;
    const auto file = MappedFile::open(folder + "/values.csv.xz");
    ASSERT_TRUE(file) << file.error().text();
    const auto bytes = (*file)->bytes();
    // name, signed value, access, address of the instruction, time in ticks
    std::multimap<std::string, std::string> wanted;
    std::size_t count = 0;
    for (const std::string& line : test::lines({bytes.begin(), bytes.end()})) {
        auto f = fields(line);
        f.resize(6);
        if (f[2] != "write" && f[2] != "read") continue;
        std::uint64_t bits = std::stoull(f[3], nullptr, 16);
        std::string value = std::to_string(bits);
        if (f[0] == "axis_error") value = std::to_string(static_cast<std::int16_t>(bits));
        const double ns = std::stod(f[5]) * GetParam().ns_per_tick;
        char time[32];
        std::snprintf(time, sizeof time, "%.0f", ns);
        wanted.emplace(f[0], value + " " + f[2] + " " + f[4] + " " + time);
        ++count;
    }
    ASSERT_GT(count, 5000U);
    const auto opened = test::decode(folder + "/mount.target.toml");
    std::ostringstream out;
    write_values_csv(*opened.trail, {}, out);
    std::multimap<std::string, std::string> got;
    for (const std::string& line : test::lines(out.str())) {
        auto f = fields(line);
        f.resize(6);
        if (f[0] == "time_ns" ||
            (f[2] != "axis_error" && f[2] != "guide_state" && f[2] != "step_total" && f[2] != "current_task"))
            continue;
        char time[32];
        std::snprintf(time, sizeof time, "%.0f", std::stod(f[0]));
        got.emplace(f[2], f[3] + " " + f[4] + " " + f[5] + " " + time);
    }
    for (const char* name : {"axis_error", "guide_state", "step_total", "current_task"}) {
        std::vector<std::string> a, b;
        for (auto [from, to] = wanted.equal_range(name); from != to; ++from) a.push_back(from->second);
        for (auto [from, to] = got.equal_range(name); from != to; ++from) b.push_back(from->second);
        EXPECT_EQ(b.size(), a.size()) << name;
        EXPECT_EQ(b, a) << name;
    }
}

INSTANTIATE_TEST_SUITE_P(Both, ValuesOfARecording,
                         ::testing::Values(Known{"mount", 1e9 / 72e6}, Known{"mount-framed", 4e9 / 72e6}));

}  // namespace
}  // namespace mt
