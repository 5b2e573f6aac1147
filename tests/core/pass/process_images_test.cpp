// Processes that bring programs of their own: the kernel's image apart from the programs', each of them the whole, and one
// that contradicts. Made of a recording whose image holds all of it.
#include <gtest/gtest.h>

#include <cstdlib>
#include <set>

#include "measure/functions.h"
#include "replay/step_window.h"
#include "support.h"

namespace mt {
namespace {

std::string whole_image() { return test::data("steps/mount-a53.elf"); }

class ProgramsOfProcesses : public ::testing::Test {
  protected:
    // Without some sections of the image.
    std::string without(const std::string& name, const std::string& sections) const {
        const std::string file = folder / name;
        EXPECT_EQ(std::system(("llvm-objcopy-14 " + sections + " '" + whole_image() + "' '" + file + "'").c_str()), 0);
        return file;
    }
    // The recording with `kernel` as the core's image, and `program` as that of each process.
    test::Opened opened(const std::string& kernel, const std::string& program) const {
        std::string text = test::read_text(recorded);
        const std::string image = "\"../mount-a53.elf\"";
        text.replace(text.find(image), image.size(), "\"" + kernel + "\"");
        for (const std::uint64_t context : contexts)
            text += "\n[[process]]\ncontext = " + std::to_string(context) + "\nname = \"p" + std::to_string(context) + "\"\nimage = \"" + program + "\"\n";
        return test::decode(recorded, text);
    }
    // What stands at each address that ran, and how often.
    using Ran = std::map<std::uint64_t, std::pair<std::string, std::uint64_t>>;
    static Ran ran(const test::Opened& o) {
        const StepTrail& steps = o.trail->steps[0];
        const Code& code = *steps.code;
        const auto sources = o.recording->source_map(0, code);
        const auto executions = steps.counters->executions(code);
        Ran all;
        for (std::uint32_t slot = 1; slot < code.slot_count(); ++slot) {
            if (executions[slot] == 0) continue;
            auto& [text, count] = all[code.address(slot)];
            const auto line = o.recording->line_of(0, slot);
            text = (*steps.functions)[steps.functions->at(slot)].name + (line ? " " + line->file + ":" + std::to_string(line->line) : "");
            for (const std::string& inlined : steps.inlines->names_at(slot)) text += " " + inlined;
            count += executions[slot];
            const SourceMap::Place place = sources->at(slot);
            EXPECT_EQ(place.file == SourceMap::kNone ? 0U : place.line, line ? static_cast<unsigned>(line->line) : 0U) << text;
        }
        return all;
    }
    // By name: several processes run the same functions.
    static std::map<std::string, std::pair<std::uint64_t, std::uint64_t>> calls(const test::Opened& o) {
        std::map<std::string, std::pair<std::uint64_t, std::uint64_t>> all;
        for (const auto& r : function_rows(*o.trail)) {
            all[r.name].first += r.count + r.left_out;
            all[r.name].second += r.instructions;
        }
        return all;
    }
    // Nothing of what was recorded may depend on how the program is spread over images.
    void expect_as_whole(const test::Opened& o) const {
        const StepTrail &is = o.trail->steps[0], &shall = whole.trail->steps[0];
        EXPECT_EQ(is.steps, shall.steps);
        EXPECT_EQ(is.gaps.size(), shall.gaps.size());
        EXPECT_EQ(is.traps.size(), shall.traps.size());
        EXPECT_EQ(ran(o), ran(whole));
        EXPECT_EQ(calls(o), calls(whole));
        EXPECT_TRUE(o.recording->doubts.empty()) << o.recording->doubts.front().text;
    }
    ProgramsOfProcesses() {
        const StepTrail& steps = whole.trail->steps[0];
        for (std::size_t i = 0; i < steps.data.size(); ++i)
            if (steps.data[i].data.tag == StepData::kContext) contexts.insert(steps.data[i].data.value);
    }

    test::Folder folder;
    const std::string recorded = test::data("steps/arm-etm-a-mount/recording.target.toml");
    const test::Opened whole = test::decode(recorded);
    std::set<std::uint64_t> contexts;
};

TEST_F(ProgramsOfProcesses, InImagesOfTheirOwnHaveFunctionsSourcesAndCallsAsIfTheyWereInOne) {
    const auto o = opened(without("kernel.elf", "-R .text"), without("program.elf", "-R .boot -R .ktext"));
    ASSERT_GT(contexts.size(), 2U);
    ASSERT_TRUE(o.trail->steps[0].code->has_contexts());
    expect_as_whole(o);
}

TEST_F(ProgramsOfProcesses, AreFoundByTheNamesOfTheirFunctions) {
    const auto o = opened(without("kernel.elf", "-R .text"), without("program.elf", "-R .boot -R .ktext"));
    const Code& code = *o.trail->steps[0].code;
    std::string of_program;
    for (const Symbol& s : o.recording->processes[0][0].image->symbols())
        if (s.function && of_program.empty()) of_program = s.name;
    const auto slots = o.recording->slots_of(0, of_program);
    ASSERT_TRUE(slots) << slots.error().text();
    EXPECT_EQ(slots->size(), contexts.size()) << "one for each process";
    std::set<std::uint32_t> of;
    for (const std::uint32_t slot : *slots) of.insert(code.context(slot).value_or(0));
    EXPECT_EQ(of.size(), contexts.size());
    EXPECT_FALSE(o.recording->slots_of(0, "nobody_knows_this"));
}

TEST_F(ProgramsOfProcesses, ThatHoldTheSystemTooAreTheSystemsWhereTheySayTheSame) {
    const auto o = opened(whole_image(), whole_image());
    EXPECT_FALSE(o.trail->steps[0].code->has_contexts());
    expect_as_whole(o);
}

TEST_F(ProgramsOfProcesses, ThatHaveOtherCodeWhereTheSystemStandsAreDoubted) {
    auto bytes = test::read_bytes(whole_image());
    bytes[0x2000 + 0x800] ^= 0x10;  // in the kernel's code
    test::write_file(folder / "other.elf", bytes);
    const auto o = opened(whole_image(), folder / "other.elf");
    ASSERT_EQ(o.recording->doubts.size(), contexts.size()) << "each process";
    EXPECT_NE(o.recording->doubts[0].text.find("have different code at 0xffffff8040090000"), std::string::npos) << o.recording->doubts[0].text;
    EXPECT_NE(o.recording->doubts[0].text.find("process p"), std::string::npos);
}

}  // namespace
}  // namespace mt
