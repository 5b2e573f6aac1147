// Opening and saving recordings, and everything that can be wrong with what is opened.
#include "recording/recording.h"

#include <gtest/gtest.h>

#include <chrono>
#include <thread>

#include "replay/packet_block.h"
#include "share/tables.h"
#include "support.h"

namespace mt {
namespace {

namespace fs = std::filesystem;
using test::Folder;

std::string all_events(const test::Opened& o) {
    std::ostringstream out;
    write_events_csv(*o.recording, *o.trail, {}, {}, out);
    return out.str();
}

Problem problem_of(const std::string& path) {
    auto recording = open_recording(path);
    if (!recording) return recording.error();
    Progress progress;
    auto trail = read_trail(**recording, progress);
    EXPECT_FALSE(trail) << "was expected to fail";
    return trail ? Problem{} : trail.error();
}

TEST(SavedRecording, OpensWithoutTheOriginalsAndSaysTheSame) {
    Folder folder;
    const auto original = test::decode(test::demo("larkspur.target.toml"));
    Progress progress;
    ASSERT_TRUE(save_recording(*original.recording, folder / "night.mtrail", false, progress));
    fs::rename(folder / "night.mtrail", folder / "moved.mtrail");
    const auto saved = test::decode(folder / "moved.mtrail");
    EXPECT_EQ(all_events(saved), all_events(original));
    EXPECT_EQ(saved.recording->title, original.recording->title);
    EXPECT_EQ(all_events(test::decode(folder / "moved.mtrail/trail.toml")), all_events(original))
        << "the manifest stands for its folder";
    EXPECT_EQ(test::read_bytes(folder / "moved.mtrail/streams/larkspur-night.swo"),
              test::read_bytes(test::demo("larkspur-night.swo")));
}

TEST(SavedRecording, BringsAlongHowItsCoresStood) {
    Folder folder;
    const std::string from = test::data("steps/rv-etrace-mount/");
    std::string target = test::read_text(from + "recording.target.toml");
    target.insert(target.find("[[stream]]"), "[core.stopped]\nregisters = \"final_registers.json\"\nmemory = [{ file = \"final_memory.bin.xz\", address = 0x80001000 }]\n\n");
    const auto original = test::decode(from + "recording.target.toml", target);
    Progress progress;
    ASSERT_TRUE(save_recording(*original.recording, folder / "a.mtrail", false, progress));
    const auto saved = test::decode(folder / "a.mtrail");
    const CoreSpec::State& stopped = saved.recording->target.cores[0].stopped;
    EXPECT_EQ(stopped.registers, folder / "a.mtrail/states/final_registers.json");
    ASSERT_EQ(stopped.memory.size(), 1U);
    EXPECT_EQ(stopped.memory[0].address, 0x80001000U);
    EXPECT_EQ(test::read_bytes(stopped.memory[0].file), test::read_bytes(from + "final_memory.bin.xz"));
}

TEST(SavedRecording, CanBeSavedAgainFromItself) {
    Folder folder;
    const auto original = test::decode(test::data("mount/mount.target.toml"));
    Progress progress;
    ASSERT_TRUE(save_recording(*original.recording, folder / "a.mtrail", false, progress));
    const auto first = test::decode(folder / "a.mtrail");
    ASSERT_TRUE(save_recording(*first.recording, folder / "b.mtrail", false, progress));
    EXPECT_EQ(all_events(test::decode(folder / "b.mtrail")), all_events(original));
    ASSERT_TRUE(save_recording(*first.recording, folder / "a.mtrail", true, progress)) << "even over itself";
    EXPECT_EQ(all_events(test::decode(folder / "a.mtrail")), all_events(original));
}

TEST(SavedRecording, BringsItsImagesAlongAlsoWhereTheirListGoesOverLines) {
    Folder folder;
    std::string target = test::read_text(test::data("mount/mount.target.toml"));
    for (const char* file : {"firmware.elf", "capture.bin"}) fs::copy(test::data("mount") + "/" + file, folder / file);
    fs::copy(test::data("mount/firmware.elf"), folder / "overlay.elf");
    const std::string image = "image         = \"firmware.elf\"\n";
    ASSERT_NE(target.find(image), std::string::npos);
    target.replace(target.find(image), image.size(),
                   "images = [\n  \"firmware.elf\",  # the program\n  \"overlay.elf\",\n]\n");
    test::write_file(folder / "two.target.toml", target);
    const auto original = test::decode(folder / "two.target.toml");
    Progress progress;
    const auto done = save_recording(*original.recording, folder / "two.mtrail", false, progress);
    ASSERT_TRUE(done) << done.error().text();
    fs::remove(folder / "firmware.elf");
    fs::remove(folder / "overlay.elf");
    const auto saved = test::decode(folder / "two.mtrail");
    EXPECT_EQ(all_events(saved), all_events(original));
    EXPECT_NE(saved.recording->images[0]->symbol_named("main"), nullptr);
    EXPECT_EQ(saved.recording->target.cores[0].more_images.size(), 1u);
}

TEST(SavedRecording, NothingIsOverwrittenUnasked) {
    Folder folder;
    const auto original = test::decode(test::data("mount/mount.target.toml"));
    Progress progress;
    ASSERT_TRUE(save_recording(*original.recording, folder / "a.mtrail", false, progress));
    const auto again = save_recording(*original.recording, folder / "a.mtrail", false, progress);
    ASSERT_FALSE(again);
    EXPECT_NE(again.error().text().find("exists already"), std::string::npos);
    fs::create_directory(folder / "photos");
    test::write_file(folder / "photos/moon.png", std::string("x"));
    EXPECT_FALSE(save_recording(*original.recording, folder / "photos", true, progress))
        << "a folder that is no recording is never replaced";
    EXPECT_TRUE(fs::exists(folder / "photos/moon.png"));
}

TEST(SavedRecording, ACancelledSaveLeavesNothingBehind) {
    Folder folder;
    const auto original = test::decode(test::data("mount/mount.target.toml"));
    Progress progress;
    progress.cancel();
    EXPECT_FALSE(save_recording(*original.recording, folder / "a.mtrail", false, progress));
    EXPECT_TRUE(fs::is_empty(folder.path()));
}

// A recording without ITM: what a person marked and when its stream began stand where they belong.
TEST(Opening, MarksOfARecordingWithInstructionsOnlyStandAtTheirBytes) {
    const test::Folder folder;
    std::string text = test::read_text(test::data("steps/rv-ntrace-mount-htm/recording.target.toml"));
    text.replace(text.find("../"), 3, test::data("steps/"));
    test::write_file(folder / "recording.target.toml", text);
    test::write_file(folder / "trace.bin", test::read_bytes(test::data("steps/rv-ntrace-mount-htm/trace.bin")));
    const auto plain = test::decode(folder / "recording.target.toml");
    const std::uint64_t bytes = plain.trail->steps[0].raw_bytes;
    test::write_file(folder / "trace.bin.journal",
                     "{\"what\":\"started\",\"source\":\"file trace.bin\",\"when\":\"2026-11-23T20:00:00Z\"}\n"
                     "{\"what\":\"first_byte\",\"after_s\":0.25,\"slack_s\":0.001}\n"
                     "{\"what\":\"note\",\"offset\":" +
                         std::to_string(bytes / 2) +
                         ",\"text\":\"the dome turns\"}\n"
                         "{\"what\":\"ended\",\"offset\":" +
                         std::to_string(bytes) + ",\"reason\":\"by hand\",\"unsaved\":0}\n");
    const auto o = test::decode(folder / "recording.target.toml");
    ASSERT_EQ(o.trail->notes.size(), 1U);
    EXPECT_EQ(o.trail->notes[0].text, "the dome turns");
    const Time length = plain.trail->end;
    EXPECT_EQ(o.trail->steps[0].moments[0].time, plain.trail->steps[0].moments[0].time + Time::from_ms(250));
    EXPECT_GT(o.trail->notes[0].time, Time::from_ms(250) + Time{length.ps / 4});
    EXPECT_LT(o.trail->notes[0].time, Time::from_ms(250) + Time{length.ps / 4 * 3});
    bool told = false;
    for (const Doubt& d : o.trail->doubts)
        told = told || d.text.find("250 ms after the recording's start") != std::string::npos;
    EXPECT_TRUE(told);
}

TEST(Opening, WithoutAnImageNumbersStandInPlaceOfNamesAndItIsSaid) {
    Folder folder;
    fs::copy_file(test::data("mount/capture.bin"), folder / "capture.bin");
    test::write_file(folder / "x.target.toml", test::itm_target("capture.bin"));
    const auto o = test::decode(folder / "x.target.toml");
    EXPECT_EQ(o.trail->cores[0].lane(24)->name(), "interrupt 8");
    EXPECT_EQ(o.trail->cores[0].lane(15)->name(), "SysTick");
    ASSERT_FALSE(o.trail->doubts.empty());
    EXPECT_NE(o.trail->doubts[0].text.find("numbers stand in place of names"), std::string::npos);
}

TEST(Opening, AnImageOfAnotherArchitectureIsNotUsedAndItIsSaid) {
    Folder folder;
    fs::copy_file(test::data("mount/capture.bin"), folder / "capture.bin");
    std::string target = test::itm_target("capture.bin");
    target.replace(target.find("clock_hz"), 0, std::string("image = \"") + MT_CLI + "\"\n");
    test::write_file(folder / "x.target.toml", target);
    const auto o = test::decode(folder / "x.target.toml");
    EXPECT_NE(o.trail->doubts[0].text.find("x86-64"), std::string::npos) << o.trail->doubts[0].text;
    EXPECT_EQ(o.trail->cores[0].lane(24)->name(), "interrupt 8");
}

TEST(Opening, ATextFileAsImageIsSaidAndTheRestIsDecoded) {
    Folder folder;
    fs::copy_file(test::data("mount/capture.bin"), folder / "capture.bin");
    test::write_file(folder / "mount.elf", std::string("this is no ELF"));
    std::string target = test::itm_target("capture.bin");
    target.replace(target.find("clock_hz"), 0, "image = \"mount.elf\"\n");
    test::write_file(folder / "x.target.toml", target);
    EXPECT_NE(test::decode(folder / "x.target.toml").trail->doubts[0].text.find("not an ELF file"), std::string::npos);
}

TEST(Opening, AnImageThatIsCutOffIsSaidToBeSoAndNotToBeStripped) {
    Folder folder;
    fs::copy_file(test::data("mount/capture.bin"), folder / "capture.bin");
    auto bytes = test::read_bytes(test::data("mount/firmware.elf"));
    bytes.resize(bytes.size() / 3);
    test::write_file(folder / "mount.elf", bytes);
    std::string target = test::itm_target("capture.bin");
    target.replace(target.find("clock_hz"), 0, "image = \"mount.elf\"\n");
    test::write_file(folder / "x.target.toml", target);
    const auto o = test::decode(folder / "x.target.toml");
    ASSERT_FALSE(o.trail->doubts.empty());
    EXPECT_NE(o.trail->doubts[0].text.find("cut off"), std::string::npos) << o.trail->doubts[0].text;
    for (const Doubt& d : o.trail->doubts) EXPECT_EQ(d.advice.find("stripped"), std::string::npos) << d.text;
}

TEST(Opening, TroubleNamesThePlaceAndWhatToDo) {
    Folder folder;
    test::write_file(folder / "missing.target.toml", test::itm_target("nothing.bin"));
    EXPECT_NE(problem_of(folder / "missing.target.toml").text().find(folder / "nothing.bin"), std::string::npos);
    test::write_file(folder / "empty.bin", std::string());
    test::write_file(folder / "empty.target.toml", test::itm_target("empty.bin"));
    EXPECT_EQ(problem_of(folder / "empty.target.toml").what, "the stream is empty");
    EXPECT_NE(problem_of(folder.path()).what.find("not a recording folder"), std::string::npos);
    EXPECT_NE(problem_of(test::data("mount/capture.bin")).advice.find("target.toml"), std::string::npos);
    test::write_file(folder / "noise.bin", std::vector<std::uint8_t>(5000, 0xA4));
    test::write_file(folder / "noise.target.toml", test::itm_target("noise.bin"));
    EXPECT_NE(problem_of(folder / "noise.target.toml").what.find("no ITM stream"), std::string::npos);
}

TEST(Opening, AWrongTraceIdListsThoseThatAreThere) {
    Folder folder;
    fs::copy_file(test::data("mount-framed/capture.bin"), folder / "capture.bin");
    test::write_file(folder / "x.target.toml",
                     test::itm_target("capture.bin", false, "72_000_000", "framing = \"tpiu\"\ntrace_id = 9\n"));
    const auto p = problem_of(folder / "x.target.toml");
    EXPECT_NE(p.what.find("trace ID 9"), std::string::npos) << p.text();
    EXPECT_NE(p.advice.find("1 ("), std::string::npos) << p.text();
    EXPECT_NE(p.advice.find("2 ("), std::string::npos) << p.text();
}

TEST(Opening, FramesReadAsABareStreamAreNoticed) {
    Folder folder;
    fs::copy_file(test::data("mount-framed/capture.bin"), folder / "capture.bin");
    test::write_file(folder / "x.target.toml", test::itm_target("capture.bin"));
    auto recording = open_recording(folder / "x.target.toml");
    ASSERT_TRUE(recording);
    Progress progress;
    const auto trail = read_trail(**recording, progress);
    std::string said = trail ? "" : trail.error().text();
    if (trail)
        for (const auto& d : (*trail)->doubts) said += d.text + d.advice;
    EXPECT_NE(said.find("framing = \"tpiu\""), std::string::npos) << said;
}

TEST(Opening, AManifestCannotPointOutOfItsFolder) {
    Folder folder;
    test::write_file(folder / "trail.toml", "format = \"mindful-trail-recording/1\"\ntarget = \"../../etc/passwd\"\n");
    EXPECT_NE(problem_of(folder.path()).what.find("out of the folder"), std::string::npos);
}

TEST(Opening, AFileThatIsCutShortWhileItIsOpenBecomesAGap) {
    Folder folder;
    fs::copy_file(test::data("mount/capture.bin"), folder / "capture.bin");
    test::write_file(folder / "x.target.toml", test::itm_target("capture.bin"));
    auto recording = open_recording(folder / "x.target.toml");
    ASSERT_TRUE(recording);
    fs::resize_file(folder / "capture.bin", 100'000);
    Progress progress;
    const auto trail = read_trail(**recording, progress);
    ASSERT_TRUE(trail) << "no crash";
    EXPECT_GT((*trail)->streams[0].events, 15'000U) << "what is still there";
    EXPECT_GT((*trail)->gaps.size(), 0U) << "and the rest is not known";
}

struct WrongIsa {
    const char *capture, *right, *wrong;
    friend void PrintTo(const WrongIsa& w, std::ostream* out) { *out << w.capture << " as " << w.wrong; }
};
class AnImageForAnotherIsa : public testing::TestWithParam<WrongIsa> {};

TEST_P(AnImageForAnotherIsa, IsNamedWithTheIsaThatFits) {
    const WrongIsa& w = GetParam();
    Folder folder;
    fs::copy(test::data("steps/" + std::string(w.capture)), folder / w.capture);
    for (const auto& e : fs::directory_iterator(test::data("steps")))
        if (e.path().extension() == ".elf") fs::copy(e.path(), folder / e.path().filename().string());
    const std::string file = folder / (std::string(w.capture) + "/recording.target.toml");
    std::string text = test::read_text(file);
    const std::string right = "\"" + std::string(w.right) + "\"";
    text.replace(text.find(right), right.size(), "\"" + std::string(w.wrong) + "\"");
    test::write_file(file, text);
    const auto opened = open_recording(file);
    ASSERT_FALSE(opened) << "no instruction is made of the wrong ones";
    EXPECT_NE(opened.error().advice.find("is isa = " + right + " rather than \"" + w.wrong), std::string::npos)
        << opened.error().text();
}
INSTANTIATE_TEST_SUITE_P(Isas, AnImageForAnotherIsa,
                         testing::Values(WrongIsa{"arm-pft-mount", "armv7-a", "armv7e-m"},
                                         WrongIsa{"arm-etm-mount", "armv7e-m", "armv7-a"},
                                         WrongIsa{"arm-etm-a-mount", "armv8-a", "armv8-m.main"},
                                         WrongIsa{"rv64-etrace-mount", "rv64imac", "rv32imac"},
                                         WrongIsa{"rv-etrace-mount", "rv32imac", "rv64gc"},
                                         WrongIsa{"rv-etrace-mount", "rv32imac", "armv7-m"}));

TEST(Opening, TwoCoresWithAStreamEach) {
    Folder folder;
    std::string target = "format = \"mindful-trail-target/1\"\n";
    for (const std::string core : {"main", "aid"})
        target += "[[core]]\nname = \"" + core +
                  "\"\nisa = \"armv7e-m\"\nclock_hz = 72_000_000\n[[stream]]\nfile = \"" +
                  test::data(core == "main" ? "mount/capture.bin" : "mount-framed/capture.bin") +
                  "\"\nprotocol = \"itm\"\ncore = \"" + core + "\"\n" +
                  (core == "main" ? "" : "framing = \"tpiu\"\ntrace_id = 1\n[stream.itm]\ntimestamp_prescaler = 4\n");
    test::write_file(folder / "x.target.toml", target);
    const auto o = test::decode(folder / "x.target.toml");
    ASSERT_EQ(o.trail->cores.size(), 2U);
    EXPECT_EQ(o.trail->cores[0].lane(24)->size(), 1920U);
    EXPECT_GT(o.trail->cores[1].lane(24)->size(), 1800U);
    std::istringstream lines(all_events(o));
    std::string line;
    std::getline(lines, line);
    double last = 0;
    std::size_t n = 0;
    for (; std::getline(lines, line); ++n) {
        ASSERT_GE(std::stod(line), last) << "merged in time order";
        last = std::stod(line);
    }
    EXPECT_EQ(n, 44'838U + 27'692U);
}

TEST(Reading, PublishesGrowingSnapshotsAndCanBeCancelled) {
    Folder folder;
    const auto part = test::read_bytes(test::demo("larkspur-night.swo"));
    std::vector<std::uint8_t> bytes;
    for (int i = 0; i < 40; ++i) bytes.insert(bytes.end(), part.begin(), part.end());
    test::write_file(folder / "long.bin", bytes);
    test::write_file(folder / "x.target.toml", test::itm_target("long.bin"));
    auto recording = open_recording(folder / "x.target.toml");
    Progress progress;
    Time last{};
    std::size_t snapshots = 0;
    const auto trail = read_trail(**recording, progress, [&](std::shared_ptr<const Trail> t) {
        EXPECT_GT(t->end, last);
        last = t->end;
        if (++snapshots == 2) progress.cancel();
        std::this_thread::sleep_for(std::chrono::duration<double>(kPublishSeconds));  // so that the next one is due
    });
    ASSERT_TRUE(trail);
    EXPECT_TRUE((*trail)->cancelled);
    EXPECT_FALSE((*trail)->complete);
    EXPECT_LT((*trail)->streams[0].read_bytes, bytes.size());
    EXPECT_GE((*trail)->end, last) << "what was decoded so far is kept";
}

TEST(PacketBlocks, DecodedAloneTheyAreThoseOfTheWholePass) {
    for (const auto& path : {test::demo("larkspur.target.toml"), test::data("mount-framed/mount.target.toml")}) {
        const auto o = test::decode(path);
        const StreamTrail& s = o.trail->streams[0];
        std::uint64_t packets = 0, events = 0, next_offset = 0;
        Time last{};
        for (std::size_t b = 0; b < s.checkpoints.size(); ++b) {
            const auto block = decode_block(*o.recording, *o.trail, 0, b);
            EXPECT_EQ(block.first_packet, packets);
            EXPECT_EQ(block.first_event, events);
            for (const auto& p : block.packets) {
                EXPECT_EQ(p.packet.offset, next_offset) << "no packet is missing where blocks meet";
                next_offset += p.packet.length;
                EXPECT_GE(p.latest, last);
                last = p.latest;
                events += itm_is_event(p.packet.kind) ? 1 : 0;
            }
            packets += block.packets.size();
            if (!block.packets.empty()) {
                const auto& p = block.packets[block.packets.size() / 2];
                std::vector<ItmPacket> again;
                ItmDecoder alone(ItmDecoder::Start::at_once);
                alone.feed(block.bytes_of(p.packet), again);
                if (p.packet.kind != ItmKind::sync && p.packet.number < 32) {
                    ASSERT_EQ(again.size(), 1U) << "the bytes shown are those of the packet";
                    EXPECT_EQ(again[0].value, p.packet.value);
                }
            }
            EXPECT_EQ(block_of_packet(s, block.first_packet), b);
        }
        EXPECT_EQ(packets, s.packets);
        EXPECT_EQ(events, s.events);
    }
}

}  // namespace
}  // namespace mt
