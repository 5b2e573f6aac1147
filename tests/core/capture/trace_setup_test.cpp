// [trace] against a real board process: what was asked for comes, nothing else does, and the target is left as found.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "control/debug_server.h"
#include "recorder_fixture.h"

namespace mt {
namespace {

using test::Board;
using test::Process;
using test::recipe_text_for;
using test::tcp;

class TraceSetup : public test::RecorderFixture {
  protected:
    nlohmann::json run_json(std::vector<std::string> arguments, int* code = nullptr) {
        arguments.insert(arguments.begin(), MT_CLI);
        Process p(arguments, folder / "out.json");
        const int ended = p.wait();
        if (code != nullptr) *code = ended;
        const std::string text = test::read_text(folder / "out.json");
        const auto from = text.find_first_of("[{");
        return nlohmann::json::parse(from == std::string::npos ? "null" : text.substr(from), nullptr, false);
    }
    nlohmann::json summary() { return run_json({"summary", folder / "x.mtrail", "--json"}); }
    std::string debug(const Board& b) { return "debug = \"" + b.gdb() + "\"\n"; }
    std::string live(const Board& b, const std::string& rest) {
        return recipe_text_for(debug(b) + tcp(b.trace()), rest, MT_DEMO "/larkspur-live.target.toml");
    }
    std::uint32_t word(const Board& b, std::uint32_t address) {
        auto server = DebugServer::connect(b.gdb(), std::chrono::milliseconds(30000));
        EXPECT_TRUE(server);
        std::array<std::uint8_t, 4> bytes{};
        EXPECT_TRUE((*server)->read_memory(address, bytes));
        return static_cast<std::uint32_t>(bytes[0] | bytes[1] << 8 | bytes[2] << 16) |
               static_cast<std::uint32_t>(bytes[3]) << 24;
    }
    static std::uint64_t count(const nlohmann::json& packets, const std::string& kind) {
        return packets.value(kind, std::uint64_t{0});
    }
};

const std::string kFromMain = "[before]\nreset = true\nrun_to = { place = \"main\" }\n";

TEST_F(TraceSetup, WithoutAnythingSetOnlyWhatWasAskedForComes) {
    Board board({"--bare"});
    const auto r =
        record(live(board, kFromMain + "[trace]\nexceptions = true\nto = \"swo\"\nswo = { baud = 4_000_000 }\n"
                                       "timestamps = { prescaler = 4 }\n[record]\nseconds = 0.5\n"));
    ASSERT_EQ(r.code, 0) << r.said;
    EXPECT_NE(r.said.find("set up trace: "), std::string::npos) << r.said;
    const auto packets = summary()["streams"][0]["packets"];
    EXPECT_GT(count(packets, "exc_enter"), 1000U);
    EXPECT_EQ(count(packets, "pc"), 0U);
    EXPECT_EQ(count(packets, "port"), 0U);
    EXPECT_EQ(count(packets, "data_write"), 0U);
    const std::string target = test::read_text(folder / "x.mtrail/recording.target.toml");
    EXPECT_NE(target.find("timestamp_prescaler = 4"), std::string::npos) << target;
    EXPECT_NE(target.find("swo_baud = 4000000"), std::string::npos) << target;
}

TEST_F(TraceSetup, VariablesAndSamplesComeAsAskedAndTheTickFitsTheClock) {
    Board board({"--bare", "--seed", "7"});
    const auto r = record(
        live(board, kFromMain +
                        "[trace]\nexceptions = true\npc_samples = \"1024 cycles\"\nvariables = [{ of = \"axis_error\", "
                        "tell = \"value+pc\" }, { of = \"centroid_x\", on = \"access\", tell = \"address\" }]\n"
                        "swo = { baud = 24_000_000 }\nto = \"swo\"\n[record]\nseconds = 0.9\n"));
    ASSERT_EQ(r.code, 0) << r.said;
    const auto s = summary();
    const auto packets = s["streams"][0]["packets"];
    const double seconds = 0.9;
    const auto samples = static_cast<double>(count(packets, "pc") + count(packets, "sleep"));
    EXPECT_NEAR(samples, seconds * 120e6 / 1024, 0.15 * seconds * 120e6 / 1024);
    EXPECT_GT(count(packets, "data_write"), 50U);
    EXPECT_EQ(count(packets, "data_pc"), count(packets, "data_write"));
    EXPECT_EQ(s.dump().find("clock"), std::string::npos) << "no doubt about the clock: " << s.dump();
}

TEST_F(TraceSetup, EventCountersTellAsOftenAsTheyWrap) {
    Board board({"--bare"});
    const auto r = record(live(board, kFromMain + "[trace]\ncounters = [\"cpi\", \"exc\"]\nto = \"swo\"\n"
                                                  "swo = { baud = 24_000_000 }\n[record]\nseconds = 0.5\n"));
    ASSERT_EQ(r.code, 0) << r.said;
    const auto packets = summary()["streams"][0]["packets"];
    EXPECT_GT(count(packets, "counter"), 1000U) << packets.dump();
    EXPECT_EQ(count(packets, "exc_enter"), 0U);
    EXPECT_EQ(count(packets, "pc"), 0U);
}

TEST_F(TraceSetup, APlaceIsAnEventInTheInstructionTrace) {
    Board board({"--bare"});
    const auto r = record(recipe_text_for(
        debug(board) + "trace = \"buffer\"\n",
        kFromMain + "[trace]\ninstructions = { of = [\"track_loop\"], events = [\"guide_task\", \"track_loop\"] }\n"
                    "to = \"buffer\"\n[record]\nseconds = 0.2\n",
        MT_DEMO "/larkspur-live.target.toml"));
    ASSERT_EQ(r.code, 0) << r.said;
    const auto packets = summary()["streams"][0]["packets"];
    EXPECT_GT(count(packets, "event"), 0U) << packets.dump();
    EXPECT_EQ(summary()["streams"][0]["bad_bytes"], 0);
}

TEST_F(TraceSetup, TheTargetIsLeftAsFoundHoweverItEnds) {
    Board board;  // the firmware sets its own trace up
    const std::string wish = "[trace]\nkeep = false\npc_samples = \"64 cycles\"\nports = [5]\nto = \"swo\"\n";
    const std::uint32_t ctrl = 0xE0001000, ter = 0xE0000E00, tcr = 0xE0000E80, function1 = 0xE0001038;
    ASSERT_EQ(record(live(board, kFromMain + "[record]\nseconds = 0.1\n")).code, 0);
    const auto before = std::array{word(board, ctrl), word(board, ter), word(board, tcr), word(board, function1)};
    EXPECT_NE(before[0] & 1U << 16, 0U);
    std::filesystem::remove_all(folder / "x.mtrail");
    const auto r = record(live(board, wish + "[record]\nseconds = 0.3\n"));
    ASSERT_EQ(r.code, 0) << r.said;
    EXPECT_EQ((std::array{word(board, ctrl), word(board, ter), word(board, tcr), word(board, function1)}), before);
    // Interrupted from outside.
    test::write_file(folder / "again.recipe.toml", live(board, wish + "[record]\nseconds = 60\n"));
    Process p({MT_CLI, "record", "--recipe", folder / "again.recipe.toml", "-o", folder / "y.mtrail"}, folder / "said");
    ASSERT_TRUE(test::wait_until([&] {
        return std::filesystem::exists(folder / "y.mtrail/streams/main.trace") &&
               std::filesystem::file_size(folder / "y.mtrail/streams/main.trace") > 0;
    }));
    p.signal(SIGTERM);
    EXPECT_EQ(p.wait(), 0) << test::read_text(folder / "said");
    EXPECT_EQ((std::array{word(board, ctrl), word(board, ter), word(board, tcr), word(board, function1)}), before);
    // Left set, if that is wished.
    std::filesystem::remove_all(folder / "x.mtrail");
    ASSERT_EQ(record(live(board, wish + "[record]\nseconds = 0.2\n[after]\nkeep_trace = true\n")).code, 0);
    EXPECT_EQ(word(board, ter), 1U << 5);
}

TEST_F(TraceSetup, AListenerThatSetNothingReadsWhatWasSet) {
    Board board({"--bare"});
    ASSERT_EQ(record(live(board, kFromMain +
                                     "[trace]\nexceptions = true\npc_samples = \"2048 cycles\"\nvariables = [{ of = "
                                     "\"axis_error\" }]\ntimestamps = { prescaler = 16 }\nto = \"swo\"\nswo = { baud = "
                                     "12_000_000 }\n[record]\nseconds = 0.5\n[after]\nkeep_trace = true\n"))
                  .code,
              0);
    const auto set = summary()["streams"][0]["packets"];
    std::filesystem::remove_all(folder / "x.mtrail");
    // Its own description of what was set, and no debug server.
    test::write_file(
        folder / "own.target.toml",
        "format = \"mindful-trail-target/1\"\n[[core]]\nname = \"main\"\nisa = \"armv7e-m\"\nclock_hz = 120_000_000\n"
        "image = \"" MT_DEMO
        "/larkspur.elf\"\n[[stream]]\nprotocol = \"itm\"\ncore = \"main\"\n[stream.itm]\n"
        "timestamp_prescaler = 16\n[[watch]]\ncomparator = 0\nsymbol = \"axis_error\"\ntype = \"i16\"\n");
    const auto r = record(recipe_text_for(tcp(board.trace()), "[record]\nseconds = 0.5\n", folder / "own.target.toml"));
    ASSERT_EQ(r.code, 0) << r.said;
    const auto s = summary();
    for (const char* kind : {"exc_enter", "exc_exit", "sleep", "data_write"})
        EXPECT_NEAR(static_cast<double>(count(s["streams"][0]["packets"], kind)), static_cast<double>(count(set, kind)),
                    0.3 * static_cast<double>(count(set, kind)))
            << kind;
    EXPECT_EQ(s["streams"][0]["bad_bytes"], 0);
    EXPECT_EQ(s.dump().find("clock"), std::string::npos) << "the tick fits: " << s.dump();
}

TEST_F(TraceSetup, TheLastInstructionsBeforeAFaultAreReadOutOfTheBuffer) {
    Board board({"--bare", "--fault-at", "0.3"});
    const auto r = record(
        recipe_text_for(debug(board) + "trace = \"buffer\"\n",
                        kFromMain + "[trace]\nkeep = false\ninstructions = { return_stack = true }\nto = \"buffer\"\n"
                                    "[record]\nseconds = 20\nuntil = { place = \"BusFault_Handler\" }\n",
                        MT_DEMO "/larkspur-live.target.toml"));
    ASSERT_EQ(r.code, 0) << r.said;
    EXPECT_NE(r.said.find("BusFault_Handler was reached"), std::string::npos) << r.said;
    EXPECT_NE(r.said.find("out of the TMC"), std::string::npos) << r.said;
    EXPECT_EQ(r.said.find("the firmware sets it too"), std::string::npos) << r.said;
    Process p({MT_CLI, "steps", folder / "x.mtrail", "--csv", "-o", folder / "steps.csv"}, folder / "said");
    ASSERT_EQ(p.wait(), 0) << test::read_text(folder / "said");
    const auto all = test::lines(test::read_text(folder / "steps.csv"));
    ASSERT_GT(all.size(), 1000U);
    std::size_t faulty = 0;
    for (std::size_t i = all.size() - 30; i < all.size(); ++i)
        faulty += all[i].find("star_table_at") != std::string::npos ? 1 : 0;
    EXPECT_GT(faulty, 0U) << all.back();
    EXPECT_NE(all.back().find("track_loop"), std::string::npos) << "before the load that failed: " << all.back();
    const auto found = run_json({"find", folder / "x.mtrail", "--json"});
    ASSERT_TRUE(found.is_array() && !found.empty()) << found.dump();
    EXPECT_EQ(found[0]["kind"], "fault") << "it ends with it: " << found.dump();
}

TEST_F(TraceSetup, WhatLedHereIsReadWithoutAResetAndWithoutRunningOn) {
    Board board({"--bare", "--fault-at", "0.4"});
    const std::string connect = debug(board) + "trace = \"buffer\"\n", target = MT_DEMO "/larkspur-live.target.toml";
    ASSERT_EQ(
        record(recipe_text_for(
                   connect,
                   kFromMain + "[trace]\nkeep = false\ninstructions = { of = [\"star_table_at\", \"track_loop\"] }\n"
                               "to = \"buffer\"\n[record]\nseconds = 0.2\n[after]\nkeep_trace = true\n",
                   target))
            .code,
        0);
    std::this_thread::sleep_for(std::chrono::milliseconds(600));  // the fault happens with nobody there
    std::filesystem::remove_all(folder / "x.mtrail");
    const auto r = record(recipe_text_for(connect, "[record]\n[after]\nleave = \"halted\"\n", target));
    ASSERT_EQ(r.code, 0) << r.said;
    EXPECT_NE(r.said.find("the buffer was read to its end"), std::string::npos) << r.said;
    EXPECT_GT(test::read_bytes(folder / "x.mtrail/streams/main.trace").size(), 64U);
}

// How the core stood at both ends is kept, so that every state between is known, and none is wrong.
TEST_F(TraceSetup, HowACoreStoodAsItBeganAndEndedIsKeptAndTellsItsStates) {
    Board board({"--bare"});
    const auto r = record(live(board, kFromMain + "[trace]\ninstructions = {}\nto = \"port\"\nport = { width = 4 }\n"
                                                  "[record]\nseconds = 20\nuntil = { place = \"refraction\", times = 4 }\n"
                                                  "[after]\nleave = \"halted\"\n"));
    ASSERT_EQ(r.code, 0) << r.said;
    const std::string target = test::read_text(folder / "x.mtrail/recording.target.toml");
    for (const char* part : {"[core.began]", "[core.stopped]", "states/main-began.json", "states/main-stopped.json", "main-began-20000"})
        EXPECT_NE(target.find(part), std::string::npos) << part << "\n" << target;
    const auto stood = nlohmann::json::parse(test::read_text(folder / "x.mtrail/states/main-stopped.json"), nullptr, false);
    {
        auto server = DebugServer::connect(board.gdb(), std::chrono::milliseconds(30000));
        ASSERT_TRUE(server);
        for (const auto& [name, value] : stood["registers"].items())
            EXPECT_EQ(value, hex_text(*(*server)->read_register(*(*server)->register_named(name)), 8)) << name;
        (*server)->leave(false);
    }
    const std::uint64_t steps = summary()["streams"][0]["instructions"];
    ASSERT_GT(steps, 50'000U);
    for (const std::uint64_t index : {std::uint64_t{0}, std::uint64_t{1}, steps / 3, steps / 2, steps - 1}) {
        const auto state = run_json({"state", folder / "x.mtrail", "--index", std::to_string(index), "--of", "current_task", "--json"});
        ASSERT_TRUE(state.is_object()) << index;
        unsigned known = 0;
        for (const auto& [name, value] : state["registers"].items()) known += value["known"].get<bool>() ? 1 : 0;
        EXPECT_GE(known, 13U) << index << ": " << state["registers"].dump();
        EXPECT_TRUE(state["variables"]["current_task"]["known"].get<bool>()) << index;
    }
    // The last instruction of all is known by both ends: forwards it leads to where the core stands.
    const auto last = run_json({"state", folder / "x.mtrail", "--index", std::to_string(steps - 1), "--json"});
    for (const char* name : {"r4", "r5", "r6", "r7", "r8", "sp"}) EXPECT_EQ(last["registers"][name]["value"], stood["registers"][name]) << name;
}

TEST_F(TraceSetup, TwoSourcesShareAParallelPortAndAreToldApart) {
    Board board({"--bare", "--seed", "11"});
    const auto r =
        record(live(board, kFromMain + "[trace]\nexceptions = true\ninstructions = { of = [\"step_timer_handler\"] }\n"
                                       "to = \"port\"\nport = { width = 2 }\n[record]\nseconds = 0.4\n"));
    ASSERT_EQ(r.code, 0) << r.said;
    const auto s = summary();
    ASSERT_EQ(s["streams"].size(), 2U) << s.dump();
    EXPECT_GT(count(s["streams"][0]["packets"], "exc_enter"), 500U) << s.dump();
    EXPECT_GT(count(s["streams"][1]["packets"], "exception_return"), 500U) << s["streams"][1]["packets"].dump();
    Process p({MT_CLI, "stats", folder / "x.mtrail", "--of", "functions", "--csv", "-o", folder / "f.csv"},
              folder / "said");
    ASSERT_EQ(p.wait(), 0) << test::read_text(folder / "said");
    EXPECT_NE(test::read_text(folder / "f.csv").find("step_timer_handler"), std::string::npos);
}

TEST_F(TraceSetup, ARiscVCoreTracesIntoItsRamSinkAndIntoMemory) {
    Board board({"--bare"});
    for (const std::string to :
         {"to = \"buffer\"\n", "to = \"memory\"\nmemory = { at = 0x800F0000, size = \"16 KiB\" }\n"}) {
        std::filesystem::remove_all(folder / "x.mtrail");
        const auto r = record(recipe_text_for(
            "debug = \"" + board.gdb_cop() + "\"\nprotocol = \"etrace\"\ntrace = \"buffer\"\n",
            "[trace]\ninstructions = { return_stack = true, timestamps = true }\n" + to + "[record]\nseconds = 0.4\n",
            MT_DEMO "/larkspur-live.target.toml", "cop"));
        ASSERT_EQ(r.code, 0) << r.said;
        const auto s = summary();
        // What is oldest in a sink that went round is the rest of a packet, and may look like another; nothing else is lost.
        EXPECT_LE(s["streams"][0]["bad_bytes"], 64) << s.dump();
        for (const auto& gap : s["streams"][0]["not_traced"])
            if (gap["what"] == "bytes that are no packet") EXPECT_LT(gap["offset"], 64) << s.dump();
        const auto size = test::read_bytes(folder / "x.mtrail/streams/cop-etrace.trace").size();
        EXPECT_EQ(size, to.find("memory") != std::string::npos ? 16'384U : 4'096U) << "full, the newest of it";
        Process p({MT_CLI, "steps", folder / "x.mtrail", "--csv", "-o", folder / "steps.csv"}, folder / "said");
        ASSERT_EQ(p.wait(), 0) << test::read_text(folder / "said");
        EXPECT_GT(test::lines(test::read_text(folder / "steps.csv")).size(), 1000U);
    }
}

TEST_F(TraceSetup, ABufferIsReadAgainAndAgainWithItsGapsStated) {
    Board board({"--bare"});
    const auto r = record(recipe_text_for(
        "debug = \"" + board.gdb_cop() + "\"\nprotocol = \"etrace\"\ntrace = \"buffer\"\nevery_ms = 50\n",
        "[trace]\ninstructions = {}\nto = \"buffer\"\n[record]\nseconds = 0.5\n", MT_DEMO "/larkspur-live.target.toml",
        "cop"));
    ASSERT_EQ(r.code, 0) << r.said;
    const auto journal = test::read_text(folder / "x.mtrail/streams/cop-etrace.trace.journal");
    EXPECT_NE(journal.find("RAM sink"), std::string::npos) << journal;
    EXPECT_GT(test::read_bytes(folder / "x.mtrail/streams/cop-etrace.trace").size(), 3 * 4'096U);
}

TEST_F(TraceSetup, StartAndStopCutTheInstructionsToWindows) {
    Board board({"--bare"});
    const auto r = record(recipe_text_for(
        debug(board) + "trace = \"buffer\"\n",
        kFromMain +
            "[trace]\nkeep = false\ninstructions = {}\nto = \"buffer\"\nstart = { at = \"step_timer_handler\" }\n"
            "stop = { at = \"SysTick_Handler\" }\n[record]\nseconds = 0.2\n",
        MT_DEMO "/larkspur-live.target.toml"));
    ASSERT_EQ(r.code, 0) << r.said;
    Process p({MT_CLI, "steps", folder / "x.mtrail", "--csv", "-o", folder / "steps.csv"}, folder / "said");
    ASSERT_EQ(p.wait(), 0) << test::read_text(folder / "said");
    const std::string steps = test::read_text(folder / "steps.csv");
    EXPECT_NE(steps.find("step_timer_handler"), std::string::npos);
}

TEST_F(TraceSetup, ParametersAreSetFromOutside) {
    Board board;
    const std::string recipe =
        live(board,
             "[parameters]\nseconds = 30\nplace = \"main\"\n[before]\nreset = true\nrun_to = { place = \"{place}\" }\n"
             "[record]\nseconds = \"{seconds}\"\n");
    test::write_file(folder / "p.recipe.toml", recipe);
    Process p(
        {MT_CLI, "record", "--recipe", folder / "p.recipe.toml", "-o", folder / "x.mtrail", "--set", "seconds=0.2"},
        folder / "said");
    EXPECT_EQ(p.wait(), 0) << test::read_text(folder / "said");
    Process wrong(
        {MT_CLI, "record", "--recipe", folder / "p.recipe.toml", "-o", folder / "y.mtrail", "--set", "secnds=1"},
        folder / "said");
    EXPECT_EQ(wrong.wait(), 2);
    EXPECT_NE(test::read_text(folder / "said").find("seconds"), std::string::npos) << "the name that is near";
    Process kind(
        {MT_CLI, "record", "--recipe", folder / "p.recipe.toml", "-o", folder / "y.mtrail", "--set", "seconds=soon"},
        folder / "said");
    EXPECT_EQ(kind.wait(), 2);
    EXPECT_FALSE(std::filesystem::exists(folder / "y.mtrail"));
}

TEST_F(TraceSetup, UnitsAndPlansAreTablesForOtherProgramsAndChangeNothing) {
    Board board({"--bare"});
    test::write_file(folder / "r.recipe.toml",
                     live(board, "[trace]\nexceptions = true\nto = \"swo\"\nswo = { baud = 2_000_000 }\n"));
    int code = -1;
    const auto units = run_json({"units", "--recipe", folder / "r.recipe.toml", "--json"}, &code);
    EXPECT_EQ(code, 0);
    ASSERT_TRUE(units.contains("cores")) << units.dump();
    EXPECT_EQ(units["cores"][0]["core"], "main");
    std::vector<std::string> kinds;
    for (const auto& u : units["cores"][0]["units"]) {
        kinds.push_back(u["kind"]);
        for (const char* key : {"name", "address", "part", "locked", "powered", "features", "settings", "feeds"})
            EXPECT_TRUE(u.contains(key)) << key;
    }
    for (const char* kind : {"rom-table", "dwt", "itm", "tpiu", "etm4", "funnel", "tmc", "cti"})
        EXPECT_NE(std::find(kinds.begin(), kinds.end(), kind), kinds.end()) << kind;
    const auto plan = run_json({"units", "--recipe", folder / "r.recipe.toml", "--plan", "--json"}, &code);
    EXPECT_EQ(code, 0);
    ASSERT_TRUE(plan.is_array() && !plan.empty()) << plan.dump();
    for (const auto& step : plan)
        for (const char* key : {"unit", "register", "address", "value", "why"}) EXPECT_TRUE(step.contains(key)) << key;
    EXPECT_EQ(word(board, 0xE0000E80), 0U) << "nothing was written";
    EXPECT_EQ(word(board, 0xE000EDFC), 0U);
}

TEST_F(TraceSetup, IsPutBackThoughTheServerReachesNothingWhileTheCoreRuns) {
    Board board({"--bare", "--no-access-running"});
    const auto r = record(live(
        board,
        kFromMain + "[trace]\nexceptions = true\nto = \"swo\"\nswo = { baud = 4_000_000 }\n[record]\nseconds = 0.3\n"));
    ASSERT_EQ(r.code, 0) << r.said;
    EXPECT_EQ(r.said.find("could not be put back"), std::string::npos) << r.said;
    EXPECT_EQ(word(board, 0xE0000E80), 0U) << "ITM_TCR as it was found";
}

struct Trouble {
    std::vector<std::string> flags;
    const char* said;
    const char* to = "buffer";
};
void PrintTo(const Trouble& t, std::ostream* out) {
    for (const std::string& flag : t.flags) *out << flag << ' ';
    *out << t.to;
}
class ATroubledTarget : public TraceSetup, public ::testing::WithParamInterface<Trouble> {};

TEST_P(ATroubledTarget, IsSaidBeforeTheRecordingStarts) {
    std::vector<std::string> flags = GetParam().flags;
    flags.push_back("--bare");
    Board board(flags);
    const auto r = record(live(board, std::string("[trace]\nexceptions = true\ninstructions = {}\nto = \"") +
                                          GetParam().to + "\"\n[record]\nseconds = 0.2\n"));
    EXPECT_EQ(r.code, 2) << r.said;
    EXPECT_NE(r.said.find(GetParam().said), std::string::npos) << r.said;
    EXPECT_FALSE(std::filesystem::exists(folder / "x.mtrail")) << r.said;
}

INSTANTIATE_TEST_SUITE_P(Each, ATroubledTarget,
                         ::testing::Values(Trouble{{"--refuse-memory"}, "cannot be read"},
                                           Trouble{{"--unit-off", "etm"}, "without power"},
                                           Trouble{{"--unit-off", "tmc"}, "cannot be read"},
                                           Trouble{{"--unit-off", "tmc"}, "none will arrive", "swo"},
                                           Trouble{{"--unit-off", "funnel"}, "none will arrive", "port"},
                                           Trouble{{"--unit-write-lost", "itm"}, "does not stick"},
                                           Trouble{{"--unit-lock-stays", "dwt"}, "stays shut"}));

}  // namespace
}  // namespace mt
