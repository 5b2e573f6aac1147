// mtrail record against a real board process: what is recorded, what ends it, and that nothing that was recorded
// is ever lost.
#include <gtest/gtest.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "capture/recipe.h"
#include "control/link.h"
#include "doubt/connection_test.h"
#include "judge/live_health.h"
#include "measure/tasks.h"
#include "pass/live_recording.h"
#include "recorder_fixture.h"

namespace mt {
namespace {

namespace fs = std::filesystem;
using test::Board;
using test::Process;
using test::recipe_text_for;
using test::tcp;
using test::wait_until;

class Recording : public test::RecorderFixture {
  protected:
    /// Records from the first line of the program until `end` says so, and expects to be told why it ended.
    void expect_end(const Board& board, const std::string& end, const std::string& reason) {
        const auto r = record(recipe_text_for(debug(board) + tcp(board.trace()),
                                              "[before]\nreset = true\nrun_to = { place = \"main\" }\n[record]\nseconds = 20\n" + end + "\n"));
        EXPECT_EQ(r.code, 0) << r.said;
        EXPECT_NE(r.said.find("stop: " + reason), std::string::npos) << r.said;
    }
    nlohmann::json summary() {
        Process p({MT_CLI, "summary", folder / "x.mtrail", "--json"}, folder / "summary.json");
        EXPECT_EQ(p.wait(), 0) << test::read_text(folder / "summary.json");
        return nlohmann::json::parse(test::read_text(folder / "summary.json"), nullptr, false);
    }
    std::string doubts() { return summary().value("doubts", nlohmann::json::array()).dump(); }
    std::string debug(const Board& b) { return "debug = \"" + b.gdb() + "\"\n"; }
};

TEST_F(Recording, FromResetOverMainForATimeGivesTheStartUp) {
    Board board;
    const auto r = record(recipe_text_for(debug(board) + tcp(board.trace()),
                                          "[before]\ncheck_image = true\nreset = true\nrun_to = { place = \"main\" }\n"
                                          "[record]\nseconds = 0.7\n[after]\nleave = \"halted\"\n"));
    ASSERT_EQ(r.code, 0) << r.said;
    EXPECT_NE(r.said.find("check image: matches memory"), std::string::npos) << r.said;
    EXPECT_NE(r.said.find("run to: main, main.c:5"), std::string::npos) << r.said;
    EXPECT_NE(r.said.find("stop: the time was up"), std::string::npos) << r.said;
    const auto s = summary();
    EXPECT_EQ(s["streams"][0]["bad_bytes"], 0);
    EXPECT_EQ(s["streams"][0]["lead_in_bytes"], 0) << "the very first bytes after reset are there";
    const auto bytes = test::read_bytes(stream());
    ASSERT_GT(bytes.size(), 20'000U);
    EXPECT_EQ(std::vector<std::uint8_t>(bytes.begin(), bytes.begin() + 6),
              (std::vector<std::uint8_t>{0, 0, 0, 0, 0, 0x80}));
    EXPECT_TRUE(fs::exists(folder / "x.mtrail/images/larkspur.elf"));
    EXPECT_TRUE(fs::exists(folder / "x.mtrail/recording.recipe.toml"));
    EXPECT_EQ(record(recipe_text_for(tcp(board.trace()))).code, 2) << "a recording is never written over";
}

TEST_F(Recording, TheSameRecipeGivesTheSameStartAgain) {
    Board board;
    const std::string recipe = recipe_text_for(debug(board) + tcp(board.trace()),
                                               "[before]\nreset = true\nrun_to = { place = \"main\" }\n[record]\nbytes "
                                               "= 60000\n[after]\nleave = \"halted\"\n");
    ASSERT_EQ(record(recipe).code, 0);
    const auto first = test::read_bytes(stream());
    fs::remove_all(folder / "x.mtrail");
    ASSERT_EQ(record(recipe).code, 0);
    const auto second = test::read_bytes(stream());
    const std::size_t n = std::min(first.size(), second.size());
    ASSERT_GE(n, 60'000U);
    EXPECT_TRUE(std::equal(first.begin(), first.begin() + static_cast<std::ptrdiff_t>(n), second.begin()));
}

TEST_F(Recording, EndsWhenAFunctionWasReachedSoOften) {
    Board board;
    expect_end(board, "until = { place = \"track_loop\", times = 5 }", "track_loop was reached 5 times");
}

TEST_F(Recording, EndsWhenAVariableIsWritten) {
    Board board;
    expect_end(board, "watch = { symbol = \"axis_error\" }", "axis_error was written in track_loop");
}

TEST_F(Recording, EndsWhenAnyPartOfALargeVariableIsWritten) {
    Board board;
    const auto r = record(recipe_text_for(
        "debug = \"" + board.gdb_cop() + "\"\nprotocol = \"etrace\"\n" + tcp(board.trace_cop()),
        "[record]\nseconds = 20\nwatch = { symbol = \"trail_ring\" }\n", MT_DEMO "/larkspur-live.target.toml", "cop"));
    ASSERT_EQ(r.code, 0) << r.said;
    EXPECT_NE(r.said.find("trail_ring was written"), std::string::npos)
        << "its count of bytes stands behind the first 16: " << r.said;
}

TEST_F(Recording, EndsWhenTheStopMarkAppearsInTheStream) {
    Board board({"--speed", "4"});
    // The guide task marks the end of a frame with a 2 on port 31, 0.6 s after reset.
    expect_end(board, "mark = { port = 31, value = 2 }", "the stop mark appeared");
}

TEST_F(Recording, AValueIsReadWhileTheTargetRunsAndItsTimesAreBounded) {
    Board board;
    const auto r = record(recipe_text_for(debug(board) + tcp(board.trace()),
                                          "[[sample]]\nexpression = \"current_task\"\nrate_hz = 50\n"
                                          "[[sample]]\nexpression = \"axis_error >> 8 & 0xFF\"\nrate_hz = 20\n"
                                          "[before]\nreset = true\n[record]\nseconds = 1.5\n"));
    ASSERT_EQ(r.code, 0) << r.said;
    EXPECT_NE(r.said.find("current_task: "), std::string::npos) << r.said;
    EXPECT_NE(r.said.find(" a second of 50"), std::string::npos) << r.said;
    const auto o = test::decode(folder / "x.mtrail");
    const ValueLane* polled = nullptr;
    const ValueLane* bits = nullptr;
    for (const ValueLane& l : o.trail->tasks.values) {
        if (l.name == "polled.current_task") polled = &l;  // the trace tells a value of that name, too
        if (l.name == "axis_error >> 8 & 0xFF") bits = &l;
    }
    ASSERT_NE(polled, nullptr) << doubts();
    ASSERT_NE(bits, nullptr);
    EXPECT_GT(polled->samples.size(), 20U);
    EXPECT_LE(polled->samples.size(), 80U);
    for (std::size_t i = 0; i < polled->samples.size(); ++i) {
        EXPECT_LE(polled->samples.bits(i), 4U);
        EXPECT_EQ(polled->origin(i).access, ValueAccess::sampled);
        EXPECT_GT(polled->origin(i).slack_ns, 0U) << "asked for some time before";
    }
    EXPECT_LE(polled->samples.back().time.seconds(), 3);
    EXPECT_EQ(bits->sort, ValueSort::whole);
    fs::remove_all(folder / "x.mtrail");
    EXPECT_NE(record("format = \"mindful-trail-recipe/1\"\nname = \"x\"\ntarget = \"" MT_DEMO
                     "/larkspur.target.toml\"\n[[connect]]\ncore = \"main\"\n" + debug(board) +
                     "[[sample]]\nexpression = \"axis_eror\"\n")
                  .said.find("axis_error"),
              std::string::npos)
        << "names that are near";
}

TEST_F(Recording, TheCurrentProbeIsRecordedBesideTheTraceAndBroughtToItsClock) {
    Board board;
    const std::string recipe = "format = \"mindful-trail-recipe/1\"\nname = \"probe\"\ntarget = \"" MT_DEMO
                               "/larkspur-live.target.toml\"\n[[connect]]\ncore = \"main\"\n" +
                               debug(board) + "protocol = \"ctf\"\n" + tcp(board.events()) +
                               "[[connect]]\nprotocol = \"samples\"\n" +
                               tcp(board.probe()) +
                               "[before]\nreset = true\n[record]\nbytes = 1_900_000\nseconds = 60\n";  // 6 s, or more where the board is slow
    const auto r = record(recipe);
    ASSERT_EQ(r.code, 0) << r.said;
    const auto s = summary();
    ASSERT_EQ(s["signals"].size(), 1U) << s.dump();
    EXPECT_TRUE(s["signals"][0]["aligned"]) << doubts();
    EXPECT_NEAR(s["signals"][0]["drift_ppm"], 38, 20);
    EXPECT_LT(s["signals"][0]["unmatched"], 6);
    bool samples = false;
    for (const auto& stream : s["streams"]) samples = samples || (stream["protocol"] == "samples" && stream["samples"] > 200'000);
    EXPECT_TRUE(samples) << s["streams"].dump();
}

TEST_F(Recording, TheConnectionOfAProbeIsTriedThoughItBelongsToNoCore) {
    Board board;
    test::write_file(folder / "probe.recipe.toml",
                     "format = \"mindful-trail-recipe/1\"\nname = \"probe\"\ntarget = \"" MT_DEMO
                     "/larkspur-live.target.toml\"\n[[connect]]\nprotocol = \"samples\"\n" +
                         tcp(board.probe()) + "[record]\nseconds = 1\n");
    const auto recipe = read_recipe(folder / "probe.recipe.toml");
    ASSERT_TRUE(recipe) << recipe.error().text();
    Progress progress;
    const auto reports = test_connections(*recipe, 1, progress);
    ASSERT_TRUE(reports) << reports.error().text();
    ASSERT_EQ(reports->size(), 1U);
    const ConnectionReport& probe = reports->front();
    EXPECT_EQ(probe.core, "current probe");
    ASSERT_EQ(probe.findings.size(), 2U);
    EXPECT_NE(probe.findings[0].find("connected to tcp"), std::string::npos) << probe.findings[0];
    EXPECT_NE(probe.findings[1].find("samples of each channel a second"), std::string::npos) << probe.findings[1];
}

TEST_F(Recording, TwoCoresStartTogetherAndSayWhenEachReallyDid) {
    Board board;
    const std::string recipe = "format = \"mindful-trail-recipe/1\"\nname = \"both\"\ntarget = \"" MT_DEMO
                               "/larkspur-live.target.toml\"\n"
                               "[[connect]]\ncore = \"main\"\n" +
                               debug(board) + tcp(board.trace()) + "[[connect]]\ncore = \"cop\"\ndebug = \"" +
                               board.gdb_cop() +
                               "\"\ntrace = \"ring\"\nsymbol = \"trail_ring\"\n"
                               "[before]\nreset = true\n[record]\nseconds = 1\n[after]\nleave = \"halted\"\n";
    const auto r = record(recipe);
    ASSERT_EQ(r.code, 0) << r.said;
    EXPECT_NE(r.said.find("started: main after 0"), std::string::npos) << r.said;
    EXPECT_NE(r.said.find("started: cop after"), std::string::npos) << r.said;
    const auto s = summary();
    ASSERT_EQ(s["streams"].size(), 2U);
    for (const auto& stream_of : s["streams"]) {
        EXPECT_EQ(stream_of["bad_bytes"], 0);
        EXPECT_GT(stream_of["events"].get<int>(), 500) << "a busy machine gets fewer in a second, but not none";
    }
    EXPECT_NE(doubts().find("Times of cop begin"), std::string::npos) << doubts();
}

TEST_F(Recording, BothStreamsOfACoreAreRecordedAndItsInstructionsFollowed) {
    Board board;
    const std::string recipe = "format = \"mindful-trail-recipe/1\"\nname = \"cop\"\ntarget = \"" MT_DEMO
                               "/larkspur-live.target.toml\"\n[[connect]]\ncore = \"cop\"\ndebug = \"" +
                               board.gdb_cop() +
                               "\"\ntrace = \"ring\"\nsymbol = \"trail_ring\"\n[[connect]]\ncore = \"cop\"\n"
                               "protocol = \"etrace\"\n" +
                               tcp(board.trace_cop()) + "[before]\nreset = true\n[record]\nseconds = 1\n";
    const auto r = record(recipe);
    ASSERT_EQ(r.code, 0) << r.said;
    const auto s = summary();
    ASSERT_EQ(s["streams"].size(), 2U) << s.dump(2);
    const auto& steps = s["streams"][1];
    EXPECT_EQ(steps["protocol"], "etrace");
    EXPECT_EQ(steps["bad_bytes"], 0);
    EXPECT_GT(steps["instructions"].get<int>(), 500'000);
    EXPECT_TRUE(fs::exists(folder / "x.mtrail/streams/cop-etrace.trace"));
    Process p({MT_CLI, "stats", folder / "x.mtrail", "--of", "functions", "--csv"}, folder / "functions.csv");
    ASSERT_EQ(p.wait(), 0);
    EXPECT_NE(test::read_text(folder / "functions.csv").find("\ninterpolate,,"), std::string::npos)
        << test::read_text(folder / "functions.csv");
}

TEST_F(Recording, InstructionTraceThatLosesItsConnectionGoesOnBehindAGap) {
    Board board({"--close-after", "40000"});
    const auto r = record(recipe_text_for(tcp(board.trace_cop()), "[record]\nseconds = 3\n",
                                          MT_DEMO "/larkspur-live.target.toml", "cop\"\nprotocol = \"etrace"));
    ASSERT_EQ(r.code, 0) << r.said;
    const auto s = summary();
    const auto& steps = s["streams"][0];
    EXPECT_GE(steps["gaps"].size(), 2U) << s.dump(2);
    EXPECT_GT(steps["instructions"].get<int>(), 300'000) << s.dump(2);
    EXPECT_EQ(doubts().find("do not fit"), std::string::npos) << doubts();
}

TEST_F(Recording, TheRecorderInTheMainCoresFirmwareGivesItsTasksWhileItIsRecorded) {
    Board board;
    test::write_file(
        folder / "r.recipe.toml",
        recipe_text_for("protocol = \"ctf\"\n" + debug(board) + tcp(board.events()),
                        "[before]\nreset = true\n[record]\nseconds = 20\n", MT_DEMO "/larkspur-live.target.toml"));
    auto recipe = read_recipe(folder / "r.recipe.toml");
    ASSERT_TRUE(recipe) << recipe.error().text();
    auto live = LiveRecording::prepare(*recipe, folder / "x.mtrail");
    ASSERT_TRUE(live) << live.error().text();
    std::string ended;
    (*live)->on_end = [&](const mt::Result<void>& outcome) { ended = outcome ? "well" : outcome.error().text(); };
    (*live)->start();
    const auto grown = [&]() -> std::shared_ptr<const Trail> {
        auto trail = (*live)->trail();
        return trail && trail->tasks.order().size() > 4 && task_row(*trail, trail->tasks.order()[0]).run.count > 20
                   ? trail
                   : nullptr;
    };
    EXPECT_TRUE(wait_until([&] { return grown() != nullptr; })) << "tasks with jobs, while it is recorded";
    std::string names;
    if (const auto trail = grown())
        for (const auto& t : trail->tasks.tasks) names += t.name + " ";
    EXPECT_NE(names.find("clock"), std::string::npos) << names;
    bool said = false;
    for (const auto& line :
         live_health(*(*live)->recording(), (*live)->trail().get(), (*live)->state(), (*live)->figures()))
        said = said || (line.title == "main: CTF" && line.under.find("events/s") != std::string::npos);
    EXPECT_TRUE(said) << "what comes is told";
    (*live)->run().stop("enough");
    (*live)->wait();
    EXPECT_EQ(ended, "well");
    const auto o = test::decode(folder / "x.mtrail");
    EXPECT_EQ(o.trail->tasks.streams[0].bad_bytes, 0U);
    EXPECT_EQ(o.trail->tasks.contradictions, 0U);
    EXPECT_GT(o.trail->end.seconds(), 0.01);
}

TEST_F(Recording, ARingIsReadWhileQemuRunsTheProgram) {
    const std::string port = std::to_string(test::free_port());
    Process qemu({"qemu-system-riscv32", "-M", "virt", "-bios", "none", "-kernel", MT_DEMO "/larkspur-cop.elf", "-S",
                  "-gdb", "tcp:127.0.0.1:" + port, "-display", "none", "-monitor", "none", "-serial", "none"});
    ASSERT_TRUE(
        wait_until([&] { return Link::connect_tcp("127.0.0.1:" + port, std::chrono::milliseconds(200)).has_value(); }));
    const auto r =
        record(recipe_text_for("debug = \"127.0.0.1:" + port + "\"\ntrace = \"ring\"\nsymbol = \"trail_ring\"\n",
                               "[before]\ncheck_image = true\nreset = true\nreset_command = \"system_reset\"\nrun_to = "
                               "{ place = \"interpolate\" }\n"
                               "[record]\nbytes = 4000\n",
                               MT_DEMO "/larkspur-cop.target.toml", "cop"));
    ASSERT_EQ(r.code, 0) << r.said;
    const auto s = summary();
    EXPECT_EQ(s["streams"][0]["bad_bytes"], 0);
    EXPECT_GT(s["streams"][0]["events"].get<int>(), 500) << s.dump(2);
    EXPECT_NE(doubts().find("was halted"), std::string::npos) << doubts();
}

TEST_F(Recording, ADumpOfMemoryIsReadToItsEnd) {
    Board board;
    const auto elf = test::read_bytes(MT_DEMO "/larkspur-cop.elf");
    const auto r =
        record(recipe_text_for("debug = \"" + board.gdb_cop() + "\"\ntrace = \"dump\"\nat = 0x80000000\nsize = 1024\n",
                               "", MT_DEMO "/larkspur-cop.target.toml", "cop"));
    ASSERT_EQ(r.code, 0) << r.said;
    EXPECT_NE(r.said.find("the buffer was read to its end"), std::string::npos) << r.said;
    const auto bytes = test::read_bytes(stream("cop"));
    ASSERT_EQ(bytes.size(), 1024U);
    EXPECT_NE(std::search(elf.begin(), elf.end(), bytes.begin(), bytes.end()), elf.end()) << "it is the program's code";
}

TEST_F(Recording, ASerialLineOfAnyRate) {
    Board board({"--terminal"});
    const auto r = record(recipe_text_for(
        "trace = \"serial\"\naddress = \"" + board.terminal() + "\"\nbaud = 3123456\n", "[record]\nseconds = 0.8\n"));
    ASSERT_EQ(r.code, 0) << r.said;
    const auto s = summary();
    EXPECT_GT(s["streams"][0]["events"].get<int>(), 5000);
    EXPECT_EQ(s["streams"][0]["bad_bytes"], 0);
}

TEST_F(Recording, AFileThatIsStillGrowing) {
    const auto whole = test::read_bytes(MT_DEMO "/larkspur-night.swo");
    std::atomic<bool> done{false};
    const std::string growing = folder / "growing.swo";
    test::write_file(growing, std::string());
    std::thread writer([&] {
        std::ofstream out(growing, std::ios::binary);
        for (std::size_t at = 0; at < 200'000; at += 4000) {
            out.write(reinterpret_cast<const char*>(whole.data()) + at, 4000);
            out.flush();
            std::this_thread::sleep_for(std::chrono::milliseconds(5));
        }
        done = true;
    });
    const auto r = record(
        recipe_text_for("trace = \"file\"\naddress = \"growing.swo\"\n", "[record]\nbytes = 200000\nseconds = 10\n"));
    writer.join();
    ASSERT_EQ(r.code, 0) << r.said;
    const auto bytes = test::read_bytes(stream());
    ASSERT_GE(bytes.size(), 200'000U);
    EXPECT_TRUE(std::equal(bytes.begin(), bytes.end(), whole.begin())) << "from its first byte";
}

TEST_F(Recording, ExitCodeOneIfAFindingOfAKindIsThere) {
    Board board({"--fault-at", "0.4"});
    const auto r =
        record(recipe_text_for(debug(board) + tcp(board.trace()),
                               "[before]\nreset = true\n[record]\nseconds = 1.2\n[after]\nleave = \"halted\"\nbad_if = "
                               "[\"fault\"]\nfindings = \"f.json\"\nmeasures = \"m.csv\"\n"));
    EXPECT_EQ(r.code, 1) << r.said;
    EXPECT_NE(r.said.find("bad: BusFault"), std::string::npos) << r.said;
    EXPECT_NE(test::read_text(folder / "f.json").find("\"fault\""), std::string::npos);
    EXPECT_NE(test::read_text(folder / "m.csv").find("STEP_TIMER"), std::string::npos);
}

TEST_F(Recording, TheWrongImageIsRefusedWithTheFirstAddress) {
    Board board;
    const auto r = record(recipe_text_for("debug = \"" + board.gdb_cop() + "\"\n" + tcp(board.trace()),
                                          "[before]\ncheck_image = true\n"));
    EXPECT_EQ(r.code, 2);
    EXPECT_NE(r.said.find("is this the right port?"), std::string::npos) << r.said;
    EXPECT_FALSE(fs::exists(folder / "x.mtrail"));
}

// Never lose what was recorded ------------------------------------------------------------------------

TEST_F(Recording, KillingTheProgramLeavesARecordingThatOpens) {
    Board board;
    const auto p = recording_from(board);
    ASSERT_TRUE(wait_until([&] { return size() > 60'000; }));
    p->end(SIGKILL);
    const auto s = summary();
    EXPECT_GT(s["streams"][0]["events"].get<int>(), 5000);
    EXPECT_EQ(s["streams"][0]["bad_bytes"], 0) << "no byte in the middle is lost";
    EXPECT_NE(doubts().find("was not ended by its recorder"), std::string::npos) << doubts();
}

TEST_F(Recording, AFileThatMayGrowNoFurtherKeepsWhatWasWrittenAndSaysWhatWasNot) {
    Board board;
    constexpr rlim_t limit = 150'000;  // larger than the image, smaller than the stream
    Process p(arguments(recipe_text_for(tcp(board.trace()), "[record]\nseconds = 60\n")), folder / "said", limit);
    EXPECT_EQ(p.wait(), 2);
    EXPECT_NE(test::read_text(folder / "said").find("what was recorded until then is kept"), std::string::npos)
        << test::read_text(folder / "said");
    EXPECT_EQ(size(), limit);
    EXPECT_GT(summary()["streams"][0]["events"].get<int>(), 10'000);
    EXPECT_NE(doubts().find("came but could not be written"), std::string::npos) << doubts();
}

TEST_F(Recording, AFullDiskKeepsWhatWasWrittenAndSaysWhatWasNot) {
    // A disk of 600 kB that only a child can see: what stands on it at the end is copied out.
    test::write_file(folder / "try.sh", "mount -t tmpfs -o size=600k tmpfs " + (folder / "disk") +
                                            " && \"$@\"; code=$?; cp -r " + (folder / "disk/x.mtrail") + " " +
                                            folder.path() + "; exit $code\n");
    fs::create_directory(folder / "disk");
    if (Process({"unshare", "-rm", "true"}).wait() != 0) GTEST_SKIP() << "this machine lets nobody mount";
    Board board;
    test::write_file(folder / "r.recipe.toml", recipe_text_for(tcp(board.trace()), "[record]\nseconds = 60\n"));
    Process p({"unshare", "-rm", "sh", folder / "try.sh", MT_CLI, "record", "--recipe", folder / "r.recipe.toml", "-o",
               folder / "disk/x.mtrail"},
              folder / "said");
    EXPECT_EQ(p.wait(), 2);
    const std::string said = test::read_text(folder / "said");
    EXPECT_NE(said.find("the disk is full"), std::string::npos) << said;
    EXPECT_NE(said.find("what was recorded until then is kept"), std::string::npos) << said;
    EXPECT_GT(size(), 300'000U);
    EXPECT_GT(summary()["streams"][0]["events"].get<int>(), 30'000);
    EXPECT_NE(doubts().find("came but could not be written"), std::string::npos) << doubts();
}

TEST_F(Recording, AVanishedPeerIsAGapAndTheRestGoesOnBehindIt) {
    const std::string port = std::to_string(test::free_port());
    auto board = std::make_unique<Board>(std::vector<std::string>{"--seed", "5"}, "0", port);
    Process p(arguments(recipe_text_for(tcp("127.0.0.1:" + port), "[record]\nseconds = 60\n")), folder / "said");
    ASSERT_TRUE(wait_until([&] { return size() > 40'000; }));
    board->process().end(SIGKILL);
    const auto before = size();
    board = std::make_unique<Board>(std::vector<std::string>{"--seed", "5"}, "0", port);
    ASSERT_TRUE(board->listening());
    ASSERT_TRUE(wait_until([&] { return size() > before + 60'000; }));
    EXPECT_EQ(p.end(SIGINT), 0) << test::read_text(folder / "said");
    const auto s = summary();
    EXPECT_GE(s["gaps"]["count"].get<int>(), 1) << s.dump(2);
    EXPECT_NE(doubts().find("The connection to main was lost after"), std::string::npos) << doubts();
    EXPECT_NE(doubts().find("by the recording computer's clock"), std::string::npos) << doubts();
    EXPECT_GT(s["streams"][0]["events"].get<int>(), 10'000) << "events before and after the break";
}

TEST_F(Recording, ADroppedSerialLineKeepsWhatCame) {
    auto board = std::make_unique<Board>(std::vector<std::string>{"--terminal"});
    Process p(arguments(recipe_text_for("trace = \"serial\"\naddress = \"" + board->terminal() + "\"\nbaud = 2000000\n",
                                        "[record]\nseconds = 60\n")),
              folder / "said");
    ASSERT_TRUE(wait_until([&] { return size() > 40'000; }));
    board.reset();  // as if the plug was pulled
    std::this_thread::sleep_for(std::chrono::milliseconds(300));
    EXPECT_EQ(p.end(SIGTERM), 2) << "it did not come back" << test::read_text(folder / "said");
    EXPECT_NE(test::read_text(folder / "said").find("did not come back"), std::string::npos);
    EXPECT_GT(summary()["streams"][0]["events"].get<int>(), 3000);
    EXPECT_NE(doubts().find("The connection to main was lost"), std::string::npos) << doubts();
}

TEST_F(Recording, KeepingTheNewestGivesUpTheOldest) {
    Board board({"--flood", MT_DEMO "/larkspur-night.swo"});
    const auto r = record(recipe_text_for(
        tcp(board.trace()), "[record]\nbytes = 12000000\nseconds = 30\nkeep = \"newest\"\nlimit = 1000000\n"));
    ASSERT_EQ(r.code, 0) << r.said;
    struct stat info {};
    ASSERT_EQ(::stat(stream().c_str(), &info), 0);
    EXPECT_GE(info.st_size, 12'000'000);
    EXPECT_LT(info.st_blocks * 512, 3'000'000) << "the oldest takes no room";
    const auto s = summary();
    EXPECT_GT(s["streams"][0]["events"].get<int>(), 100'000);
    EXPECT_LE(s["streams"][0]["bad_bytes"].get<int>(), 100) << "where the recorded stream begins anew";
    EXPECT_NE(doubts().find("given up to keep the newest"), std::string::npos) << doubts();
}

TEST_F(Recording, NobodyThereIsSaidAndNothingIsLeftBehind) {
    const std::string address = "127.0.0.1:" + std::to_string(test::free_port());
    const auto r = record(recipe_text_for(tcp(address)));
    EXPECT_EQ(r.code, 2);
    EXPECT_NE(r.said.find(address), std::string::npos) << r.said;
    EXPECT_FALSE(fs::exists(folder / "x.mtrail"));
}

TEST_F(Recording, ABoardThatClosesEachConnectionIsReadInSegments) {
    Board board({"--close-after", "30000"});
    const auto r = record(recipe_text_for(tcp(board.trace()), "[record]\nbytes = 70000\nseconds = 20\n"));
    ASSERT_EQ(r.code, 0) << r.said;
    EXPECT_GE(summary()["gaps"]["count"].get<int>(), 2);
}

}  // namespace
}  // namespace mt
