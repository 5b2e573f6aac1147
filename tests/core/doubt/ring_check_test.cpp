// What is said about an image of memory in which the recorder went wrong, and files of packets.
#include <gtest/gtest.h>

#include <cstring>
#include <fstream>
#include <random>

#include "doubt/ring_check.h"
#include "measure/tasks.h"
#include "mt_recorder.h"
#include "pass/live_recording.h"
#include "process.h"
#include "support.h"

namespace mt {
namespace {

std::uint32_t ticks = 0;
std::vector<std::uint8_t> handed_over;
std::uint32_t now() { return ticks; }
int take(const void* packet, std::size_t bytes) {
    const auto* b = static_cast<const std::uint8_t*>(packet);
    handed_over.insert(handed_over.end(), b, b + bytes);
    return 1;
}

constexpr std::uint32_t kBase = 0x2000'0000, kRing = 8192, kData = 64;

/// Memory of a target with a ring at its start, as the recorder would have left it.
class RingCheck : public testing::Test {
  protected:
    void SetUp() override {
        ticks = 500;
        handed_over.clear();
        mt_init(now, take);
    }
    static void jobs(int n, bool named = true) {
        if (named) MT_TASK_CREATE(1, 1, "clock");
        for (int i = 0; i < n; ++i) {
            ticks += 900;
            MT_TASK_READY(1);
            MT_TASK_SWITCH_IN(1);
            ticks += 100;
            MT_TASK_BLOCK(1, MT_ACTIVATION, 0);
        }
    }
    static void word(std::vector<std::uint8_t>& memory, std::size_t at, std::uint32_t v) {
        for (unsigned i = 0; i < 4; ++i) memory[at + i] = static_cast<std::uint8_t>(v >> 8 * i);
    }
    /// The bytes handed over, written round a ring of kRing bytes.
    static std::vector<std::uint8_t> memory() {
        mt_flush();
        std::vector<std::uint8_t> m(kData + kRing);
        std::memcpy(m.data(), "MTRB\1\0\1\0", 8);
        word(m, 8, kBase + kData);
        word(m, 12, kRing);
        word(m, 16, static_cast<std::uint32_t>(handed_over.size()));
        for (std::size_t i = 0; i < handed_over.size(); ++i) m[kData + i % kRing] = handed_over[i];
        return m;
    }
    static std::string said(const std::vector<std::uint8_t>& m) {
        const auto report = check_ring(m, kBase, 1'000'000);
        if (!report) return report.error().text();
        std::string all = report->good() ? "good\n" : "bad\n";
        for (const auto& r : report->remarks) all += r.text + "; " + r.advice + "\n";
        return all;
    }
    static void expect_said(const std::vector<std::uint8_t>& m, const std::string& what) {
        EXPECT_NE(said(m).find(what), std::string::npos) << said(m);
    }
};

TEST_F(RingCheck, FindsNothingWrongWithAGoodOne) {
    jobs(100);
    const auto report = check_ring(memory(), kBase, 1'000'000);
    ASSERT_TRUE(report);
    EXPECT_TRUE(report->good());
    EXPECT_EQ(report->events, 301U);
    EXPECT_EQ(report->data_at, kBase + kData);
}

TEST_F(RingCheck, ReadsARingThatWentRoundFromItsOldestWholePacketOn) {
    jobs(2000);
    const auto report = check_ring(memory(), kBase, 1'000'000);
    ASSERT_TRUE(report);
    EXPECT_TRUE(report->good()) << said(memory());
    EXPECT_GT(report->packets, 10U);
    EXPECT_LT(report->stream.size(), kRing);
    EXPECT_EQ(said(memory()).find("no task has a name"), std::string::npos) << "names are written again now and then";
}

TEST_F(RingCheck, SaysThatTheRecorderWasNeverSetUp) {
    expect_said(std::vector<std::uint8_t>(4096), "was mt_init called");
    expect_said({}, "no ring's header");
}

TEST_F(RingCheck, SaysThatNoHookIsCalled) { expect_said(memory(), "nothing was ever written"); }

TEST_F(RingCheck, SaysThatTheBufferIsInCachedMemory) {
    jobs(100);
    auto m = memory();
    std::fill(m.begin() + kData, m.end(), std::uint8_t{0});
    expect_said(m, "cached memory");
}

TEST_F(RingCheck, SaysThatTheBufferIsOutsideTheImage) {
    jobs(100);
    auto m = memory();
    m.resize(1000);
    expect_said(m, "lies outside this image");
}

TEST_F(RingCheck, SaysThatTheCounterStandsStill) {
    MT_TASK_CREATE(1, 1, "clock");
    for (int i = 0; i < 50; ++i) {
        MT_TASK_READY(1);
        MT_TASK_SWITCH_IN(1);
        MT_TASK_BLOCK(1, MT_ACTIVATION, 0);
    }
    expect_said(memory(), "all events have the same time");
}

TEST_F(RingCheck, SaysThatTwoHooksWriteTheSame) {
    MT_TASK_CREATE(1, 1, "clock");
    for (int i = 0; i < 50; ++i) {
        ticks += 10;
        MT_TASK_READY(1);
        MT_TASK_SWITCH_IN(1);
        MT_TASK_SWITCH_IN(1);
        MT_TASK_BLOCK(1, MT_ACTIVATION, 0);
    }
    expect_said(memory(), "Two hooks are on");
}

TEST_F(RingCheck, SaysThatAHandlerLacksItsExit) {
    jobs(10);
    for (int i = 0; i < 10; ++i) {
        ticks += 10;
        MT_ISR_ENTER(3);
    }
    expect_said(memory(), "both MT_ISR_ENTER and MT_ISR_EXIT");
}

TEST_F(RingCheck, SaysThatSomethingElseWritesIntoTheBuffer) {
    jobs(400);
    auto m = memory();
    std::fill(m.begin() + kData + 1100, m.begin() + kData + 1500, std::uint8_t{0xA5});
    const auto report = check_ring(m, kBase, 1'000'000);
    ASSERT_TRUE(report);
    EXPECT_FALSE(report->good()) << said(m);
}

TEST_F(RingCheck, StandsUpToAnyImage) {
    jobs(300);
    const auto whole = memory();
    std::mt19937 random(11);
    for (int round = 0; round < 400; ++round) {
        auto m = whole;
        for (int i = 0; i < 12; ++i)
            m[random() % (round % 2 == 0 ? 32 : m.size())] = static_cast<std::uint8_t>(random());
        m.resize(random() % (m.size() + 1));
        const std::string verdict = said(m);
        EXPECT_TRUE(verdict.rfind("good\n", 0) == 0 || verdict.size() > 20) << "a bad one is told why: " << verdict;
    }
}

TEST_F(RingCheck, AFileOfPacketsOpensWithTheRecordersOwnMetadata) {
    jobs(200);
    mt_flush();
    test::Folder folder;
    test::write_file(folder / "packets.bin", handed_over);
    const std::string target =
        "format = \"mindful-trail-target/1\"\n[[stream]]\nprotocol = \"ctf\"\nfile = \"packets.bin\"\n[stream.ctf]\n";
    test::write_file(folder / "a.target.toml", target + "recorder_hz = 1_000_000\n");
    const auto o = test::decode(folder / "a.target.toml");
    EXPECT_EQ(task_row(*o.trail, 0).run.count, 199U) << "the first began before anything was known";
    EXPECT_EQ(task_row(*o.trail, 0).run.mean, Time::from_us(100));

    test::write_file(folder / "b.target.toml", target + "metadata = \"other/layout\"\n");
    const auto missing = open_recording(folder / "b.target.toml");
    ASSERT_FALSE(missing);
    EXPECT_NE(missing.error().text().find("other/layout"), std::string::npos) << missing.error().text();
    std::filesystem::create_directories(folder / "other");
    test::write_file(folder / "other/layout", recorder_metadata(2'000'000));
    EXPECT_EQ(task_row(*test::decode(folder / "b.target.toml").trail, 0).run.mean, Time::from_us(50));

    Progress progress;
    ASSERT_TRUE(
        save_recording(*test::decode(folder / "b.target.toml").recording, folder / "saved.mtrail", false, progress));
    EXPECT_EQ(task_row(*test::decode(folder / "saved.mtrail").trail, 0).run.mean, Time::from_us(50));
}

// The packets as words written to a stimulus port, with a local timestamp now and then (DDI 0403E, D4.2).
std::vector<std::uint8_t> through_port(const std::vector<std::uint8_t>& packets, unsigned port,
                                       std::size_t lost_at = std::string::npos) {
    std::vector<std::uint8_t> out = {0, 0, 0, 0, 0, 0x80};
    for (std::size_t at = 0; at + 4 <= packets.size(); at += 4) {
        if (at == lost_at) {
            out.push_back(0x70);  // overflow
            at += 40;
        }
        out.push_back(static_cast<std::uint8_t>(port << 3 | 3));
        out.insert(out.end(), packets.begin() + static_cast<std::ptrdiff_t>(at),
                   packets.begin() + static_cast<std::ptrdiff_t>(at) + 4);
        if (at % 64 == 60) out.insert(out.end(), {0xC0, 0x10});
    }
    out.insert(out.end(), {0xC0, 0x10});
    return out;
}

TEST_F(RingCheck, PacketsThroughAStimulusPortBecomeTheSameTasks) {
    jobs(600);
    mt_flush();
    test::Folder folder;
    test::write_file(folder / "a.target.toml",
                     test::itm_target("swo.bin", false, "1_000_000",
                                      "[[port]]\nnumber = 5\nkind = \"ctf\"\nrecorder_hz = 1_000_000\n"));
    test::write_file(folder / "swo.bin", through_port(handed_over, 5));
    const auto o = test::decode(folder / "a.target.toml");
    ASSERT_TRUE(o.recording->events);
    EXPECT_EQ(o.trail->cores.size(), 1U) << "they are of the stream's core";
    EXPECT_EQ(task_row(*o.trail, 0).name, "clock");
    EXPECT_EQ(task_row(*o.trail, 0).run.count, 599U);
    EXPECT_EQ(task_row(*o.trail, 0).run.mean, Time::from_us(100));
    EXPECT_TRUE(o.trail->gaps.empty());

    test::write_file(folder / "swo.bin", through_port(handed_over, 5, 4 * 512 + 100));
    const auto lossy = test::decode(folder / "a.target.toml");
    EXPECT_GE(lossy.trail->gaps.size(), 2U) << "of the stream, and of the packets";
    const TaskRow row = task_row(*lossy.trail, 0);
    EXPECT_GT(row.run.count, 540U);
    EXPECT_LT(row.run.count, 598U);
    EXPECT_EQ(row.run.greatest, Time::from_us(100)) << "nothing is made up of the packet that lacks bytes";

    test::write_file(folder / "swo.bin", through_port(handed_over, 6));
    const auto silent = test::decode(folder / "a.target.toml");
    bool said = false;
    for (const auto& d : silent.trail->doubts) said = said || d.text.find("Port 5 gives no event trace") == 0;
    EXPECT_TRUE(said);
}

TEST_F(RingCheck, PacketsThroughAPortAreDecodedWhileTheyAreRecorded) {
    jobs(600);
    mt_flush();
    const auto swo = through_port(handed_over, 5, 4 * 512 + 100);
    test::Folder folder;
    test::write_file(folder / "a.target.toml",
                     test::itm_target("swo.bin", false, "1_000_000",
                                      "[[port]]\nnumber = 5\nkind = \"ctf\"\nrecorder_hz = 1_000_000\n"));
    test::write_file(folder / "growing.swo", std::string());
    test::write_file(folder / "r.recipe.toml",
                     test::recipe_text_for("trace = \"file\"\naddress = \"growing.swo\"\n",
                                           "[record]\nbytes = " + std::to_string(swo.size()) + "\nseconds = 20\n",
                                           folder / "a.target.toml"));
    auto recipe = read_recipe(folder / "r.recipe.toml");
    ASSERT_TRUE(recipe) << recipe.error().text();
    auto live = LiveRecording::prepare(*recipe, folder / "x.mtrail");
    ASSERT_TRUE(live) << live.error().text();
    std::string ended;
    (*live)->on_end = [&](const Result<void>& outcome) { ended = outcome ? "well" : outcome.error().text(); };
    (*live)->start();
    const auto add = [&](std::size_t from, std::size_t to) {
        std::ofstream(folder / "growing.swo", std::ios::binary | std::ios::app)
            .write(reinterpret_cast<const char*>(swo.data()) + from, static_cast<std::streamsize>(to - from));
    };
    const auto jobs_seen = [&]() -> std::uint64_t {
        const auto trail = (*live)->trail();
        return trail && !trail->tasks.tasks.empty() ? task_row(*trail, 0).run.count : 0;
    };
    add(0, swo.size() / 2);
    EXPECT_TRUE(test::wait_until([&] { return jobs_seen() > 100; })) << "half of them, while it is recorded";
    EXPECT_LT(jobs_seen(), 500U);
    add(swo.size() / 2, swo.size());
    (*live)->wait();
    EXPECT_EQ(ended, "well");
    const auto grown = (*live)->trail();
    const auto o = test::decode(folder / "x.mtrail");
    const TaskRow row = task_row(*grown, 0), opened = task_row(*o.trail, 0);
    EXPECT_EQ(row.name, "clock");
    EXPECT_GT(row.run.count, 540U);
    EXPECT_EQ(row.run.count, opened.run.count) << "as when it is opened afterwards";
    EXPECT_EQ(row.run.greatest, opened.run.greatest);
    EXPECT_EQ(row.left_out, opened.left_out);
    EXPECT_EQ(grown->tasks.tasks[0].first_run, o.trail->tasks.tasks[0].first_run) << "at the same place in time";
    EXPECT_EQ(grown->gaps.size(), o.trail->gaps.size());
}

TEST_F(RingCheck, AFileThatBreaksInAPacketLosesThatPacketOnly) {
    jobs(1000);
    mt_flush();
    test::Folder folder;
    auto bytes = handed_over;
    bytes.erase(bytes.begin() + 5 * 512 + 200, bytes.begin() + 5 * 512 + 300);  // 100 bytes of the sixth packet
    test::write_file(folder / "packets.bin", bytes);
    test::write_file(folder / "packets.bin.journal",
                     "{\"what\":\"lost\",\"offset\":" + std::to_string(5 * 512 + 200) + ",\"reason\":\"full\"}\n");
    test::write_file(folder / "a.target.toml",
                     "format = \"mindful-trail-target/1\"\n[[stream]]\nprotocol = \"ctf\"\nfile = \"packets.bin\"\n"
                     "[stream.ctf]\nrecorder_hz = 1_000_000\n");
    const auto o = test::decode(folder / "a.target.toml");
    EXPECT_GE(o.trail->gaps.size(), 1U);
    const auto row = task_row(*o.trail, 0);
    EXPECT_GT(row.run.count, 950U);
    EXPECT_LT(row.run.count, 999U);
    EXPECT_EQ(row.run.greatest, Time::from_us(100)) << "nothing is made up of what is left of it";
}

}  // namespace
}  // namespace mt
