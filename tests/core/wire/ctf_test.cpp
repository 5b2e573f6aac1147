// Metadata and packets of the Common Trace Format: both versions, every sort of field, and what is wrong with them.
#include <gtest/gtest.h>

#include <random>

#include "base/text.h"
#include "judge/finding.h"
#include "measure/tasks.h"
#include "share/ctf_writer.h"
#include "share/task_tables.h"
#include "support.h"
#include "wire/ctf_metadata.h"

namespace mt {
namespace {

Result<CtfMetadata> metadata(const std::string& text) {
    return read_ctf_metadata({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, "metadata");
}

std::string problem_of(const std::string& text) {
    const auto m = metadata(text);
    return m ? "none" : m.error().text();
}

// One trace of one file, and the text of its events.
std::vector<std::string> events_of(const std::string& meta, const std::vector<std::uint8_t>& bytes) {
    test::Folder folder;
    std::filesystem::create_directories(folder / "t");
    test::write_file(folder / "t/metadata", meta);
    test::write_file(folder / "t/stream", bytes);
    const auto o = test::decode(folder / "t");
    std::vector<std::string> all;
    each_trace_event(*o.recording, *o.trail, std::nullopt, std::nullopt, [&](const TraceEventText& e) {
        all.push_back(ns_text(e.time) + " " + e.kind + " " + e.detail);
        return true;
    });
    return all;
}

const std::string kHead =
    "/* CTF 1.8 */ trace { major = 1; minor = 8; byte_order = le; };\n"
    "typealias integer { size = 8; align = 8; } := u8;\n"
    "typealias integer { size = 16; align = 8; } := u16;\n"
    "typealias integer { size = 16; align = 8; byte_order = be; } := be16;\n"
    "clock { name = c; freq = 1000000; };\n"
    "stream { id = 0; event.header := struct { u8 id; integer { size = 32; map = clock.c.value; } timestamp; }; };\n";

// CTF 1.8.3: byte order 4.1.3, integers 4.1.5, bit fields 4.1.6, floating point 4.1.7, enumerations 4.1.8, variants
// 4.2.2, arrays 4.2.3, sequences 4.2.4, strings 4.2.5.
TEST(CtfMetadata, ReadsEverySortOfFieldOfVersion1) {
    const std::string meta =
        kHead +
        "event { name = \"all\"; id = 3; stream_id = 0; fields := struct {\n"
        "  be16 big; integer { size = 4; align = 1; } low; integer { size = 12; signed = true; align = 1; } high;\n"
        "  enum : u8 { zero, one = 1, few = 2 ... 5 } word;\n"
        "  string name; u8 n; u16 list[n]; integer { size = 8; encoding = UTF8; } tag[4];\n"
        "  floating_point { exp_dig = 8; mant_dig = 24; align = 8; } real;\n"
        "  enum : u8 { small, large } kind; variant <kind> { u8 small; u16 large; } v;\n"
        "}; };\n";
    std::vector<std::uint8_t> bytes = {3, 10, 0, 0,   0,   0x12, 0x34, 0xF5, 0xFF, 4,    'a',  'b', 0,    2, 1,
                                       0, 2,  0, 'x', 'y', 0,    0,    0,    0,    0xC0, 0x3F, 1,   0xE8, 3};
    const auto all = events_of(meta, bytes);
    ASSERT_EQ(all.size(), 1U);
    EXPECT_EQ(
        all[0],
        "0.000 all big=4660 low=5 high=-1 word=few name=\"ab\" n=2 list=[1 2] tag=\"xy\" real=1.5 kind=large v=1000");
}

// CTF2-SPEC-2.0, section 5.3 (field classes) and 6.3 (how they are decoded).
TEST(CtfMetadata, ReadsEverySortOfFieldOfVersion2) {
    const auto fragment = [](const std::string& j) { return "\x1e" + j + "\n"; };
    const std::string u8 =
        R"({"type":"fixed-length-unsigned-integer","length":8,"byte-order":"little-endian","alignment":8})";
    const std::string meta =
        fragment(R"({"type":"preamble","version":2})") +
        fragment(R"({"type":"field-class-alias","name":"byte","field-class":)" + u8 + "}") +
        fragment(R"({"type":"data-stream-class","id":0})") +
        fragment(R"({"type":"event-record-class","id":0,"data-stream-class-id":0,"name":"e","payload-field-class":
        {"type":"structure","member-classes":[
          {"name":"v","field-class":{"type":"variable-length-signed-integer"}},
          {"name":"there","field-class":"byte"},
          {"name":"maybe","field-class":{"type":"optional","selector-field-location":{"path":["there"]},
            "selector-field-ranges":[[1,1]],"field-class":"byte"}},
          {"name":"yes","field-class":{"type":"fixed-length-boolean","length":8,"byte-order":"little-endian","alignment":8}},
          {"name":"s","field-class":{"type":"static-length-string","length":3}},
          {"name":"n","field-class":"byte"},
          {"name":"blob","field-class":{"type":"dynamic-length-blob","length-field-location":{"path":["n"]}}},
          {"name":"pair","field-class":{"type":"static-length-array","length":2,"element-field-class":"byte"}}]}})");
    const auto all = events_of(meta, {0x7F, 1,    9, 1, 'a', 'b', 'c', 2, 0xDE, 0xAD, 5, 6,  //
                                      0xC0, 0x00, 0, 0, 'x', 0,   0,   0, 7,    8});
    ASSERT_EQ(all.size(), 2U);
    EXPECT_NE(all[0].find("v=-1 there=1 maybe=9 yes=true s=\"abc\" n=2 blob=de ad pair=[5 6]"), std::string::npos)
        << all[0];
    EXPECT_NE(all[1].find("v=64 there=0 yes=false s=\"x\" n=0 blob= pair=[7 8]"), std::string::npos) << all[1];
}

// CTF 1.8.3, 7 and appendix C; CTF2-SPEC-2.0, 5.
TEST(CtfMetadata, SaysLineAndColumnOfWhatIsWrong) {
    EXPECT_NE(problem_of("/* CTF 1.8 */\ntrace {\n  major = x;\n};").find("metadata:3:11"), std::string::npos)
        << problem_of("/* CTF 1.8 */\ntrace {\n  major = x;\n};");
    EXPECT_NE(problem_of(kHead + "event { name = \"e\"; fields := struct { nothing a; }; };")
                  .find("the type 'nothing' is not defined"),
              std::string::npos);
    EXPECT_NE(
        problem_of(kHead + "event { name = \"e\"; fields := struct { u8 a[n]; }; };").find("names no field before it"),
        std::string::npos);
    EXPECT_NE(problem_of("\x1e{\"type\":\"preamble\",\"version\":2}\n\x1e{\"type\":").find("not valid JSON"),
              std::string::npos);
    EXPECT_NE(problem_of("\x1e{\"type\":\"preamble\",\"version\":2}\n\x1e{\"type\":").find("metadata:2:"),
              std::string::npos);
    EXPECT_NE(problem_of("event { /* no end").find("a comment has no end"), std::string::npos);
    std::string deep;
    for (int i = 0; i < 5000; ++i) deep += "struct { ";
    EXPECT_NE(problem_of(kHead + "event { name = \"e\"; fields := " + deep).find("nested too deep"), std::string::npos);
    EXPECT_NE(problem_of("").find("empty"), std::string::npos);
}

// Two ways lead through an event: by the types themselves, with a sink, and by programs made of them.
void expect_both_ways_equal(const CtfMetadata& m, const std::vector<std::uint8_t>& bytes, std::size_t& events) {
    CtfCursor slow(m), fast(m);
    CtfPacket p;
    for (std::uint64_t at = 0; at < bytes.size(); at += p.bytes) {
        const auto found = slow.packet_at(bytes, at, p);
        if (found != CtfCursor::Found::packet && found != CtfCursor::Found::partial) return;
        if (p.bytes == 0) return;
        slow.open(bytes, p);
        fast.open(bytes, p);
        for (;;) {
            CtfText sink;
            const bool a = slow.next(sink), b = fast.next();
            ASSERT_EQ(a, b) << slow.position() << " " << slow.trouble() << " / " << fast.trouble();
            ASSERT_STREQ(slow.trouble(), fast.trouble());
            if (!a) break;
            ++events;
            ASSERT_EQ(slow.ticks(), fast.ticks());
            ASSERT_EQ(slow.event_class(), fast.event_class());
            ASSERT_EQ(slow.position(), fast.position());
            for (unsigned i = 0; i < m.events[slow.event_class()].slot_count; ++i)
                ASSERT_EQ(slow.slot(static_cast<int>(i)), fast.slot(static_cast<int>(i)))
                    << "field " << i << " of " << m.events[slow.event_class()].name;
        }
    }
}

// A field begins where its type's alignment says, counted from the packet's begin (CTF 1.8.3, 4.1.2 and 4.2.1).
TEST(CtfPackets, FieldsBeginWhereTheirAlignmentSays) {
    const std::string meta = kHead +
                             "event { name = \"e\"; id = 0; stream_id = 0; fields := struct {\n"
                             "  u8 a; integer { size = 16; align = 16; byte_order = le; } b;\n"
                             "  struct { u8 c; } align(32) s; }; };\n";
    // A header of five bytes; fields are aligned as their strictest, to four bytes: a at 8, b at 10, s at 12. The next
    // event begins at once behind it.
    const auto all = events_of(meta, {0, 1, 0, 0, 0, 0, 0, 0, 7, 0,    0x34, 0x12, 9,  //
                                      0, 2, 0, 0, 0, 0, 0, 8, 0, 0x78, 0x56, 10});
    ASSERT_EQ(all.size(), 2U);
    EXPECT_NE(all[0].find("a=7 b=4660"), std::string::npos) << all[0];
    EXPECT_NE(all[0].find("c=9"), std::string::npos) << all[0];
    EXPECT_NE(all[1].find("a=8 b=22136"), std::string::npos) << all[1];
    EXPECT_NE(all[1].find("c=10"), std::string::npos) << all[1];
}

// A time of few bits is the low end of the clock: it goes on by less than they can count (CTF 1.8.3, 6.1.1, 8).
TEST(CtfPackets, TimesOfFewBitsGoOnWhereTheyWrap) {
    const std::string meta =
        "/* CTF 1.8 */\n"
        "typealias integer { size = 8; align = 8; signed = false; } := u8;\n"
        "trace { major = 1; minor = 8; byte_order = le; };\n"
        "clock { name = c; freq = 1000; };\n"
        "stream { event.header := struct { u8 id; integer { size = 8; align = 8; map = clock.c.value; } timestamp; }; "
        "};\n"
        "event { name = \"e\"; id = 0; fields := struct { u8 x; }; };\n";
    const auto all = events_of(meta, {0, 250, 1, 0, 4, 2, 0, 4, 3, 0, 3, 4});
    ASSERT_EQ(all.size(), 4U);
    EXPECT_EQ(all[0], "0.000 e x=1");
    EXPECT_EQ(all[1], "10000000.000 e x=2");
    EXPECT_EQ(all[2], "10000000.000 e x=3") << "the same moment, not a turn later";
    EXPECT_EQ(all[3], "265000000.000 e x=4") << "one less is a turn less one";
}

TEST(CtfPackets, ProgramsReadWhatTheTypesSayAlsoInDamagedPackets) {
    std::mt19937 random(3);
    for (const char* name : {"a", "b", "c", "clean"}) {
        const std::string folder = test::data(std::string("tasks/mount-") + name + "/trace");
        const auto text = test::read_bytes(folder + "/metadata");
        const auto m = read_ctf_metadata(text, "metadata");
        ASSERT_TRUE(m) << m.error().text();
        auto bytes = test::read_bytes(folder + "/core0");
        bytes.resize(std::min<std::size_t>(bytes.size(), 100'000));
        std::size_t events = 0;
        expect_both_ways_equal(*m, bytes, events);
        EXPECT_GT(events, 10'000U);
        for (int round = 0; round < 20; ++round) {
            auto bad = bytes;
            for (int k = 0; k < 40; ++k) bad[random() % bad.size()] = static_cast<std::uint8_t>(random());
            expect_both_ways_equal(*m, bad, events);
        }
    }
}

// Content and packet size (CTF 1.8.3, 5.2); what contradicts them is damage.
TEST(CtfPackets, LyingSizesAndForeignBytesAreGapsNotCrashes) {
    test::Folder folder;
    const std::string from = test::data("tasks/mount-a/trace");
    const auto original = test::read_bytes(from + "/core0");
    std::mt19937 random(7);
    for (int round = 0; round < 30; ++round) {
        const std::string trace = folder / ("t" + std::to_string(round));
        std::filesystem::create_directories(trace);
        std::filesystem::copy_file(from + "/metadata", trace + "/metadata");
        auto bytes = original;
        bytes.resize(120'000);
        for (int k = 0; k < 1 + round % 5; ++k) bytes[random() % bytes.size()] = static_cast<std::uint8_t>(random());
        if (round % 3 == 0)  // a size in a packet's header
            bytes[8192 * (random() % 10) + 40 + random() % 16] = static_cast<std::uint8_t>(random());
        test::write_file(trace + "/core0", bytes);
        const auto o = test::decode(trace);
        EXPECT_TRUE(o.trail->complete);
        for (const Finding& f : find_all(*o.recording, *o.trail)) EXPECT_LE(f.begin, f.end) << f.title;
        // Most of it is read all the same.
        EXPECT_GT(o.trail->tasks.streams[0].events, 15'000U) << round;
    }
}

// The extended event header (CTF 1.8.3, 6.1.1), made by damage.
TEST(CtfPackets, DamageThatReadsAsAFarEventHoldsNothingBack) {
    test::Folder folder;
    const std::string from = test::data("tasks/mount-a/trace");
    std::filesystem::create_directories(folder / "t");
    std::filesystem::copy_file(from + "/metadata", folder / "t/metadata");
    auto bytes = test::read_bytes(from + "/core0");
    // In the middle of a packet: the extended form of an event header, with a time far ahead (os-events.md).
    const auto whole = test::decode(from);
    const auto& packets = whole.recording->events->files[0].packets;
    const CtfPacket& hit = packets[packets.size() / 3];
    CtfCursor cursor(*whole.recording->events->metadata);
    cursor.open(bytes, hit);
    for (int i = 0; i < 50; ++i) ASSERT_TRUE(cursor.next());
    const std::size_t at = cursor.event_offset();
    const std::uint8_t far_ahead[13] = {31, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0};
    std::copy(std::begin(far_ahead), std::end(far_ahead), bytes.begin() + static_cast<std::ptrdiff_t>(at));
    test::write_file(folder / "t/core0", bytes);
    const auto o = test::decode(folder / "t");
    EXPECT_EQ(o.trail->tasks.streams[0].backwards, 0U);
    EXPECT_EQ(o.trail->tasks.streams[0].damaged_packets, 1U);
    EXPECT_EQ(o.trail->end, whole.trail->end) << "the recording is not longer for it";
    EXPECT_GE(o.trail->gaps.size(), 1U);
    EXPECT_GT(o.trail->tasks.streams[0].events, whole.trail->tasks.streams[0].events * 9 / 10);
}

// Times within a stream do not run backwards (CTF 1.8.3, 6.1).
TEST(CtfPackets, TimesThatRunBackwardsAreDoubtedAndKeptInOrder) {
    const std::string meta = kHead + "event { name = \"e\"; id = 0; stream_id = 0; fields := struct { u8 x; }; };\n";
    // The second time is lower: taken as a wrap of 32 bits it would be an hour later, as the format says.
    const auto all = events_of(meta, {0, 100, 0, 0, 0, 1, 0, 120, 0, 0, 0, 2, 0, 200, 0, 0, 0, 3});
    ASSERT_EQ(all.size(), 3U);
    EXPECT_EQ(all[1], "20000.000 e x=2");
}

TEST(CtfTrace, OfAnotherVocabularyOpensAsMarksAndByAMappingAsTasks) {
    const std::string meta =
        kHead +
        "event { name = \"ctx_switch\"; id = 0; stream_id = 0; fields := struct { string next; }; };\n"
        "event { name = \"beep\"; id = 1; stream_id = 0; fields := struct { u8 tone; }; };\n";
    std::vector<std::uint8_t> bytes;
    for (std::uint8_t i = 0; i < 10; ++i) {
        bytes.insert(bytes.end(),
                     {0, static_cast<std::uint8_t>(i * 20), 0, 0, 0, static_cast<std::uint8_t>('a' + i % 2), 0});
        bytes.insert(bytes.end(), {1, static_cast<std::uint8_t>(i * 20 + 10), 0, 0, 0, i});
    }
    test::Folder folder;
    std::filesystem::create_directories(folder / "t");
    test::write_file(folder / "t/metadata", meta);
    test::write_file(folder / "t/stream", bytes);
    auto o = test::decode(folder / "t");
    EXPECT_EQ(o.trail->tasks.marks.size(), 2U);
    ASSERT_FALSE(o.trail->doubts.empty());
    EXPECT_NE(o.trail->doubts[0].advice.find("mapping"), std::string::npos);
    test::write_file(folder / "t.mapping.toml",
                     "format = \"mindful-trail-mapping/1\"\nidle = [\"a\"]\n[[event]]\nname = \"ctx_switch\"\nis = "
                     "\"task_switch_in\"\ntask = \"next\"\n");
    o = test::decode(folder / "t");
    ASSERT_EQ(o.trail->tasks.tasks.size(), 2U);
    EXPECT_EQ(o.trail->tasks.tasks[0].name, "a");
    EXPECT_TRUE(o.trail->tasks.tasks[0].idle);
    EXPECT_EQ(o.trail->tasks.tasks[1].running_time({}, o.trail->end), Time::from_us(90))
        << "five times 20, the last open";
    EXPECT_EQ(o.trail->tasks.marks.size(), 1U) << "what the mapping does not name is still a mark";
    test::write_file(folder / "t.mapping.toml",
                     "format = \"mindful-trail-mapping/1\"\n[[event]]\nname = \"x\"\nis = \"y\"\n");
    const auto bad = open_recording(folder / "t");
    ASSERT_FALSE(bad);
    EXPECT_NE(bad.error().text().find("'y'"), std::string::npos);
}

TEST(CtfTrace, TenThousandTasksAreRead) {
    test::Folder folder;
    auto writer = CtfWriter::create(folder / "t", {"many", 1'000'000, 1});
    ASSERT_TRUE(writer);
    OsBlock texts;
    OsEvent e;
    for (std::uint32_t i = 0; i < 10'000; ++i) {
        texts.texts = {"task" + std::to_string(i)};
        e.kind = OsKind::task_create;
        e.subject = i;
        e.value = text_and_priority(0, static_cast<int>(i % 30));
        (*writer)->write(e, i, texts);
    }
    for (std::uint32_t i = 0; i < 50'000; ++i) {
        e.kind = OsKind::task_switch_in;
        e.subject = i * 7919 % 10'000;
        (*writer)->write(e, 10'000 + i, texts);
    }
    ASSERT_TRUE((*writer)->finish());
    const auto o = test::decode(folder / "t");
    EXPECT_EQ(o.trail->tasks.tasks.size(), 10'000U);
    EXPECT_EQ(task_rows(*o.trail).size(), 10'000U);
    (void)find_all(*o.recording, *o.trail);
}

TEST(CtfTrace, CyclicWaitsInTheDataEndNowhere) {
    test::Folder folder;
    auto writer = CtfWriter::create(folder / "t", {"circle", 1'000'000, 1});
    ASSERT_TRUE(writer);
    const OsBlock none;
    std::int64_t t = 0;
    const auto event = [&](OsKind kind, std::uint32_t subject, std::int64_t value = 0,
                           BlockReason why = BlockReason::mutex) {
        OsEvent e;
        e.kind = kind;
        e.subject = subject;
        e.value = value;
        e.code = static_cast<std::uint8_t>(why);
        (*writer)->write(e, t += 10, none);
    };
    for (std::uint32_t i = 1; i <= 3; ++i) {
        event(OsKind::task_switch_in, i);
        event(OsKind::mutex_take, i);
    }
    for (std::uint32_t i = 1; i <= 3; ++i) {
        event(OsKind::task_switch_in, i);
        event(OsKind::mutex_take_blocked, i % 3 + 1);
        event(OsKind::task_block, i, i % 3 + 1);
    }
    event(OsKind::task_switch_in, 9);
    t += 1000;
    event(OsKind::marker, 0);
    ASSERT_TRUE((*writer)->finish());
    const auto o = test::decode(folder / "t");
    bool found = false;
    for (const auto& f : find_all(*o.recording, *o.trail))
        if (f.kind == FindingKind::deadlock) {
            found = true;
            EXPECT_EQ(f.involved.size(), 6U) << "three tasks and three locks";
        }
    EXPECT_TRUE(found);
}

TEST(CtfWriter, WritesWhatIsReadBackTheSame) {
    // Every event of a trace through the writer: the same tasks, jobs, locks and interrupts come out.
    const auto before = test::decode(test::data("tasks/mount-b/trace"));
    test::Folder folder;
    const EventSource& source = *before.recording->events;
    auto writer = CtfWriter::create(folder / "t", {"again", source.clock_hz, 2});
    ASSERT_TRUE(writer);
    CtfCursor cursor(*source.metadata);
    for (std::size_t f = 0; f < source.files.size(); ++f)
        for (const auto& p : source.files[f].packets) {
            OsBlock block;
            Time reached{};
            const char* trouble = "";
            (void)read_ctf_packet(source, f, p, cursor, reached, block, trouble);
            for (const auto& e : block.events)
                (*writer)->write(e, Clock{source.clock_hz}.cycles(e.time) + source.zero_ticks, block);
        }
    ASSERT_TRUE((*writer)->finish());
    const auto after = test::decode(folder / "t");
    ASSERT_EQ(before.trail->tasks.tasks.size(), after.trail->tasks.tasks.size());
    for (std::size_t i = 0; i < before.trail->tasks.tasks.size(); ++i) {
        const TaskRow a = task_row(*before.trail, i), b = task_row(*after.trail, i);
        EXPECT_EQ(a.name, b.name);
        EXPECT_EQ(a.cpu, b.cpu) << a.name;
        EXPECT_EQ(a.run.count, b.run.count) << a.name;
        EXPECT_EQ(a.response.mean, b.response.mean) << a.name;
        EXPECT_EQ(a.preemptions, b.preemptions) << a.name;
    }
    const auto x = find_all(*before.recording, *before.trail), y = find_all(*after.recording, *after.trail);
    ASSERT_EQ(x.size(), y.size());
    for (std::size_t i = 0; i < x.size(); ++i) EXPECT_EQ(x[i].title, y[i].title);
}

}  // namespace
}  // namespace mt
