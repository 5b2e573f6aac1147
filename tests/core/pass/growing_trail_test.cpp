// A trail that grows in pieces is the trail of the whole; a break in a recorded stream is a gap like any other.
#include <gtest/gtest.h>

#include "judge/live_health.h"
#include "pass/growing_trail.h"
#include "replay/packet_block.h"
#include "support.h"

namespace mt {
namespace {

using Both = test::Opened;

Both opened(const std::string& path) { return test::decode(path); }

void expect_same(const Trail& a, const Trail& b) {
    EXPECT_EQ(a.end, b.end);
    EXPECT_EQ(a.gaps.size(), b.gaps.size());
    EXPECT_EQ(a.streams[0].packets, b.streams[0].packets);
    EXPECT_EQ(a.streams[0].events, b.streams[0].events);
    EXPECT_EQ(a.streams[0].counts, b.streams[0].counts);
    ASSERT_EQ(a.cores[0].lanes.size(), b.cores[0].lanes.size());
    for (std::size_t l = 0; l < a.cores[0].lanes.size(); ++l) {
        const ExceptionLane &x = a.cores[0].lanes[l], &y = b.cores[0].lanes[l];
        ASSERT_EQ(x.size(), y.size());
        for (std::size_t i = 0; i < x.size(); i += 7) {
            EXPECT_EQ(x.begin(i), y.begin(i));
            EXPECT_EQ(x.end(i), y.end(i));
            EXPECT_EQ(x.own(i), y.own(i));
            EXPECT_EQ(x.offset(i), y.offset(i));
        }
    }
}

TEST(GrowingTrail, InOddPiecesIsTheTrailOfTheWhole) {
    const Both whole = opened(test::data("mount/mount.target.toml"));
    GrowingTrail growing(*whole.recording);
    growing.start(0, {});
    const auto raw = whole.recording->streams[0].bytes();
    std::size_t step = 1;
    std::shared_ptr<Trail> early;
    for (std::size_t at = 0; at < raw.size(); step = step * 5 % 9973 + 1) {
        const std::size_t n = std::min(step, raw.size() - at);
        growing.feed(0, raw.subspan(at, n));
        at += n;
        if (!early && at > raw.size() / 2) early = growing.snapshot();
    }
    growing.finish(0);
    expect_same(*growing.snapshot(), *whole.trail);
    ASSERT_TRUE(early);
    EXPECT_LT(early->end, whole.trail->end);
    EXPECT_FALSE(early->streams[0].ended);
    EXPECT_EQ(early->cores[0].lanes[0].begin(3), whole.trail->cores[0].lanes[0].begin(3))
        << "a snapshot stays what it was";
}

TEST(GrowingTrail, CountsTheStopMark) {
    const Both whole = opened(MT_DEMO "/larkspur.target.toml");
    GrowingTrail growing(*whole.recording);
    growing.watch_port(31, 2);
    growing.start(0, {});
    growing.feed(0, whole.recording->streams[0].bytes());
    EXPECT_EQ(growing.seen_on_port(0, 31, 2), 10U) << "a guide frame each two seconds";
    EXPECT_EQ(growing.seen_on_port(0, 31, 3), 0U);
}

// The mount's stream with a break in the middle, as a recorder would have left it.
class Broken : public ::testing::Test {
  protected:
    void SetUp() override {
        for (const char* name : {"mount.target.toml", "firmware.elf"})
            std::filesystem::copy(test::data(std::string("mount/") + name), folder / name);
        const Both whole = opened(test::data("mount/mount.target.toml"));
        raw = test::read_bytes(whole.recording->streams[0].path);
        stream = folder / std::filesystem::path(whole.recording->streams[0].path).filename().string();
        packets = whole.trail->streams[0].packets;
        end = whole.trail->end;
        gaps = whole.trail->gaps.size();
    }
    Both with_journal(const std::vector<std::uint8_t>& bytes, const std::string& journal) {
        test::write_file(stream, bytes);
        test::write_file(stream + ".journal", journal);
        return opened(folder / "mount.target.toml");
    }
    static bool says(const Trail& trail, const std::string& part) {
        for (const auto& d : trail.doubts)
            if (d.text.find(part) != std::string::npos) return true;
        return false;
    }
    test::Folder folder;
    std::vector<std::uint8_t> raw;
    std::string stream;
    std::uint64_t packets = 0;
    std::size_t gaps = 0;
    Time end;
};

TEST_F(Broken, BytesThatWereNotReceivedAreAGapThatIsExplained) {
    auto bytes = raw;
    const std::size_t from = bytes.size() / 3, lost = 20'000;
    bytes.erase(bytes.begin() + static_cast<std::ptrdiff_t>(from),
                bytes.begin() + static_cast<std::ptrdiff_t>(from + lost));
    const Both b =
        with_journal(bytes, "{\"what\":\"lost\",\"offset\":" + std::to_string(from) + ",\"reason\":\"plug pulled\"}\n" +
                                "{\"what\":\"resumed\",\"offset\":" + std::to_string(from) + ",\"missing_s\":0.5}\n" +
                                "{\"what\":\"ended\",\"offset\":1,\"reason\":\"x\",\"unsaved\":0}\n");
    EXPECT_EQ(b.trail->gaps.size(), gaps + 1);
    EXPECT_TRUE(says(*b.trail, "plug pulled"));
    EXPECT_TRUE(says(*b.trail, "500 ms"));
    EXPECT_LT(b.trail->streams[0].packets, packets);
    EXPECT_NEAR(b.trail->end.seconds(), end.seconds(), 0.01) << "global timestamps restore the time that was lost";
    // Blocks that are decoded alone hold the packets of the pass, around the break too.
    std::uint64_t sum = 0;
    const auto& points = b.trail->streams[0].checkpoints;
    bool at_break = false;
    for (std::size_t i = 0; i < points.size(); ++i) {
        EXPECT_EQ(points[i].packets, sum) << "block " << i;
        sum += decode_block(*b.recording, *b.trail, 0, i).packets.size();
        at_break = at_break || (points[i].lost && points[i].raw_offset == from);
    }
    EXPECT_EQ(sum, b.trail->streams[0].packets);
    EXPECT_TRUE(at_break);
}

TEST_F(Broken, WithoutAnEndItSaysThatTheRecorderWasKilled) {
    const Both b = with_journal(raw, "{\"what\":\"started\",\"source\":\"tcp\",\"when\":\"now\"}\n");
    EXPECT_TRUE(says(*b.trail, "was not ended by its recorder"));
    EXPECT_EQ(b.trail->streams[0].packets, packets);
}

TEST_F(Broken, GivenUpBytesAreNotRead) {
    auto bytes = raw;
    const std::size_t first = bytes.size() / 2 / 4096 * 4096;
    std::fill(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(first),
              std::uint8_t{0});  // the hole reads as zeros
    const Both b = with_journal(bytes, "{\"what\":\"dropped\",\"offset\":" + std::to_string(first) + "}\n");
    EXPECT_TRUE(says(*b.trail, "given up to keep the newest"));
    EXPECT_EQ(b.trail->streams[0].bad_bytes, 0U);
    EXPECT_LT(b.trail->streams[0].lead_in, bytes.size() / 4);
    EXPECT_GT(b.trail->streams[0].packets, packets / 4);
}

TEST_F(Broken, MarkedMomentsKeepTheirTimeAndText) {
    const Both b = with_journal(
        raw, "{\"what\":\"note\",\"offset\":" + std::to_string(raw.size() / 2) + ",\"text\":\"the mount hums\"}\n");
    ASSERT_EQ(b.trail->notes.size(), 1U);
    EXPECT_EQ(b.trail->notes[0].text, "the mount hums");
    EXPECT_GT(b.trail->notes[0].time.seconds(), 0.3 * end.seconds());
    EXPECT_LT(b.trail->notes[0].time.seconds(), 0.7 * end.seconds());
    EXPECT_EQ(b.trail->streams[0].packets, packets) << "marking changes nothing else";
}

TEST_F(Broken, OffsetsBeyondTheStreamDoNoHarm) {
    const Both b = with_journal(raw,
                                "{\"what\":\"lost\",\"offset\":18446744073709551615,\"reason\":\"a\"}\n{\"what\":"
                                "\"ended\",\"offset\":0,\"reason\":\"\"}\n");
    EXPECT_EQ(b.trail->streams[0].packets, packets);
}

// The doubts of a recording that runs ------------------------------------------------------------------

class Sane : public ::testing::Test {
  protected:
    void SetUp() override {
        demo = opened(MT_DEMO "/larkspur.target.toml");
        state.recording = true;
        state.elapsed_s = 5;
        RunState::Stream s;
        s.stream = 0;
        s.core = "main";
        s.received.connected = true;
        s.received.bytes = 600'000;
        s.received.quiet_s = 0.01;
        state.streams = {s};
        figures.resize(1);
        figures[0].bytes_per_s = 140'000;
        figures[0].packets_per_s = 48'000;
        figures[0].sync_age_s = 0.05;
        figures[0].decoded = 600'000;
    }
    std::string said(HealthLine::Grade* grade = nullptr, const std::string& title = "") {
        std::string all;
        for (const auto& l : live_health(*demo.recording, demo.trail.get(), state, figures)) {
            all += l.title + ": " + l.detail + " [" + l.figure + "] " + l.advice + "\n";
            if (grade != nullptr && l.title.find(title) != std::string::npos) *grade = l.grade;
        }
        return all;
    }
    Both demo;
    RunState state;
    std::vector<LiveFigures> figures;
};

TEST_F(Sane, AHealthyRecordingHasNoDoubt) {
    const std::string all = said();
    EXPECT_NE(all.find("main: ITM: synchronised 0.05 s ago [140 kB/s]"), std::string::npos) << all;
    EXPECT_NE(all.find("line use 5.8 %: of 24.00 Mbaud"), std::string::npos) << all;
    EXPECT_NE(all.find("clock agrees: SysTick every 1.00 ms at 120 MHz"), std::string::npos) << all;
    EXPECT_NE(all.find("0 bad bytes"), std::string::npos) << all;
    for (const auto& l : live_health(*demo.recording, demo.trail.get(), state, figures))
        EXPECT_NE(l.grade, HealthLine::Grade::bad) << l.title;
}

TEST_F(Sane, ACoreThatADebuggerHoldsIsRightlySilent) {
    RunState::Core core;
    core.name = "main";
    core.debug = true;
    state.cores = {core};
    state.streams[0].received.quiet_s = 5;
    HealthLine::Grade grade = HealthLine::Grade::unknown;
    EXPECT_NE(said(&grade, "main: ITM").find("the core stands, silent for 5.0"), std::string::npos) << said();
    EXPECT_EQ(grade, HealthLine::Grade::good);
    state.cores[0].running = true;
    EXPECT_EQ(said(&grade, "main: ITM").find("the core stands"), std::string::npos);
    EXPECT_EQ(grade, HealthLine::Grade::watch);
}

TEST_F(Sane, SilenceIsToldFromALostConnection) {
    state.streams[0].received.bytes = 0;
    state.streams[0].received.quiet_s = 3.2;
    EXPECT_NE(said().find("no data for 3.20 s"), std::string::npos) << said();
    EXPECT_NE(said().find("Is trace enabled"), std::string::npos);
    state.streams[0].received.waiting_for = "no ring buffer stands there";
    EXPECT_NE(said().find("no ring buffer stands there"), std::string::npos) << said();
    state.cores = {{"main", true, false, false, 0, "", 0}};
    EXPECT_NE(said().find("resume it"), std::string::npos) << said();
    state.streams[0].received.connected = false;
    state.streams[0].received.trouble = "the other end closed the connection";
    EXPECT_NE(said().find("main: ITM: the other end closed"), std::string::npos) << said();
}

TEST_F(Sane, AFullLineAndAFullBufferAreToldBeforeTheyOverflow) {
    HealthLine::Grade grade{};
    figures[0].bytes_per_s = 2'000'000;
    said(&grade, "line use");
    EXPECT_EQ(grade, HealthLine::Grade::watch) << "83 %";
    figures[0].bytes_per_s = 2'300'000;
    said(&grade, "line use");
    EXPECT_EQ(grade, HealthLine::Grade::bad) << "96 %";
    figures[0].bytes_per_s = 4'000'000;
    EXPECT_NE(said().find("is swo_baud wrong?"), std::string::npos) << "more than the line carries";
    state.streams[0].received.fill = 0.8;
    said(&grade, "target's buffer");
    EXPECT_EQ(grade, HealthLine::Grade::watch);
}

TEST_F(Sane, WhatTheTargetFileNamesAndNobodySawIsSaid) {
    Recording changed = *demo.recording;
    WatchSpec watch;
    watch.comparator = 2;
    watch.symbol = "focus_state";
    watch.type = "u8";
    changed.target.watches.push_back(watch);
    const auto lines = live_health(changed, demo.trail.get(), state, figures);
    const bool there = std::any_of(lines.begin(), lines.end(), [](const HealthLine& l) {
        return l.title == "comparator 2 silent" && l.detail.find("focus_state: never seen in 5.00 s") == 0 &&
               !l.advice.empty();
    });
    EXPECT_TRUE(there);
}

TEST_F(Sane, AWrongClockIsDoubtedFromTheTick) {
    test::Folder folder;
    for (const char* name : {"larkspur.elf", "larkspur.svd", "larkspur-night.swo"})
        std::filesystem::copy(std::string(MT_DEMO "/") + name, folder / name);
    std::string target = test::read_text(MT_DEMO "/larkspur.target.toml");
    target.replace(target.find("120_000_000"), 11, "90_000_000 ");
    test::write_file(folder / "t.target.toml", target);
    demo = opened(folder / "t.target.toml");
    HealthLine::Grade grade{};
    const std::string all = said(&grade, "clock");
    EXPECT_EQ(grade, HealthLine::Grade::bad) << all;
    EXPECT_NE(all.find("SysTick every 1.33 ms at 90 MHz"), std::string::npos) << all;
}

// A clock at half its rate makes a tick of 2 ms, which is usual: only the time that really passed tells.
TEST_F(Sane, AWrongClockIsDoubtedFromTheTimeThatPassed) {
    figures[0].pace = 1.03;
    EXPECT_EQ(said().find("in doubt"), std::string::npos) << said();
    figures[0].pace = 2;
    HealthLine::Grade grade{};
    const std::string all = said(&grade, "clock");
    EXPECT_EQ(grade, HealthLine::Grade::bad) << all;
    EXPECT_NE(all.find("2.00 s of trace in each second"), std::string::npos) << all;
    EXPECT_NE(all.find("rather near 240.0 MHz than 120.0 MHz"), std::string::npos) << all;
}

TEST(ExceptionLane, GivesBackLongAndVagueExecutionsAsTheyWere) {
    ExceptionLane lane(17, "STEP_TIMER");
    std::vector<ExceptionInstance> all;
    Time at{};
    for (unsigned i = 0; i < 200; ++i) {
        ExceptionInstance x;
        x.number = 17;
        x.begin = at;
        // Usual ones, and each of the things that need more room than usual.
        x.end = at + Time::from_us(i % 7 == 1 ? 5'000 : 8);
        x.own = x.end - x.begin - Time::from_us(1);
        x.begin_slack = Time::from_us(i % 7 == 2 ? 70'000 : i % 3);
        x.end_slack = Time::from_us(i % 7 == 3 ? 66 : 0);
        x.offset = (std::uint64_t{i % 7 == 4} << 40) + i;
        x.depth = static_cast<std::uint8_t>(i);
        x.flags = i % 16;
        at = x.end + Time::from_us(2);
        lane.append(x);
        all.push_back(x);
    }
    for (std::size_t i = 0; i < all.size(); ++i) {
        const ExceptionInstance x = lane.instance(i);
        EXPECT_EQ(x.begin, all[i].begin);
        EXPECT_EQ(x.end, all[i].end);
        EXPECT_EQ(x.own, all[i].own);
        EXPECT_EQ(x.begin_slack, all[i].begin_slack);
        EXPECT_EQ(x.end_slack, all[i].end_slack);
        EXPECT_EQ(x.offset, all[i].offset);
        EXPECT_EQ(x.depth, all[i].depth);
        EXPECT_EQ(x.flags, all[i].flags);
        EXPECT_EQ(lane.flags(i), all[i].flags);
        EXPECT_EQ(lane.length(i), all[i].end - all[i].begin);
    }
    EXPECT_EQ(lane.longest(0, lane.size()), 1U);
}

}  // namespace
}  // namespace mt
