#include "command.h"

#include <atomic>
#include <csignal>
#include <cstdio>
#include <filesystem>
#include <thread>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "input.h"
#include "judge/live_health.h"
#include "measure/lane_kind.h"
#include "output.h"
#include "pass/live_recording.h"
#include "judge/rule_check.h"
#include "share/activity_tables.h"
#include "share/rule_tables.h"
#include "share/tables.h"
#include "verdict.h"

namespace mt::cli {
namespace {

struct RecordOptions {
    std::string recipe, output;
    std::vector<std::string> given;
    bool replace = false;
};

std::string progress_line(const RunState& s) {
    std::string now = "walking";
    for (const auto& station : s.stations)
        if (station.status == Station::Status::now) now = station.name;
    if (!s.recording) return now;
    std::string line = "recording " + duration_text(Time::from_ns(s.elapsed_s * 1e9));
    if (s.planned_s) line += " of " + duration_text(Time::from_ns(*s.planned_s * 1e9));
    return line + ", " + bytes_text(s.bytes);
}

// The files that the recipe writes afterwards: none that is there already, unless it may be replaced.
Result<void> may_export(const Recipe& recipe, bool replace) {
    std::error_code ec;
    for (const std::string& file : {recipe.events_csv, recipe.measures_csv, recipe.findings_json}) {
        if (file.empty() || !std::filesystem::exists(file, ec)) continue;
        if (!std::filesystem::is_regular_file(file, ec))
            return failure("is no regular file", file, "name another in [after]");
        if (Inputs inputs; inputs.files = {recipe.path, recipe.target}, !inputs.hit(file).empty())
            return failure("would overwrite what is being read", file, "name another in [after]");
        if (!replace && !recipe.replace_files)
            return failure("exists already", file,
                           "remove it, or allow it with replace = true in [after], or --replace");
    }
    return {};
}

// Afterwards: the files that the recipe asks for, and the verdict.
int export_and_judge(const Recipe& recipe, const std::string& folder) {
    if (recipe.events_csv.empty() && recipe.measures_csv.empty() && !recipe.judges()) return kDone;
    auto opened = open_and_read(folder);
    if (!opened) return fail(opened.error());
    const Inputs inputs(*opened->recording);
    const auto write = [&](const std::string& file, auto what) {
        return file.empty() ? kDone : write_to(file, inputs, false, [&](std::ostream& out) { what(out); });
    };
    int worst = write(recipe.events_csv, [&](std::ostream& out) {
        write_events_csv(*opened->recording, *opened->trail, std::nullopt, std::nullopt, out);
    });
    worst = std::max(worst, write(recipe.measures_csv, [&](std::ostream& out) {
                         write_stats_csv(*LaneKinds::find("interrupts"), {*opened->trail}, out);
                     }));
    if (!recipe.judges()) return worst;
    const auto findings = find_all(*opened->recording, *opened->trail);
    worst = std::max(
        worst, write(recipe.findings_json, [&](std::ostream& out) { out << findings_json(findings).dump(2) << "\n"; }));
    if (worst != kDone) return worst;
    worst = verdict(findings, recipe.bad_if);
    if (recipe.rules.empty()) return worst;
    const auto rules = read_rules(recipe.rules);
    if (!rules) return fail(rules.error());
    auto outcomes = judge_rules(*opened->recording, *opened->trail, *rules);
    if (!outcomes) return fail(outcomes.error());
    const bool broken = std::any_of(outcomes->begin(), outcomes->end(),
                                    [](const RuleOutcome& r) { return r.verdict == Verdict::broken; });
    const int written =
        write_to("", inputs, true, [&](std::ostream& out) { out << judged_text({{folder, std::move(*outcomes)}}); });
    return written != kDone ? written : broken ? kBad : worst;
}

int record(const RecordOptions& o) {
    auto recipe = read_recipe(o.recipe, o.given);
    if (!recipe) return fail(recipe.error());
    for (const auto& w : recipe->warnings) say("mtrail: " + w);
    std::string folder = o.output.empty() ? save_path(*recipe) : o.output;
    if (auto ok = may_export(*recipe, o.replace); !ok) return fail(ok.error());
    auto live = LiveRecording::prepare(*recipe, folder, o.replace);
    if (!live) return fail(live.error());
    Result<void> outcome;
    std::atomic<bool> over{false};
    (*live)->on_end = [&](const Result<void>& r) {
        outcome = r;
        over = true;
    };
    static std::atomic<bool> asked;
    asked = false;
    for (const int signal : {SIGINT, SIGTERM, SIGHUP}) std::signal(signal, [](int) { asked = true; });
    (*live)->start();
    const bool terminal = ::isatty(STDERR_FILENO) != 0;
    while (!over) {
        std::this_thread::sleep_for(std::chrono::milliseconds(terminal ? 100 : 20));
        if (asked.exchange(false)) (*live)->run().stop("stopped by hand");
        if (terminal) std::fprintf(stderr, "\r%-60s", progress_line((*live)->state()).c_str());
    }
    if (terminal) std::fprintf(stderr, "\r%-60s\r", "");
    (*live)->wait();
    std::signal(SIGINT, SIG_DFL);
    std::signal(SIGTERM, SIG_DFL);
    std::signal(SIGHUP, SIG_DFL);
    const RunState state = (*live)->state();
    if (!outcome) return fail(outcome.error());
    if (state.discarded) return fail({"nothing was recorded", folder, ""});
    for (const auto& station : state.stations) {
        if (station.status != Station::Status::done) continue;
        std::string line = station.name + ":";
        for (std::size_t i = 0; i < station.lines.size(); ++i) line += (i == 0 ? " " : ", ") + station.lines[i];
        say(line);
    }
    for (const auto& warning : state.warnings) say("note: " + warning);
    if (state.cores.size() > 1)
        for (const auto& c : state.cores)
            if (c.debug) say("started: " + c.name + " after " + duration_text(Time::from_ns(c.started_after_s * 1e9)));
    if (const auto recording = (*live)->recording()) {
        const auto trail = (*live)->trail();
        for (const auto& line : live_health(*recording, trail.get(), state, (*live)->figures()))
            if (line.grade == HealthLine::Grade::bad)
                say("doubt: " + line.title + ": " + line.detail + ". " + line.advice);
    }
    for (const auto& s : state.streams)
        if (s.received.full) return fail({s.received.trouble, folder, "what was recorded until then is kept"});
    // A stream that fell silent for good, or never spoke, is no recording of what was asked for.
    int worst = kDone;
    for (const auto& s : state.streams) {
        if (s.received.bytes == 0 && !s.may_be_silent)
            worst = fail({"nothing was received from " + s.source, "core " + s.core,
                          "is trace switched on there, and is the line connected?"});
        else if (!s.received.connected && !s.received.exhausted && s.received.retries > 0)
            worst =
                fail({"the connection to " + s.source + " was lost and did not come back (" + s.received.trouble + ")",
                      "core " + s.core, "what came until then is kept in " + folder});
    }
    live->reset();
    return std::max(worst, export_and_judge(*recipe, folder));
}

}  // namespace

void add_record(CLI::App& app, Run& run) {
    const auto o = std::make_shared<RecordOptions>();
    CLI::App& c = *app.add_subcommand("record", "make a recording after a recipe");
    c.add_option("--recipe", o->recipe, "the *.recipe.toml to follow")->required();
    c.add_option("-o,--output", o->output, "the *.mtrail folder to write; after the recipe's pattern if left out");
    c.add_option("--set", o->given, "NAME=VALUE for a parameter of the recipe")->expected(1)->take_all();
    c.add_flag("--replace", o->replace, "replace a recording that is there");
    c.callback([o, &run] { run = [o] { return record(*o); }; });
}

}  // namespace mt::cli
