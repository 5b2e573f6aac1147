// What a program sends through its instruction trace (RISC-V N-Trace 1.0, data acquisition messages) becomes values and
// text with times, and changes nothing of what is told of its instructions.
#include <gtest/gtest.h>

#include <filesystem>

#include "ntrace_bytes.h"
#include "support.h"

namespace mt {
namespace {

std::vector<std::uint8_t> message(std::uint32_t tag, std::uint64_t value) {
    return test::NtraceBytes().fixed(7, 6).variable(tag).variable(value).variable(0).end();  // and no time since the one before
}

class DataInTheTrace : public testing::Test {
  protected:
    /// The recording with messages between its own, each so many: (tag, value) in turn.
    test::Opened with(const std::vector<std::pair<std::uint32_t, std::uint64_t>>& sent, std::size_t each,
                      const std::string& ports) {
        const std::string from = MT_DATA "/steps/rv-ntrace-mount-btm";
        std::filesystem::copy(from, folder / "r", std::filesystem::copy_options::recursive);
        std::filesystem::copy(MT_DATA "/steps/mount-cop.elf", folder / "mount-cop.elf");
        const auto packed = MappedFile::open({from + "/trace.bin"});
        EXPECT_TRUE(packed);
        std::vector<std::uint8_t> out;
        std::size_t messages = 0, next = 0;
        for (const std::uint8_t b : (*packed)->bytes()) {
            out.push_back(b);
            if ((b & 3) != 3 || ++messages % each != 0 || sent.empty()) continue;  // MSEO 11 ends a message
            const auto [tag, value] = sent[next++ % sent.size()];
            const auto bytes = message(tag, value);
            out.insert(out.end(), bytes.begin(), bytes.end());
        }
        inserted = next;
        test::write_file(folder / "r/trace.bin", std::string(out.begin(), out.end()));
        const std::string target = folder / "r/recording.target.toml";
        test::write_file(target, test::read_text(target) + ports);
        return test::decode(target);
    }
    static const ValueLane* lane(const test::Opened& o, const std::string& name) {
        for (const ValueLane& l : o.trail->tasks.values)
            if (l.name == name) return &l;
        return nullptr;
    }
    test::Folder folder;
    std::size_t inserted = 0;
};

TEST_F(DataInTheTrace, BecomesAValueOfEachTagAndLeavesTheStepsAsTheyWere) {
    const auto plain = test::decode(MT_DATA "/steps/rv-ntrace-mount-btm/recording.target.toml");
    const auto o = with({{3, 10}, {9, 0xFFFF'FFFE}, {3, 20}}, 50,
                        "\n[[port]]\nnumber = 3\nname = \"state\"\ntype = \"u8\"\nnames = { 10 = \"slew\", 20 = \"track\" }\n"
                        "[[port]]\nnumber = 9\nname = \"axis_error\"\ntype = \"i32\"\n");
    ASSERT_GT(inserted, 100U);
    EXPECT_EQ(o.trail->steps[0].steps, plain.trail->steps[0].steps);
    EXPECT_EQ(o.trail->steps[0].gaps.size(), plain.trail->steps[0].gaps.size());
    EXPECT_EQ(o.trail->steps[0].bad_bytes, plain.trail->steps[0].bad_bytes);
    const ValueLane *state = lane(o, "state"), *error = lane(o, "axis_error");
    ASSERT_NE(state, nullptr);
    ASSERT_NE(error, nullptr);
    EXPECT_NEAR(static_cast<double>(state->samples.size() + error->samples.size()), static_cast<double>(inserted), 3)
        << "but those before the first synchronisation";
    EXPECT_EQ(error->value(0).text(), "-2");
    for (std::size_t i = 1; i < state->samples.size(); ++i) {
        EXPECT_EQ(state->text(i), state->text(i - 1) == "slew" ? "track" : "slew") << i;
        EXPECT_LE(state->samples.time(i - 1), state->samples.time(i));
    }
    EXPECT_GT(state->samples.back().time, state->samples.time(0));
    EXPECT_LE(state->samples.back().time, o.trail->end);
}

TEST_F(DataInTheTrace, OfAPortOfTextIsText) {
    const std::string said = "ok\n";
    std::vector<std::pair<std::uint32_t, std::uint64_t>> sent;
    for (const char c : said) sent.emplace_back(1, static_cast<std::uint64_t>(c));
    const auto o = with(sent, 40, "\n[[port]]\nnumber = 1\nname = \"words\"\nkind = \"text\"\n");
    const TextLog* words = nullptr;
    for (const TextLog& log : o.trail->texts)
        if (log.name == "words") words = &log;
    ASSERT_NE(words, nullptr);
    ASSERT_GT(words->size(), 10U);
    for (std::size_t i = 1; i + 1 < words->size(); ++i) EXPECT_EQ(words->raw(i), "ok") << i;
}

TEST_F(DataInTheTrace, OfMoreTagsThanAnyProgramHasIsBoundedAndSaid) {
    std::vector<std::pair<std::uint32_t, std::uint64_t>> sent;
    for (std::uint32_t tag = 0; tag < 3000; ++tag) sent.emplace_back(tag, tag);
    const auto o = with(sent, 2, "");
    ASSERT_GT(inserted, 2000U);
    EXPECT_LE(o.trail->tasks.values.size(), 1024U);
    bool said = false;
    for (const Doubt& d : o.trail->doubts) said = said || d.text.find("different tags") != std::string::npos;
    EXPECT_TRUE(said);
    EXPECT_EQ(lane(o, "data 7")->value(0).text(), "7");
}

}  // namespace
}  // namespace mt
