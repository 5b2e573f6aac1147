// Inlined functions as levels of the stack: against another reader of the same DWARF, and in a real capture.
#include <gtest/gtest.h>

#include <array>
#include <cstdio>
#include <random>
#include <set>

#include "measure/functions.h"
#include "replay/backtrace.h"
#include "replay/step_window.h"
#include "support.h"
#include "target/inlines.h"

namespace mt {
namespace {

// What llvm-symbolizer says of each address: function names, the innermost first.
std::vector<std::vector<std::string>> symbolized(const test::Folder& folder, const std::string& elf,
                                                 const std::vector<std::uint64_t>& addresses) {
    std::ostringstream asked;
    asked << std::hex;
    for (const std::uint64_t a : addresses) asked << "0x" << a << '\n';
    test::write_file(folder / "asked", asked.str());
    const std::string command = "llvm-symbolizer-14 --inlining --functions=short -e '" + elf + "' < '" +
                                (folder / "asked") + "' > '" + (folder / "told") + "' 2>/dev/null";
    if (std::system(command.c_str()) != 0) return {};
    std::vector<std::vector<std::string>> all(1);
    bool name = true;
    for (const std::string& line : test::lines(test::read_text(folder / "told"))) {
        if (line.empty()) {
            all.emplace_back();
            name = true;
        } else {
            if (name) all.back().push_back(line);
            name = !name;
        }
    }
    all.pop_back();
    return all;
}

class InlinesOf : public testing::TestWithParam<std::pair<const char*, const char*>> {};

TEST_P(InlinesOf, AreThoseThatAnotherReaderOfTheSameDwarfFindsAtEveryInstruction) {
    const std::string elf = test::data(std::string("steps/") + GetParam().first);
    const auto image = Image::open(elf);
    ASSERT_TRUE(image);
    const auto code = Code::of(**image, GetParam().second);
    const auto functions = FunctionTable::of(**image, *code);
    const auto inlines = InlineTable::of(**image, *code);
    ASSERT_GT(inlines->size(), 2u);
    std::vector<std::uint64_t> addresses;
    std::vector<std::uint32_t> slots;
    for (std::uint32_t slot = 1; slot < code->slot_count(); slot = code->next(slot))
        if ((*code)[slot].flow != Flow::none) {
            slots.push_back(slot);
            addresses.push_back(code->address(slot));
        }
    const test::Folder folder;
    const auto told = symbolized(folder, elf, addresses);
    ASSERT_EQ(told.size(), slots.size()) << "llvm-symbolizer-14 answers each address";
    std::size_t compared = 0, inlined = 0;
    for (std::size_t i = 0; i < slots.size(); ++i) {
        // Of code that the linker dropped there is DWARF at low addresses, but no function.
        if (told[i].empty() || told[i].back() == "??" || functions->at(slots[i]) == functions->nameless()) continue;
        std::vector<std::string> ours = inlines->names_at(slots[i]);
        std::reverse(ours.begin(), ours.end());
        const std::vector<std::string> theirs(told[i].begin(), told[i].end() - 1);  // without the function itself
        EXPECT_EQ(ours, theirs) << std::hex << addresses[i];
        ++compared;
        inlined += ours.empty() ? 0u : 1u;
    }
    EXPECT_GT(compared, slots.size() / 2);
    EXPECT_GT(inlined, 10u);
}

INSTANTIATE_TEST_SUITE_P(Images, InlinesOf,
                         testing::Values(std::pair{"mount-main.elf", "armv7e-m"},
                                         std::pair{"mount-cop.elf", "rv32imac"}, std::pair{"paddle.elf", "armv6-m"}),
                         [](const auto& info) {
                             std::string name = info.param.first;
                             for (char& c : name)
                                 if (std::isalnum(static_cast<unsigned char>(c)) == 0) c = '_';
                             return name;
                         });

TEST(Inlines, OfDamagedImagesAreFewerOrOthersButNeverACrash) {
    const test::Folder folder;
    std::mt19937_64 random(5);
    std::size_t opened = 0, inlined = 0;
    for (const auto& [name, isa] : {std::pair{"paddle.elf", "armv6-m"}, std::pair{"mount-cop.elf", "rv32imac"}}) {
        const auto whole = test::read_bytes(test::data(std::string("steps/") + name));
        for (int i = 0; i < 150; ++i) {
            auto bytes = whole;
            for (std::uint64_t n = 1 + random() % 40; n-- > 0;)
                bytes[random() % bytes.size()] = static_cast<std::uint8_t>(random());
            if (i % 10 == 9) bytes.resize(random() % bytes.size());
            test::write_file(folder / "x.elf", bytes);
            const auto image = Image::open(folder / "x.elf");
            if (!image) continue;
            ++opened;
            const auto code = Code::of(**image, isa);
            if (code->slot_count() > 1 << 20) continue;
            const auto inlines = InlineTable::of(**image, *code);
            for (std::uint32_t slot = 1; slot < code->slot_count(); ++slot)
                inlined += inlines->names_at(slot).empty() ? 0u : 1u;
        }
    }
    EXPECT_GT(opened, 100u);
    EXPECT_GT(inlined, 1000u) << "most damage lies elsewhere";
}

// A real compiler, each version of the format.
class DwarfVersion : public testing::TestWithParam<int> {};

TEST_P(DwarfVersion, GivesLinesAndInlinedFunctionsWithinEachOther) {
    const test::Folder folder;
    test::write_file(folder / "x.c", R"(volatile int port;
static inline __attribute__((always_inline)) int twice(int x) {
    port = x;
    return x + port;
}
static inline __attribute__((always_inline)) int four_times(int x) {
    return twice(twice(x));
}
int work(int x) {
    int y = four_times(x);
    port = y;
    return y + port;
}
)");
    const std::string command =
        "cd " + folder.path() + " && clang-14 --target=thumbv7em-none-eabi -mcpu=cortex-m4 -O2 -gdwarf-" +
        std::to_string(GetParam()) + " -ffreestanding -nostdlib -fuse-ld=lld -Wl,--entry=work -o x.elf x.c";
    ASSERT_EQ(std::system(command.c_str()), 0) << command;
    const auto image = Image::open(folder / "x.elf");
    ASSERT_TRUE(image);
    const auto code = Code::of(**image, "armv7e-m");
    const auto inlines = InlineTable::of(**image, *code);
    EXPECT_EQ(inlines->size(), 3u);
    std::set<std::vector<std::string>> stacks;
    std::set<int> lines;
    for (std::uint32_t slot = 1; slot < code->slot_count(); slot = code->next(slot)) {
        if ((*code)[slot].flow == Flow::none) continue;
        const auto line = (*image)->line_at(code->address(slot));
        if (!line) continue;  // constants that stand behind the code
        stacks.insert(inlines->names_at(slot));
        EXPECT_TRUE(line->file.ends_with("x.c")) << line->file;
        lines.insert(line->line);
    }
    EXPECT_TRUE(stacks.count({"four_times", "twice"}));
    EXPECT_TRUE(stacks.count({}));
    EXPECT_TRUE(lines.count(3)) << "port = x, in twice";
    EXPECT_TRUE(lines.count(11)) << "port = y, in work";
    for (std::uint32_t i = 0; i < inlines->size(); ++i)
        EXPECT_EQ((*inlines)[i].line, (*inlines)[i].name == "twice" ? 7 : 10) << "where it is called";
}

INSTANTIATE_TEST_SUITE_P(Dwarf, DwarfVersion, testing::Values(2, 3, 4, 5));

TEST(Inlines, AnImageWithoutDwarfHasNone) {
    const auto image = Image::open(test::demo("larkspur-cop.elf"));
    ASSERT_TRUE(image);
    EXPECT_EQ(InlineTable::of(**image, *Code::of(**image, "rv32imac"))->size(), 0u);
}

// Finds an execution in a capture whose instruction belongs to an inlined function within another inlined one.
TEST(Backtrace, StandsOnTheSourceLinesOfWhatIsInlinedAndOfWhoCalled) {
    const auto opened = test::decode(test::data("steps/arm-etm-mount/recording.target.toml"));
    const StepTrail& t = opened.trail->steps[0];
    std::uint64_t step = 0;
    std::uint32_t slot = 0;
    std::size_t depth = 0;
    each_step_piece(*opened.recording, t, 0, [&](const StepPiece& p) {
        std::uint32_t s = p.run.first;
        for (std::uint32_t i = 0; i < p.run.count; ++i, s = t.code->next(s))
            if (t.inlines->names_at(s).size() == 2 && p.depth >= 2) {
                step = p.step + i;
                slot = s;
                depth = p.depth;
                return false;
            }
        return true;
    });
    ASSERT_NE(slot, 0u);
    const auto frames = backtrace(*opened.recording, t, step);
    ASSERT_EQ(frames.size(), depth + 2) << "two more levels than calls";
    EXPECT_TRUE(frames[0].inlined);
    EXPECT_TRUE(frames[1].inlined);
    EXPECT_FALSE(frames[2].inlined);
    const auto names = t.inlines->names_at(slot);
    EXPECT_EQ(frames[0].name, names[1]);
    EXPECT_EQ(frames[1].name, names[0]);
    EXPECT_EQ(frames[2].name, (*t.functions)[t.functions->at(slot)].name);
    EXPECT_EQ(frames[0].step, step);
    EXPECT_NE(frames[0].line, frames[1].line) << "each stands on a line of its own";
    for (std::size_t i = 3; i < frames.size(); ++i) {
        EXPECT_LT(frames[i].step, frames[i - 1].step);
        EXPECT_LE(frames[i].entered, frames[i - 1].entered);
    }
    EXPECT_NE(backtrace_text(frames, 9).find(names[1] + " (inlined) ◂ " + names[0] + " (inlined) ◂ "),
              std::string::npos);
}

// Of a stack without exceptions each caller stands on the instruction that calls the one above it.
TEST(Backtrace, EveryCallerStandsOnACall) {
    const auto opened = test::decode(test::data("steps/rv-etrace-mount/recording.target.toml"));
    const StepTrail& t = opened.trail->steps[0];
    std::size_t calls = 0;
    for (std::uint64_t step = 1000; step < t.steps; step += t.steps / 40) {
        const auto frames = backtrace(*opened.recording, t, step);
        ASSERT_FALSE(frames.empty());
        for (std::size_t i = 1; i < frames.size(); ++i) {
            if (frames[i - 1].inlined || frames[i - 1].handler || !frames[i - 1].seen) continue;
            if (frames[i].slot == Code::kNowhere) continue;
            const Flow flow = (*t.code)[frames[i].slot].flow;
            EXPECT_TRUE(flow == Flow::call || flow == Flow::indirect_call || flow == Flow::jump ||
                        flow == Flow::indirect)
                << frames[i - 1].name << " called from " << frames[i].name << " at step " << frames[i].step;
            ++calls;
        }
    }
    EXPECT_GT(calls, 20u);
}

TEST(InlinedRows, CountExactlyTheInstructionsThatBelongToThem) {
    const auto opened = test::decode(test::data("steps/rv-etrace-mount/recording.target.toml"));
    const StepTrail& t = opened.trail->steps[0];
    std::map<std::string, std::uint64_t> counted;
    each_step_piece(*opened.recording, t, 0, [&](const StepPiece& p) {
        std::uint32_t s = p.run.first;
        for (std::uint32_t i = 0; i < p.run.count; ++i, s = t.code->next(s))
            if (const auto in = t.inlines->at(s); in != InlineTable::kNone) ++counted[(*t.inlines)[in].name];
        return true;
    });
    const auto rows = inlined_rows(*opened.trail);
    ASSERT_EQ(rows.size(), counted.size());
    for (const FunctionRow& row : rows) {
        EXPECT_EQ(row.instructions, counted[row.name]) << row.name;
        EXPECT_TRUE(row.inlined);
        EXPECT_GE(row.places, 1u);
    }
}

// The same program cut into two files is one program.
TEST(SeveralImages, StandInMemoryTogetherAndTheirOverlapIsDoubted) {
    const test::Folder folder;
    const std::string target =
        "format = \"mindful-trail-target/1\"\nname = \"x\"\n[[core]]\nname = \"main\"\nisa = "
        "\"rv32imac\"\nclock_hz = 1_000_000\nimages = [\"" +
        test::data("steps/mount-cop.elf") + "\", \"" + test::demo("larkspur-cop.elf") +
        "\"]\n[[stream]]\nprotocol = \"etrace\"\ncore = \"main\"\n";
    test::write_file(folder / "x.target.toml", target);
    const auto r = open_without_streams(folder / "x.target.toml");
    ASSERT_TRUE(r) << r.error().text();
    const Image& image = *(*r)->images[0];
    EXPECT_NE(image.symbol_named("pier_flexure"), nullptr) << "of the first";
    EXPECT_NE(image.symbol_named("interpolate"), nullptr) << "of the second";
    EXPECT_TRUE(image.overlap()) << "both begin at the same address";
    EXPECT_TRUE(std::any_of((*r)->doubts.begin(), (*r)->doubts.end(),
                            [](const Doubt& d) { return d.text.find("Two pieces of code") == 0; }));
}

TEST(SeveralImages, OfDifferentMachinesAreRefused) {
    const auto image =
        Image::open(std::vector<std::string>{test::data("steps/mount-cop.elf"), test::data("steps/mount-main.elf")});
    ASSERT_FALSE(image);
    EXPECT_NE(image.error().what.find("different machines"), std::string::npos);
}

}  // namespace
}  // namespace mt
