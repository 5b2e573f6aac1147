// What is found, and that nothing is found where nothing is wrong.
#include "judge/finding.h"

#include <gtest/gtest.h>

#include "itm_writer.h"
#include "support.h"

namespace mt {
namespace {

using test::Folder;

constexpr std::uint64_t kHz = 120'000'000;
std::uint64_t us(double v) { return static_cast<std::uint64_t>(v * 120); }

std::vector<Finding> findings(const test::Opened& o) { return find_all(*o.recording, *o.trail); }

const Finding* first_of(const std::vector<Finding>& all, FindingKind kind) {
    for (const auto& f : all)
        if (f.kind == kind) return &f;
    return nullptr;
}

std::string titles(const std::vector<Finding>& all) {
    std::string text;
    for (const auto& f : all) text += f.title + " | " + f.cause + "\n";
    return text;
}

// A core with one interrupt every 500 µs for 5 µs, and `odd` to change entry n.
struct Entry {
    double at, length;
    bool happens = true;
};
std::vector<std::uint8_t> periodic(const std::function<void(int, Entry&)>& odd, int count = 600,
                                   std::uint64_t clock_share = 1) {
    board::ItmWriter out(kHz, 24'000'000);
    out.sync(0);
    out.exception(us(1), 0, 3);
    for (int n = 0; n < count; ++n) {
        Entry e{100.0 + 500.0 * n, 5.0 + 0.01 * (n % 7)};
        odd(n, e);
        if (!e.happens) continue;
        out.exception(us(e.at) / clock_share, 17, 1);
        out.exception(us(e.at + e.length) / clock_share, 17, 2);
        out.exception(us(e.at + e.length + 0.1) / clock_share, 0, 3);
    }
    out.flush(us(100 + 500.0 * count) / clock_share);
    return out.bytes();
}

TEST(Findings, AHealthyMountHasNone) {
    for (std::uint64_t seed = 1; seed <= 6; ++seed) {
        Folder folder;
        board::MountOptions options;
        options.seconds = 8;
        options.seed = seed;
        options.healthy = true;
        const auto all = findings(test::decode_bytes(folder, test::mount_bytes(options)));
        EXPECT_TRUE(all.empty()) << "seed " << seed << ":\n" << titles(all);
    }
}

TEST(Findings, TheDemonstrationHasItsSeven) {
    const auto all = findings(test::decode(test::demo("larkspur.target.toml")));
    ASSERT_EQ(all.size(), 7U) << titles(all);
    EXPECT_EQ(all[0].kind, FindingKind::fault);
    EXPECT_NE(all[0].cause.find("star_table_at"), std::string::npos) << all[0].cause;
    EXPECT_EQ(all[1].kind, FindingKind::late_response);
    EXPECT_EQ(all[1].involved[0].name, "ENC_INDEX");
    EXPECT_NE(all[1].cause.find("poll_status"), std::string::npos) << all[1].cause;
    EXPECT_NE(all[1].cause.find("masked by focus"), std::string::npos) << all[1].cause;
    EXPECT_EQ(all[2].kind, FindingKind::unaccounted_current);
    EXPECT_EQ(all[2].title, "board current 185 mA too high for 1.637 s");
    EXPECT_NE(all[2].cause.find("Before it ran focus"), std::string::npos) << all[2].cause;
    EXPECT_NE(all[2].cause.find("heater current tells the same"), std::string::npos) << all[2].cause;
    EXPECT_EQ(all[3].kind, FindingKind::priority_inversion);
    EXPECT_EQ(all[3].title, "clock waited 43.4 ms for bus_lock");
    EXPECT_NE(all[3].cause.find("guide, of a priority between them"), std::string::npos) << all[3].cause;
    EXPECT_EQ(all[4].kind, FindingKind::duration_outlier);
    EXPECT_EQ(all[4].involved[0].name, "guide");
    EXPECT_EQ(all[5].kind, FindingKind::stray_edge);
    EXPECT_EQ(all[5].title, "STEP moved without STEP_TIMER");
    EXPECT_EQ(all[6].kind, FindingKind::gap);
    EXPECT_NEAR((all[6].end - all[6].begin).us(), 3100, 100);
}

TEST(Findings, TheRepairedLockHasNoInversion) {
    for (const auto& f : findings(test::decode(test::demo("larkspur-repaired.target.toml"))))
        EXPECT_NE(f.kind, FindingKind::priority_inversion) << f.title;
}

TEST(Findings, OtherSeedsOfTheDemonstrationToo) {
    for (const std::uint64_t seed : {21u, 22u, 23u}) {
        Folder folder;
        board::MountOptions options;
        options.seed = seed;
        const auto all = findings(test::decode_bytes(folder, test::mount_bytes(options)));
        EXPECT_NE(first_of(all, FindingKind::fault), nullptr);
        EXPECT_NE(first_of(all, FindingKind::late_response), nullptr) << titles(all);
        EXPECT_NE(first_of(all, FindingKind::gap), nullptr);
        EXPECT_LE(all.size(), 5U) << titles(all);
    }
}

TEST(Findings, ARealRecordingGivesItsFaultAndNoFalseAlarm) {
    const auto all = findings(test::decode(test::data("mount/mount.target.toml")));
    ASSERT_EQ(all.size(), 2U) << titles(all);
    EXPECT_EQ(all[0].kind, FindingKind::fault);
    EXPECT_EQ(all[0].involved[0].name, "BusFault");
    EXPECT_EQ(all[1].kind, FindingKind::value_stuck) << "the error stands at its limit, on the way to the fault";
    const auto framed = findings(test::decode(test::data("mount-framed/mount.target.toml")));
    const Finding* gap = first_of(framed, FindingKind::gap);
    ASSERT_NE(gap, nullptr) << titles(framed);
    EXPECT_EQ(gap->alike, 522U);
    for (const Finding& f : framed)
        EXPECT_TRUE(f.kind == FindingKind::fault || f.kind == FindingKind::gap || f.kind == FindingKind::value_stuck)
            << titles(framed);
}

TEST(Findings, ADamagedExceptionNumberIsNoFault) {
    auto bytes = periodic([](int, Entry&) {});
    // The number of one entry becomes MemManage's; its exit still bears the true one.
    std::size_t at = bytes.size() / 2;
    while (!(bytes[at] == 0x0E && bytes[at + 1] == 17 && bytes[at + 2] == 0x10)) ++at;
    bytes[at + 1] = 4;
    Folder folder;
    const auto o = test::decode_bytes(folder, bytes);
    EXPECT_EQ(o.trail->cores[0].contradictions, 1U);
    EXPECT_EQ(first_of(findings(o), FindingKind::fault), nullptr) << "the next packet contradicts it";
    EXPECT_FALSE(o.trail->doubts.empty()) << "but it is said that something was lost";
}

TEST(Findings, OneLateEntryAmongHundreds) {
    Folder folder;
    const auto o = test::decode_bytes(folder, periodic([](int n, Entry& e) {
                                          if (n == 333) e.at += 71.8;
                                      }));
    const auto all = findings(o);
    ASSERT_EQ(all.size(), 1U) << titles(all);
    EXPECT_EQ(all[0].kind, FindingKind::late_response);
    EXPECT_EQ(all[0].about->index, 333U);
    EXPECT_NEAR((all[0].end - all[0].begin).us(), 71.8 + 5, 0.2) << "from when it was due to its end";
    EXPECT_NE(all[0].cause.find("masked"), std::string::npos);
}

TEST(Findings, ALastingShiftOfTheGridIsNotALateEntry) {
    Folder folder;
    const auto all = findings(test::decode_bytes(folder, periodic([](int n, Entry& e) {
                                                     if (n >= 300) e.at += 80;
                                                 })));
    EXPECT_EQ(first_of(all, FindingKind::late_response), nullptr) << titles(all);
}

// While interrupts were masked for more than a period only one request can wait: one entry is missing, and the one that
// comes is as late as its request is old.
TEST(Findings, AnEntryMoreThanAPeriodLateIsAsLateAsItTrulyIs) {
    Folder folder;
    const auto all = findings(test::decode_bytes(folder, periodic([](int n, Entry& e) {
                                                     if (n == 333) e.at += 620;
                                                     e.happens = n != 334;
                                                 })));
    const Finding* f = first_of(all, FindingKind::late_response);
    ASSERT_NE(f, nullptr) << titles(all);
    EXPECT_NE(f->title.find("620 µs late"), std::string::npos) << f->title;
    EXPECT_NEAR(f->begin.us(), 100 + 500.0 * 333, 1) << "from when it was due";
    EXPECT_EQ(first_of(all, FindingKind::missed_activation), nullptr) << "one cause, one finding";
}

TEST(Findings, AMissedActivation) {
    Folder folder;
    const auto all =
        findings(test::decode_bytes(folder, periodic([](int n, Entry& e) { e.happens = n != 250 && n != 251; })));
    const Finding* f = first_of(all, FindingKind::missed_activation);
    ASSERT_NE(f, nullptr) << titles(all);
    EXPECT_NE(f->title.find("2 activations"), std::string::npos) << f->title;
    EXPECT_NEAR(f->begin.us(), 100 + 500.0 * 250, 1);
}

TEST(Findings, OneExecutionMuchLongerThanItsPeers) {
    Folder folder;
    const auto all = findings(test::decode_bytes(folder, periodic([](int n, Entry& e) {
                                                     if (n == 400) e.length = 21;
                                                 })));
    const Finding* f = first_of(all, FindingKind::duration_outlier);
    ASSERT_NE(f, nullptr) << titles(all);
    EXPECT_EQ(f->about->index, 400U);
    EXPECT_NE(f->title.find("4.2 ×"), std::string::npos) << f->title;
}

TEST(Findings, TwoUsualDurationsAreNotOutliers) {
    Folder folder;
    const auto all = findings(test::decode_bytes(folder, periodic([](int n, Entry& e) {
                                                     if (n % 16 == 0) e.length = 30;
                                                 })));
    EXPECT_TRUE(all.empty()) << titles(all);
}

TEST(Findings, AStormOfEntries) {
    Folder folder;
    board::ItmWriter out(kHz, 24'000'000);
    out.sync(0);
    out.exception(us(1), 0, 3);
    double t = 100;
    for (int n = 0; n < 900; ++n) {
        t += n >= 500 && n < 540 ? 14 : 480 + 40 * (n % 3);
        out.exception(us(t), 19, 1);
        out.exception(us(t + 4), 19, 2);
        out.exception(us(t + 4.1), 0, 3);
    }
    out.flush(us(t + 10));
    const auto all = findings(test::decode_bytes(folder, out.bytes()));
    const Finding* f = first_of(all, FindingKind::interrupt_storm);
    ASSERT_NE(f, nullptr) << titles(all);
    EXPECT_GE(f->about->index, 498U);
    EXPECT_LT(f->about->index, 540U);
}

TEST(Findings, ASourceThatAlwaysComesInBurstsIsNoStorm) {
    Folder folder;
    board::ItmWriter out(kHz, 24'000'000);
    out.sync(0);
    for (int n = 0; n < 1200; ++n) {
        const double t = 100 + (n / 60) * 50'000.0 + (n % 60) * 87.0;
        out.exception(us(t), 19, 1);
        out.exception(us(t + 3), 19, 2);
        out.exception(us(t + 3.1), 0, 3);
    }
    out.flush(us(2e6));
    EXPECT_TRUE(findings(test::decode_bytes(folder, out.bytes())).empty());
}

TEST(Findings, ANestDeeperThanEverElse) {
    Folder folder;
    board::ItmWriter out(kHz, 24'000'000);
    out.sync(0);
    out.exception(us(1), 0, 3);
    for (int n = 0; n < 2500; ++n) {
        const double t = 100 + 200.0 * n;
        out.exception(us(t), 20, 1);
        if (n == 1500) {
            out.exception(us(t + 1), 19, 1);
            out.exception(us(t + 2), 18, 1);
            out.exception(us(t + 3), 18, 2);
            out.exception(us(t + 3.1), 19, 3);
            out.exception(us(t + 3.5), 19, 2);
            out.exception(us(t + 3.6), 20, 3);
        }
        out.exception(us(t + 5), 20, 2);
        out.exception(us(t + 5.1), 0, 3);
    }
    out.flush(us(1e6));
    const auto all = findings(test::decode_bytes(folder, out.bytes()));
    const Finding* f = first_of(all, FindingKind::deep_nest);
    ASSERT_NE(f, nullptr) << titles(all);
    EXPECT_NE(f->title.find("3 handlers"), std::string::npos);
    EXPECT_EQ(f->involved.size(), 3U);
}

TEST(Findings, AWrongClockShowsInTheTick) {
    board::MountOptions options;
    options.seconds = 4;
    options.healthy = true;
    const auto bytes = test::mount_bytes(options);
    Folder folder;
    const auto all = findings(test::decode_bytes(folder, bytes, "90_000_000"));
    const Finding* f = first_of(all, FindingKind::clock_doubt);
    ASSERT_NE(f, nullptr) << titles(all);
    EXPECT_EQ(all[0].kind, FindingKind::clock_doubt) << "before everything that scales with it";
    EXPECT_NE(f->cause.find("120 MHz rather than 90"), std::string::npos) << f->cause;
    Folder right;
    EXPECT_EQ(clock_check(*test::decode_bytes(right, bytes).trail, 0), ClockCheck::agrees);
}

// A steady interrupt; global timestamps count so many times as fast as local ones.
std::vector<std::uint8_t> with_global_time(std::uint64_t times) {
    board::ItmWriter out(kHz, 24'000'000);
    out.sync(0);
    for (int n = 1; n < 400; ++n) {
        out.exception(us(50.0 * n), 17, 1);
        out.exception(us(50.0 * n + 2), 17, 2);
        if (n % 20 == 0) out.global_time(us(50.0 * n + 3), us(50.0 * n + 3) * times);
    }
    out.flush(us(50.0 * 401));
    return out.bytes();
}

// All doubts about it, with what to do.
std::string doubts_of(const std::vector<std::uint8_t>& bytes, const std::string& more = {}) {
    Folder folder;
    const auto o = test::decode_bytes(folder, bytes, "120_000_000", more);
    std::string said;
    for (const auto& d : o.trail->doubts) said += d.text + " " + d.advice + "\n";
    return said;
}

// The same recording as if every tick were four cycles: ticks are a quarter, global time is not.
TEST(Findings, AWrongPrescalerShowsInTheGlobalTimestamps) {
    const std::string said = doubts_of(with_global_time(4));
    EXPECT_NE(said.find("timestamp_prescaler 4 rather than 1"), std::string::npos) << said;
}

// The other way round: four cycles to a tick are stated, but each tick is one.
TEST(Findings, APrescalerThatIsStatedTooLargeShowsInTheGlobalTimestamps) {
    const auto doubts = [bytes = with_global_time(1)](const std::string& prescaler) {
        return doubts_of(bytes, "[stream.itm]\ntimestamp_prescaler = " + prescaler + "\n");
    };
    EXPECT_EQ(doubts("1").find("timestamp_prescaler"), std::string::npos) << doubts("1");
    EXPECT_NE(doubts("4").find("timestamp_prescaler 1 rather than 4"), std::string::npos) << doubts("4");
    EXPECT_NE(doubts("16").find("timestamp_prescaler 1 rather than 16"), std::string::npos) << doubts("16");
    EXPECT_NE(doubts("64").find("timestamp_prescaler 1 rather than 64"), std::string::npos) << doubts("64");
}

// A second at the recording computer must be about a second of the trace.
TEST(Findings, AClockThatIsWrongByAFactorShowsInHowLongALiveRecordingTook) {
    const auto bytes = periodic([](int, Entry&) {}, 8000);  // four seconds
    const auto said = [&](const std::string& lasted, const std::string& source) {
        Folder folder;
        test::write_file(folder / "stream.bin", bytes);
        test::write_file(folder / "stream.bin.journal",
                         "{\"what\":\"started\",\"source\":\"" + source +
                             "\",\"when\":\"2026-11-23T20:00:00Z\"}\n"
                             "{\"what\":\"ended\",\"offset\":" +
                             std::to_string(bytes.size()) +
                             ",\"reason\":\"by hand\",\"unsaved\":0,\"lasted_s\":" + lasted + "}\n");
        test::write_file(folder / "x.target.toml", test::itm_target("stream.bin"));
        const auto o = test::decode(folder / "x.target.toml");
        std::string text;
        for (const auto& d : o.trail->doubts) text += d.text + " " + d.advice + "\n";
        return text;
    };
    const std::string line = "tcp 127.0.0.1:3344", asks = "Is clock_hz or timestamp_prescaler wrong by that factor?";
    EXPECT_EQ(said("4.1", line).find(asks), std::string::npos) << said("4.1", line);
    EXPECT_NE(said("2.0", line).find(asks), std::string::npos) << "four seconds of trace in two: " << said("2.0", line);
    EXPECT_NE(said("16.0", line).find("4 times as little"), std::string::npos) << said("16.0", line);
    EXPECT_EQ(said("16.0", "file night.swo").find(asks), std::string::npos) << "a file grows as it likes";
}

TEST(Findings, AnImageThatDidNotRunIsDoubted) {
    Folder folder;
    board::MountOptions options;
    options.seconds = 2;
    options.healthy = true;
    const auto bytes = board::record_mount(options, [](const std::string&) {
        return std::pair<std::uint32_t, std::uint32_t>{0x10000000, 64};
    });
    test::write_file(folder / "stream.bin", bytes);
    test::write_file(folder / "x.target.toml", test::itm_target("stream.bin", true));
    const auto all = findings(test::decode(folder / "x.target.toml"));
    const Finding* f = first_of(all, FindingKind::image_doubt);
    ASSERT_NE(f, nullptr) << titles(all);
    EXPECT_NE(f->cause.find("0x1000"), std::string::npos) << "it names the first address that disagrees: " << f->cause;
}

TEST(Findings, NoneOfThemNeedsMoreThanAnEmptyRecording) {
    Folder folder;
    EXPECT_NO_THROW(findings(test::decode_bytes(folder, {0, 0, 0, 0, 0, 0x80})));
}

}  // namespace
}  // namespace mt
