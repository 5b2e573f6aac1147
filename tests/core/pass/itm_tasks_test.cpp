// Tasks, values and marks without an operating system's events: the variable of the running task in data trace, ports,
// and names from tables, symbols and ORTI files.
#include <gtest/gtest.h>

#include <cstring>
#include <sstream>

#include "measure/states.h"
#include "measure/tasks.h"
#include "support.h"
#include "target/orti.h"

namespace mt {
namespace {

struct Truth {
    std::map<int, std::uint64_t> stretches;  ///< that ended
    std::map<int, std::int64_t> cycles;      ///< without interrupts
};

/// From the true events of the recording, by their stream times: who ran between two writes of the variable.
Truth truth() {
    Truth t;
    std::istringstream in(test::read_text(test::data("mount/truth.csv")));
    int task = -1, depth = 0;
    std::int64_t last = 0;
    for (std::string line; std::getline(in, line);) {
        std::vector<std::string> f;
        std::istringstream fields(line);
        for (std::string one; std::getline(fields, one, ',');) f.push_back(one);
        if (f.size() < 6) continue;
        const std::int64_t now = std::stoll(f[3]);
        const std::string& kind = f[4];
        const bool write = kind == "data_write" && f[5] == "0";
        if (!write && kind.rfind("exc_", 0) != 0) continue;
        if (task >= 0 && depth == 0) t.cycles[task] += now - last;
        last = now;
        if (kind == "exc_enter") ++depth;
        if (kind == "exc_exit") --depth;
        if (kind == "exc_return" && f[5] == "0") depth = 0;
        if (!write) continue;
        if (task >= 0 && task != std::stoi(f[7])) ++t.stretches[task];
        task = std::stoi(f[7]);
    }
    return t;
}

/// The recording's own target file, read from elsewhere, with a line more behind one of its lines.
std::string mount_target(const std::string& behind, const std::string& line) {
    std::string target = test::read_text(test::data("mount/mount.target.toml"));
    for (const std::string file : {"capture.bin", "firmware.elf"})
        target.replace(target.find("\"" + file), file.size() + 1, "\"" + test::data("mount/" + file));
    return target.replace(target.find(behind), behind.size(), behind + "\n" + line);
}

// Source packets of a stimulus port with four bytes each (Armv7-M ARM, appendix D4.2.6).
TEST(AValueOfTypeF32, KeepsWhatStandsBehindThePoint) {
    std::vector<std::uint8_t> bytes(5, 0x00);
    bytes.push_back(0x80);  // synchronisation
    const float values[] = {0.125F, -3.5F, 1.0e-3F, 21.75F};
    for (const float f : values) {
        std::uint32_t bits = 0;
        std::memcpy(&bits, &f, 4);
        bytes.push_back(12 << 3 | 3);
        for (int i = 0; i < 4; ++i) bytes.push_back(static_cast<std::uint8_t>(bits >> (8 * i)));
        bytes.push_back(0x10);  // a local timestamp
    }
    const test::Folder folder;
    const auto o = test::decode_bytes(folder, bytes, "120_000_000",
                                      "[[port]]\nnumber = 12\nname = \"seeing\"\nkind = \"value\"\ntype = \"f32\"\n");
    ASSERT_EQ(o.trail->tasks.values.size(), 1U);
    const ValueLane& lane = o.trail->tasks.values[0];
    ASSERT_EQ(lane.samples.size(), 4U);
    EXPECT_EQ(lane.value(0).text(), "0.125");
    EXPECT_EQ(lane.value(1).text(), "-3.5");
    EXPECT_EQ(lane.value(2).text(), "0.001");
    EXPECT_EQ(lane.value(3).text(), "21.75");
    EXPECT_EQ(lane.value_of(lane.least).text(), "-3.5");
    EXPECT_EQ(lane.value_of(lane.greatest).text(), "21.75");
}

TEST(RunningTaskVariable, GivesEachTasksTimeOnTheCoreAsInTheRecordingsTruth) {
    const auto o = test::decode(test::data("mount/mount.target.toml"));
    const Truth t = truth();
    ASSERT_EQ(o.trail->tasks.tasks.size(), 4U);
    for (const auto& lane : o.trail->tasks.tasks) {
        const int id = static_cast<int>(lane.id);
        EXPECT_EQ(lane.name, "task " + std::to_string(id));
        std::uint64_t ended = 0;
        for (std::size_t i = 0; i < lane.jobs.size(); ++i) ended += (lane.jobs[i].flags & TaskJob::kOpen) == 0 ? 1 : 0;
        EXPECT_EQ(ended, t.stretches.at(id)) << id;
        EXPECT_NEAR(static_cast<double>(o.trail->cores[0].clock.cycles(lane.cpu)), static_cast<double>(t.cycles.at(id)),
                    2000)
            << id << ": the recording goes on a little after the last such event";
    }
    const TaskRow busy = task_row(*o.trail, 0);
    EXPECT_FALSE(busy.priority_known);
    EXPECT_FALSE(busy.response.mean) << "when it became ready is not told";
    EXPECT_EQ(o.trail->tasks.tasks[1].state_at(o.trail->tasks.tasks[1].jobs[0].end), TaskState::unknown)
        << "whether it waits or was held off is not told";
}

TEST(RunningTaskVariable, TablesNameTasksAndValuesAndMarksStandInTheirLanes) {
    test::Folder folder;
    const std::string target =
        mount_target("role       = \"current-task\"", "names = { 0 = \"idle\", 0x1 = \"clock\", 3 = \"guide\" }");
    test::write_file(folder / "a.target.toml", target);
    const auto o = test::decode(folder / "a.target.toml");
    std::map<std::uint32_t, std::string> names;
    for (const auto& lane : o.trail->tasks.tasks) names[lane.id] = lane.name;
    EXPECT_EQ(names, (std::map<std::uint32_t, std::string>{{0, "idle"}, {1, "clock"}, {2, "task 2"}, {3, "guide"}}));
    for (const auto& lane : o.trail->tasks.tasks) EXPECT_EQ(lane.idle, lane.id == 0);
    std::map<std::string, std::size_t> samples;
    std::int64_t least = 0;
    for (const auto& v : o.trail->tasks.values) {
        samples[v.name] = v.samples.size();
        if (v.name == "axis_error") least = v.least;
    }
    EXPECT_EQ(samples["axis_error"], 476U);
    EXPECT_EQ(samples["guide_state"], 993U);
    EXPECT_LT(least, 0) << "it is signed";
    ASSERT_EQ(o.trail->tasks.marks.size(), 1U);
    EXPECT_EQ(o.trail->tasks.marks[0].name, "boot marks");
    EXPECT_EQ(own_number(o.trail->tasks.marks[0].id), 31U);
}

// A port that tells which runnable ran: 1 for a millisecond, 2 for half of one, and 0 for none between.
TEST(NamedValues, AreMeasuredAsStaysOfWhatTheyStandFor) {
    Trail trail;
    trail.cores.emplace_back().name = "main";
    ValueLane lane;
    lane.name = "runnable";
    lane.value_names = {{1, "read_encoder"}, {2, "set_rate"}};
    for (int turn = 0; turn < 10; ++turn) {
        const Time at = Time::from_ms(10.0 * turn);
        lane.append(at, 1);
        lane.append(at + Time::from_us(400), 1);  // written again: it goes on
        lane.append(at + Time::from_ms(1 + (turn == 6 ? 3 : 0)), 2);
        lane.append(at + Time::from_ms(turn == 6 ? 4.5 : 1.5), 0);
    }
    trail.end = Time::from_ms(100);
    trail.tasks.values.push_back(lane);
    const auto rows = state_rows(trail);
    ASSERT_EQ(rows.size(), 2U) << "0 has no name: none of them";
    EXPECT_EQ(rows[0].name, "read_encoder");
    EXPECT_EQ(rows[0].lane_name, "runnable");
    EXPECT_EQ(rows[0].core_name, "main");
    EXPECT_EQ(rows[0].stay.count, 10U);
    EXPECT_EQ(rows[0].left_out, 0U);
    EXPECT_EQ(rows[0].stay.least, Time::from_ms(1));
    EXPECT_EQ(rows[0].stay.greatest, Time::from_ms(4));
    EXPECT_EQ(rows[0].worst_begin, Time::from_ms(60));
    EXPECT_EQ(rows[0].worst_end, Time::from_ms(64));
    EXPECT_EQ(rows[0].period.mean, Time::from_ms(10));
    EXPECT_EQ(rows[1].stay.sum, Time::from_ms(5));
    EXPECT_NEAR(rows[0].share, 13.0 / 91.5, 1e-9) << "of all stays, those of none too, but for the last that goes on";

    Gap gap;
    gap.begin = Time::from_ms(20.5);
    gap.end = Time::from_ms(20.7);
    trail.gaps.push_back(gap);
    trail.streams.emplace_back();
    const auto cut = state_rows(trail);
    EXPECT_EQ(cut[0].stay.count, 9U) << "the one with the gap in it is no whole stay";
    EXPECT_EQ(cut[0].left_out, 1U);
    EXPECT_EQ(cut[1].stay.count, 9U) << "nor that of 2, whose begin may have been lost";
    EXPECT_EQ(cut[0].period.count, 8U) << "no period leads across it";
}

TEST(RunningTaskVariable, AfterALossNothingIsKnownUntilTheNextSwitch) {
    const auto o = test::decode(test::data("mount-framed/mount.target.toml"));
    ASSERT_GT(o.trail->gaps.size(), 100U);
    for (const auto& lane : o.trail->tasks.tasks)
        for (std::size_t i = 0; i < lane.jobs.size(); ++i) {
            const TaskJob& j = lane.jobs[i];
            EXPECT_GE(j.end, j.ready);
            if (!j.whole()) continue;
            for (std::size_t k = 0; k < o.trail->gaps.size(); ++k)
                EXPECT_FALSE(o.trail->gaps[k].end < j.end && j.ready < o.trail->gaps[k].end)
                    << lane.name << " at " << j.ready.ps;
            EXPECT_GT(j.run.ps, 0);
        }
}

const char* const kOrti =
    "VERSION { KOIL = \"2.2\"; OSSEMANTICS = \"ORTI\", \"2.2\"; }; // the declaration\n"
    "IMPLEMENTATION larkspur {\n"
    "  OS {\n"
    "    ENUM \"unsigned int\" [ \"NO_TASK\" = 0, \"clock\" : \"vs_clock\" = 1, \"track\" = \"&bus_lock\",\n"
    "      \"guide\" = \"0x20\" ] RUNNINGTASK, \"Running task\";\n"
    "    ENUM \"unsigned char\" [ \"other\" = 1 ] RUNNINGTASKPRIORITY, \"Its priority\";\n"
    "  }, \"OS\"; /* and the\n information */\n"
    "};\n"
    "OS larkspur_os { RUNNINGTASK = \"current_task\"; RUNNINGTASKPRIORITY = \"x\"; };\n";

TEST(OrtiFile, NamesTheValuesOfTheRunningTask) {
    const auto plain = parse_orti(kOrti, "a.orti", nullptr);
    ASSERT_TRUE(plain) << plain.error().text();
    EXPECT_EQ(plain->running_task, "current_task");
    EXPECT_EQ(plain->no_task, "NO_TASK");
    EXPECT_EQ(plain->tasks, (std::map<std::uint64_t, std::string>{{0, "NO_TASK"}, {1, "clock"}, {0x20, "guide"}}))
        << "a symbol's address is not known without an image";
    const auto image = Image::open(MT_DEMO "/larkspur.elf");
    ASSERT_TRUE(image);
    const auto with = parse_orti(kOrti, "a.orti", image->get());
    ASSERT_TRUE(with);
    const Symbol* lock = (*image)->symbol_named("bus_lock");
    ASSERT_NE(lock, nullptr);
    EXPECT_EQ(with->tasks.at(lock->address), "track");
}

TEST(OrtiFile, WhatItCannotUseIsAnError) {
    for (const char* bad : {"", "OS x { RUNNINGTASK = \"a\"; };", "ENUM [ \"a\" = 1", "ENUM \"unsigned", "/* no end",
                            "ENUM [ \"a\" = \"&nothing\" ] RUNNINGTASK;"}) {
        const auto read = parse_orti(bad, "a.orti", nullptr);
        ASSERT_FALSE(read) << bad;
        EXPECT_NE(read.error().where.find("a.orti"), std::string::npos);
        EXPECT_FALSE(read.error().advice.empty());
    }
    std::string text = kOrti;
    for (std::size_t n = 0; n < text.size(); ++n) (void)parse_orti(text.substr(0, n), "a.orti", nullptr);
}

TEST(OrtiFile, ItsNamesReachTheLanes) {
    test::Folder folder;
    const std::string target = mount_target("isa           = \"armv7e-m\"", "orti = \"a.orti\"");
    test::write_file(folder / "a.target.toml", target);
    test::write_file(folder / "a.orti", kOrti);
    const auto o = test::decode(folder / "a.target.toml");
    std::string names;
    for (const auto& lane : o.trail->tasks.tasks) names += lane.name + (lane.idle ? " (idle) " : " ");
    EXPECT_NE(names.find("NO_TASK (idle)"), std::string::npos) << names;
    EXPECT_NE(names.find("clock "), std::string::npos) << names;
    std::filesystem::remove(folder / "a.orti");
    const auto without = test::decode(folder / "a.target.toml");
    bool doubted = false;
    for (const auto& d : without.trail->doubts) doubted = doubted || d.text.find("ORTI") != std::string::npos;
    EXPECT_TRUE(doubted);
}

TEST(RunningTaskVariable, NamesOfValuesAreCheckedInTheTargetFile) {
    const std::string start =
        "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\nisa = \"armv7e-m\"\nclock_hz = 1000000\n"
        "[[stream]]\nprotocol = \"itm\"\ncore = \"main\"\n[[port]]\nnumber = 5\nrole = \"current-task\"\n";
    const auto good = parse_target_file(start + "names = { 7 = \"a\", 0x20 = \"b\" }\n", "t.toml");
    ASSERT_TRUE(good) << good.error().text();
    EXPECT_EQ(good->ports[0].names, (std::map<std::uint64_t, std::string>{{7, "a"}, {32, "b"}}));
    for (const std::string bad : {"names = { x = \"a\" }\n", "names = { 3 = 4 }\n", "names = { -1 = \"a\" }\n"}) {
        const auto read = parse_target_file(start + bad, "t.toml");
        ASSERT_FALSE(read) << bad;
        EXPECT_NE(read.error().what.find("no number with a name"), std::string::npos) << read.error().text();
    }
}

}  // namespace
}  // namespace mt
