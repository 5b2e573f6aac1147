// A trace of events with one damaged place: what is doubted, and what stands all the same.
#include <gtest/gtest.h>

#include <algorithm>
#include <random>
#include <set>

#include "judge/finding.h"
#include "written_events.h"

namespace mt {
namespace {

using test::event;

constexpr const char* kMount = "tasks/mount-b/trace";  // two cores

// The recording with one file changed.
struct Changed {
    test::Folder folder;
    test::Opened opened;
    template <class Change>
    Changed(const std::string& file, Change change) {
        const std::string from = test::data(kMount);
        std::filesystem::create_directories(folder / "t");
        for (const auto& e : std::filesystem::directory_iterator(from))
            std::filesystem::copy_file(e.path(), folder / ("t/" + e.path().filename().string()));
        auto bytes = test::read_bytes(from + "/" + file);
        change(bytes);
        test::write_file(folder / ("t/" + file), bytes);
        opened = test::decode(folder / "t");
    }
};

std::set<std::string> titles_of(const test::Opened& o, const std::string& core) {
    std::set<std::string> all;
    for (const Finding& f : find_all(*o.recording, *o.trail))
        if (f.core == core) all.insert(f.title);
    return all;
}

void overwrite(std::vector<std::uint8_t>& bytes, std::size_t from, std::size_t length) {
    std::mt19937 random(5);
    for (std::size_t i = 0; i < length; ++i) bytes[from + i] = static_cast<std::uint8_t>(random());
}

const EventSource::File& file_of(const test::Opened& o, const std::string& name) {
    const auto& files = o.recording->events->files;
    return *std::find_if(files.begin(), files.end(), [&](const auto& f) { return f.path.find(name) != f.path.npos; });
}

// An event of a packet as the recorder writes it: 5 bits of number, then 27 bits of the clock (os-events.md).
std::uint32_t word_at(const std::vector<std::uint8_t>& bytes, std::size_t at) {
    return static_cast<std::uint32_t>(bytes[at] | bytes[at + 1] << 8 | bytes[at + 2] << 16 | bytes[at + 3] << 24);
}
void put_word(std::vector<std::uint8_t>& bytes, std::size_t at, std::uint32_t word) {
    for (unsigned i = 0; i < 4; ++i) bytes[at + i] = static_cast<std::uint8_t>(word >> 8 * i);
}

TEST(DamagedEvents, OfOneCoreLeaveTheOtherCoreSure) {
    const auto whole = test::decode(test::data(kMount));
    const CtfPacket hit = file_of(whole, "core1").packets[3];
    const Changed d("core1", [&](auto& bytes) { overwrite(bytes, hit.offset + hit.bytes / 2, 100); });
    const Trail& trail = *d.opened.trail;
    ASSERT_FALSE(trail.doubtful.empty());
    EXPECT_TRUE(trail.trusted(0, Time{}, trail.end));
    EXPECT_FALSE(trail.trusted(1, Time{}, trail.end));
    EXPECT_EQ(titles_of(d.opened, "core0"), titles_of(whole, "core0"));
}

TEST(DamagedEvents, DoubtOfTheirPacketOnlyWhatLiesAroundAndBehindThem) {
    const auto whole = test::decode(test::data(kMount));
    const EventSource& source = *whole.recording->events;
    const CtfPacket hit = file_of(whole, "core0").packets[20];
    const Changed d("core0", [&](auto& bytes) { overwrite(bytes, hit.offset + hit.bytes * 3 / 4, 100); });
    const Time begin = source.at(hit.stream_class, hit.begin), end = source.at(hit.stream_class, hit.end);
    const Time half = begin + Time{(end - begin).ps / 2};
    EXPECT_TRUE(d.opened.trail->trusted(0, begin, half)) << "it was read long before anything was wrong";
    EXPECT_FALSE(d.opened.trail->trusted(0, half, end));
    EXPECT_TRUE(d.opened.trail->trusted(0, Time{}, begin));
}

// A time whose upper bits are smaller than those before reads as a wrap of the 27 bits: all events behind it are 134 ms
// late, yet the packet says when it ended (CTF 1.8.3, 5.2: timestamp_end).
TEST(DamagedEvents, ThatReadTooLateEndWithTheirPacketAndAreDoubted) {
    const auto whole = test::decode(test::data(kMount));
    const EventSource& source = *whole.recording->events;
    const CtfPacket hit = file_of(whole, "core0").packets[10];
    const Changed d("core0", [&](auto& bytes) {
        CtfCursor cursor(*source.metadata);
        cursor.open(bytes, hit);
        for (int i = 0; i < 300; ++i) ASSERT_TRUE(cursor.next());
        const std::size_t at = cursor.event_offset();
        const std::uint32_t word = word_at(bytes, at), time = word >> 5;
        put_word(bytes, at, (word & 31) | ((time - 10'000'000) & 0x7FF'FFFF) << 5);
    });
    const Time begin = source.at(hit.stream_class, hit.begin), end = source.at(hit.stream_class, hit.end);
    const Trail& trail = *d.opened.trail;
    EXPECT_FALSE(trail.trusted(0, end - Time::from_ms(1), end));
    EXPECT_TRUE(trail.trusted(0, Time{}, begin)) << "the event lies well behind the packet's begin";
    EXPECT_TRUE(trail.trusted(0, end + Time::from_ms(5), trail.end)) << "the next packet is none the worse";
    EXPECT_EQ(trail.tasks.streams[0].damaged_packets, 1U);
    const auto& doubts = trail.doubts;
    EXPECT_TRUE(std::any_of(doubts.begin(), doubts.end(), [](const Doubt& doubt) {
        return doubt.text.find("later than the end of their packet") != std::string::npos;
    }));
}

// An interrupt cannot interrupt itself: its end was not recorded.
TEST(DamagedEvents, AnInterruptThatBeginsAgainEndedUnseen) {
    test::WrittenEvents events;
    events.task(1);
    events.write(1'000, event(OsKind::isr_enter, 7));  // its end is missing
    for (std::int64_t us = 2'000; us < 10'000; us += 1'000) {
        events.write(us, event(OsKind::isr_enter, 7));
        events.write(us + 10, event(OsKind::isr_exit, 7));
    }
    const auto o = events.decode();
    const TaskTrail& tasks = o.trail->tasks;
    EXPECT_EQ(tasks.contradictions, 1U);
    ASSERT_TRUE(tasks.first_contradiction);
    EXPECT_NE(tasks.first_contradiction->what.find("begins though it has not ended"), std::string::npos);
    EXPECT_FALSE(o.trail->trusted(0, Time::from_us(1'500), Time::from_us(1'500)));
    ASSERT_EQ(tasks.tasks.size(), 1U);
    EXPECT_GT(tasks.tasks[0].cpu, Time::from_us(7'000)) << "behind it time belongs to the task again";
    ASSERT_EQ(o.trail->cores[0].lanes.size(), 1U);
    EXPECT_EQ(o.trail->cores[0].lanes[0].size(), 9U);
}

// Nor do tasks run on and block themselves below a handler: what said that it began was no such event.
TEST(DamagedEvents, AnInterruptThatNeverEndsDoesNotTakeAllTime) {
    test::WrittenEvents events;
    events.task(1);
    events.write(1'000, event(OsKind::isr_enter, 47));
    for (std::int64_t us = 2'000; us < 102'000; us += 1'000) {
        events.write(us, event(OsKind::isr_enter, 7));
        events.write(us + 10, event(OsKind::task_ready, 1));
        events.write(us + 20, event(OsKind::isr_exit, 7));
        events.write(us + 30, event(OsKind::task_switch_in, 1));
        events.write(us + 530, test::next_job(1));
    }
    const auto o = events.decode();
    const TaskTrail& tasks = o.trail->tasks;
    ASSERT_TRUE(tasks.first_contradiction);
    ASSERT_EQ(tasks.tasks.size(), 1U);
    EXPECT_GT(tasks.tasks[0].cpu, Time::from_ms(40)) << "90 jobs of half a millisecond";
    EXPECT_TRUE(std::any_of(o.trail->doubts.begin(), o.trail->doubts.end(),
                            [](const Doubt& d) { return d.text.find("contradict") != std::string::npos; }));
    EXPECT_FALSE(o.trail->trusted(0, Time::from_us(5'000), Time::from_us(5'000)));
}

// What a doubted packet of one core says of a task that lives on the other is no surer there.
TEST(DamagedEvents, DoubtTheTasksOfOtherCoresThatTheyTell) {
    test::WrittenEvents events(2);
    for (std::uint16_t core = 0; core < 2; ++core) events.task(core, core);
    for (std::int64_t us = 1'000; us < 9'000; us += 1'000) {
        events.write(us, test::next_job(1), 1);
        events.write(us + 100, event(OsKind::task_ready, 1), 0);
        events.write(us + 110, event(OsKind::task_switch_in, 1), 1);
    }
    const auto whole = events.decode();
    const auto trusted = [](const test::Opened& o) {
        return o.trail->tasks.tasks[1].trusted(Time::from_us(3'100), Time::from_us(3'100));
    };
    ASSERT_EQ(whole.trail->tasks.tasks.size(), 2U);
    EXPECT_TRUE(trusted(whole));
    const EventSource& source = *whole.recording->events;
    auto bytes = test::read_bytes(source.files[0].path);
    CtfCursor cursor(*source.metadata);
    cursor.open(bytes, source.files[0].packets[0]);
    for (int i = 0; i < 7; ++i) ASSERT_TRUE(cursor.next());
    bytes[cursor.event_offset()] = 0xFE;  // no event has this number
    test::write_file(source.files[0].path, bytes);
    const auto damaged = events.decode();
    EXPECT_EQ(damaged.trail->tasks.streams[0].damaged_packets, 1U);
    EXPECT_TRUE(damaged.trail->trusted(1, Time{}, Time::from_ms(5)));
    EXPECT_FALSE(trusted(damaged));
}

}  // namespace
}  // namespace mt
