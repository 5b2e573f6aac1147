// What the journal of a recording says reaches streams of every protocol alike: marks, breaks, what was given up at the
// start, halts and unsaved bytes, and when the stream's first byte came.
#include <gtest/gtest.h>

#include "support.h"

namespace mt {
namespace {

struct Sample {
    const char* name;
    const char* target;  ///< of the test data
    const char* stream;  ///< beside it
    bool tells_zero;     ///< the trace says when its time begins: the first byte's moment does not move it
    bool timed = true;
};

class AJournal : public testing::TestWithParam<Sample> {
  protected:
    void SetUp() override {
        bytes = test::read_bytes(where() + GetParam().stream);
        std::string text;
        if (std::string(GetParam().target).ends_with("trace")) {
            text =
                "format = \"mindful-trail-target/1\"\nname = \"Larkspur\"\n[[core]]\nname = \"core0\"\n[[stream]]\n"
                "file = \"stream.bin\"\nprotocol = \"ctf\"\ncore = \"core0\"\n";
            test::write_file(folder / "stream.bin.metadata", test::read_text(where() + "metadata"));
        } else {
            text = test::read_text(test::data(GetParam().target));
            for (const std::string key : {"image", "file"})
                for (std::size_t at = 0; (at = text.find("\n" + key, at)) != std::string::npos; ++at) {
                    const std::size_t open = text.find('"', at) + 1, shut = text.find('"', open);
                    text.replace(open, shut - open,
                                 key == "file" ? std::string("stream.bin") : where() + text.substr(open, shut - open));
                }
        }
        test::write_file(folder / "a.target.toml", text);
        write(bytes);
        whole = test::decode(folder / "a.target.toml");
    }
    std::string where() const {
        const std::string path = test::data(GetParam().target);
        return std::string(GetParam().target).ends_with("trace") ? path + "/" : path.substr(0, path.rfind('/') + 1);
    }
    void write(const std::vector<std::uint8_t>& stream) { test::write_file(folder / "stream.bin", stream); }
    test::Opened with(const std::string& lines) {
        test::write_file(folder / "stream.bin.journal",
                         "{\"what\":\"started\",\"source\":\"file\",\"when\":\"2026-11-23T20:00:00Z\"}\n" + lines +
                             "{\"what\":\"ended\",\"offset\":" + std::to_string(bytes.size()) +
                             ",\"reason\":\"by hand\",\"unsaved\":0}\n");
        return test::decode(folder / "a.target.toml");
    }
    static std::string note(std::uint64_t offset, const std::string& text) {
        return "{\"what\":\"note\",\"offset\":" + std::to_string(offset) + ",\"text\":\"" + text + "\"}\n";
    }
    static bool doubted(const test::Opened& o, const std::string& text) {
        for (const Doubt& d : o.trail->doubts)
            if (d.text.find(text) != std::string::npos) return true;
        return false;
    }
    // What a recording knows, in numbers that any loss would change.
    static std::uint64_t known(const Trail& trail) {
        std::uint64_t all = 0;
        for (const auto& s : trail.streams) all += s.packets;
        for (const auto& s : trail.steps) all += s.steps;
        for (const auto& s : trail.tasks.streams) all += s.events;
        return all;
    }

    const test::Folder folder;
    std::vector<std::uint8_t> bytes;
    test::Opened whole;
};

TEST_P(AJournal, PlacesMarksWhereTheStreamStoodThen) {
    const std::uint64_t n = bytes.size();
    const auto o = with(note(n / 4, "dome opens") + note(n / 2, "dome turns") + note(n / 2, "again") +
                        note(n * 3 / 4, "dome shuts") + note(n, "end"));
    ASSERT_EQ(o.trail->notes.size(), 5U);
    const char* texts[] = {"dome opens", "dome turns", "again", "dome shuts", "end"};
    for (std::size_t i = 0; i < 5; ++i) {
        EXPECT_EQ(o.trail->notes[i].text, texts[i]);
        EXPECT_LE(o.trail->notes[i].time, o.trail->end);
        EXPECT_FALSE(o.trail->notes[i].core.empty());
        if (i > 0) {
            EXPECT_GE(o.trail->notes[i].time, o.trail->notes[i - 1].time);
        }
    }
    EXPECT_EQ(o.trail->notes[1].time, o.trail->notes[2].time);
    EXPECT_LT(o.trail->notes[0].time, o.trail->notes[3].time);
    EXPECT_EQ(known(*o.trail), known(*whole.trail)) << "marks change nothing else";
}

TEST_P(AJournal, MakesAGapOfABreakAndSaysSo) {
    const std::uint64_t n = bytes.size(), hole = n / 2;
    std::vector<std::uint8_t> broken(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(hole));
    broken.insert(broken.end(), bytes.begin() + static_cast<std::ptrdiff_t>(hole + n / 10), bytes.end());
    write(broken);
    const auto o =
        with("{\"what\":\"lost\",\"offset\":" + std::to_string(hole) +
             ",\"reason\":\"the line was quiet\"}\n{\"what\":\"resumed\",\"offset\":" + std::to_string(hole) +
             ",\"missing_s\":0.5}\n");
    EXPECT_TRUE(doubted(o, "The connection to")) << "said in words";
    std::size_t gaps = o.trail->gaps.size();
    for (const StepTrail& s : o.trail->steps) gaps += s.gaps.size();
    std::size_t before = whole.trail->gaps.size();
    for (const StepTrail& s : whole.trail->steps) before += s.gaps.size();
    EXPECT_GT(gaps, before) << "and marked in time";
    EXPECT_LT(known(*o.trail), known(*whole.trail));
    EXPECT_GT(known(*o.trail) * 2, known(*whole.trail)) << "before and behind it all is there";
}

TEST_P(AJournal, LeavesOutWhatWasGivenUpToKeepTheNewest) {
    const std::uint64_t first = bytes.size() / 3;
    const auto o = with("{\"what\":\"dropped\",\"offset\":" + std::to_string(first) + "}\n");
    EXPECT_TRUE(doubted(o, "were given up to keep the newest"));
    EXPECT_LT(known(*o.trail), known(*whole.trail));
    EXPECT_GT(known(*o.trail) * 2, known(*whole.trail));
}

TEST_P(AJournal, TellsOfHaltsOfUnsavedBytesAndOfWhatHadWaited) {
    test::write_file(folder / "stream.bin.journal",
                     "{\"what\":\"started\",\"source\":\"tcp\",\"when\":\"2026-11-23T20:00:00Z\"}\n"
                     "{\"what\":\"waited\",\"bytes\":4096}\n{\"what\":\"halted\",\"times\":3,\"seconds\":0.012}\n"
                     "{\"what\":\"ended\",\"offset\":" +
                         std::to_string(bytes.size()) + ",\"reason\":\"the disk is full\",\"unsaved\":8192}\n");
    const auto o = test::decode(folder / "a.target.toml");
    EXPECT_TRUE(doubted(o, "was halted 3 times"));
    EXPECT_TRUE(doubted(o, "came but could not be written (the disk is full)"));
    EXPECT_TRUE(doubted(o, "had waited on the line"));
    EXPECT_FALSE(doubted(o, "was not ended by its recorder"));
}

TEST_P(AJournal, WithoutAnEndSaysThatTheRecorderWasKilled) {
    test::write_file(folder / "stream.bin.journal",
                     std::string("{\"what\":\"started\",\"source\":\"tcp\",\"when\":\"2026-11-23T20:00:00Z\"}\n"));
    EXPECT_TRUE(doubted(test::decode(folder / "a.target.toml"), "was not ended by its recorder"));
}

TEST_P(AJournal, MovesTheStreamToWhenItsFirstByteCame) {
    const auto o = with("{\"what\":\"first_byte\",\"after_s\":0.25,\"slack_s\":0.001}\n");
    if (!GetParam().timed) return;
    const Time moved = o.trail->end - whole.trail->end;
    if (GetParam().tells_zero) {
        EXPECT_GE(moved, Time{});
    } else {
        EXPECT_NEAR(moved.seconds(), 0.25, 0.001);
    }
}

INSTANTIATE_TEST_SUITE_P(
    Protocols, AJournal,
    testing::Values(Sample{"itm", "mount/mount.target.toml", "capture.bin", false},
                    Sample{"etm4", "steps/arm-etm-mount-rs/recording.target.toml", "capture.bin", false},
                    Sample{"etrace", "steps/rv-etrace-mount/recording.target.toml", "trace.bin", false, false},
                    Sample{"ntrace", "steps/rv-ntrace-mount-htm/recording.target.toml", "trace.bin", false},
                    Sample{"ctf", "tasks/mount-a/trace", "core0", true}),
    [](const testing::TestParamInfo<Sample>& info) { return std::string(info.param.name); });

}  // namespace
}  // namespace mt
