// mtrail: headless what the window does. See docs/user-guide.md, "Without a window".
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <csignal>
#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <exception>
#include <filesystem>
#include <fstream>
#include <functional>
#include <iostream>
#include <sstream>
#include <thread>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "base/near_names.h"
#include "base/plain_text.h"
#include "base/text.h"
#include "output.h"
#include "judge/finding.h"
#include "measure/interrupts.h"
#include "share/ctf_export.h"
#include "share/step_tables.h"
#include "share/tables.h"
#include "share/task_tables.h"
#include "judge/live_health.h"
#include "trail/live_recording.h"
#include "trail/reading.h"
#include "trail/recording.h"
#include "trail/ring_check.h"

namespace {

using namespace mt;
using namespace mt::cli;

Progress* interrupted = nullptr;  // set while a pass runs, for SIGINT

struct Opened {
    std::shared_ptr<const Recording> recording;
    std::shared_ptr<const Trail> trail;
};

Result<Opened> open_and_read(const std::string& input) {
    auto recording = open_recording(input);
    if (!recording) return tl::make_unexpected(recording.error());
    Progress progress;
    interrupted = &progress;
    std::signal(SIGINT, [](int) {
        if (interrupted != nullptr) interrupted->cancel();
    });
    std::atomic<bool> done{false};
    std::thread reporter;
    if (::isatty(STDERR_FILENO) != 0)
        reporter = std::thread([&] {
            while (!done) {
                std::this_thread::sleep_for(std::chrono::milliseconds(100));
                if (progress.share() > 0) std::fprintf(stderr, "\rdecoding %3.0f %%", progress.share() * 100);
            }
            std::fprintf(stderr, "\r              \r");
        });
    auto trail = read_trail(**recording, progress);
    done = true;
    if (reporter.joinable()) reporter.join();
    std::signal(SIGINT, SIG_DFL);
    interrupted = nullptr;
    if (!trail) return tl::make_unexpected(trail.error());
    if ((*trail)->cancelled) return failure("interrupted", input, "run it again to the end");
    return Opened{*recording, *trail};
}

struct Options {
    std::string input, output, of, recipe, core, addresses, ctf, from_text, to_text;
    std::vector<std::string> leave_out, fail_if;
    std::uint64_t at = 0, hz = 0;
    bool csv = false, json = false, replace = false, calls = false;
    std::optional<Time> from, to;

    /// What is written is for people, not for programs.
    bool text() const { return !csv && !json; }
    int write(const Opened& opened, const std::function<void(std::ostream&)>& how) const {
        return write_to(output, Inputs(*opened.recording), text(), how);
    }
};

// "1500" (ns), "1.5us", "2 ms": a time from the start, as options take it.
Result<std::optional<Time>> time_of(const std::string& option, const std::string& text) {
    if (text.empty()) return std::optional<Time>();
    std::size_t used = 0;
    double value = 0;
    try {
        value = std::stod(text, &used);
    } catch (const std::exception&) {
        used = 0;
    }
    std::string unit = text.substr(used);
    unit.erase(0, unit.find_first_not_of(' ') == std::string::npos ? unit.size() : unit.find_first_not_of(' '));
    const double factor = unit.empty() || unit == "ns"                             ? 1
                          : unit == "us" || unit == "\u00b5s" || unit == "\u03bcs" ? 1e3
                          : unit == "ms"                                           ? 1e6
                          : unit == "s"                                            ? 1e9
                                                                                   : 0;
    constexpr double kMostNs = 9e15;  // a hundred days
    if (used == 0 || factor == 0 || !std::isfinite(value) || value < 0 || value * factor > kMostNs)
        return failure("'" + text + "' is no time", option, "give a number from 0, with ns (or nothing), us, ms or s");
    return std::optional(Time::from_ns(value * factor));
}

Result<void> read_times(Options& o) {
    const auto from = time_of("--from", o.from_text), to = time_of("--to", o.to_text);
    if (!from) return tl::make_unexpected(from.error());
    if (!to) return tl::make_unexpected(to.error());
    o.from = *from;
    o.to = *to;
    if (o.from && o.to && *o.to < *o.from)
        return failure("--from lies after --to", o.from_text + " and " + o.to_text, "exchange them");
    return {};
}

int run_read(const Options& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    Progress progress;
    if (auto saved = save_recording(*opened->recording, o.output, o.replace, progress); !saved)
        return fail(saved.error());
    say(summary_text(*opened->recording, *opened->trail) + "saved as " + o.output);
    return kDone;
}

int run_summary(const Options& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    return o.write(*opened, [&](std::ostream& out) {
        if (o.json)
            out << summary_json(*opened->recording, *opened->trail).dump(2) << "\n";
        else
            out << summary_text(*opened->recording, *opened->trail);
    });
}

int run_packets(const Options& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    return o.write(
        *opened, [&](std::ostream& out) { write_packets_csv(*opened->recording, *opened->trail, o.from, o.to, out); });
}

int run_events(const Options& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    return o.write(*opened,
                   [&](std::ostream& out) { write_events_csv(*opened->recording, *opened->trail, o.from, o.to, out); });
}

void print_stats(const std::vector<InterruptRow>& rows, std::ostream& out) {
    const auto cell = [](const std::optional<Time>& t) { return t ? duration_text(*t) : std::string("-"); };
    const auto pad = [](const std::string& s, std::size_t n) {
        std::size_t shown = 0;
        for (const char c : s) shown += (static_cast<unsigned char>(c) & 0xC0) != 0x80 ? 1 : 0;
        return (shown < n ? std::string(n - shown, ' ') : std::string()) + s;
    };
    out << "  no  name                         count  left out      least       mean   greatest  period mean      "
           "share\n";
    for (const auto& r : rows) {
        std::string name = r.name.substr(0, 24);
        out << pad(std::to_string(r.number), 4) << "  " << name << std::string(24 - name.size(), ' ')
            << pad(count_text(r.count), 10) << pad(count_text(r.left_out), 10) << pad(cell(r.least), 11)
            << pad(cell(r.mean), 11) << pad(cell(r.greatest), 11) << pad(cell(r.period_mean), 13)
            << pad(share_text(r.share), 11) << "\n";
    }
}

// The stream of instructions that is meant: of the named core, or the only one.
Result<const StepTrail*> steps_of(const Opened& opened, const Options& o) {
    std::string known;
    const StepTrail* found = nullptr;
    for (const auto& t : opened.trail->steps) {
        known += (known.empty() ? "" : ", ") + t.core;
        if (o.core.empty() ? found == nullptr : t.core == o.core) found = &t;
    }
    if (found == nullptr)
        return failure(
            known.empty() ? "the recording holds no instruction trace" : "no instructions of core '" + o.core + "'",
            o.input, known.empty() ? "give one with an etm4, etrace, ntrace or mtb stream" : "there are: " + known);
    if (o.core.empty() && opened.trail->steps.size() > 1)
        return failure("the recording holds instructions of several cores", o.input, "name one with --core: " + known);
    return found;
}

int run_steps(const Options& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    auto steps = steps_of(*opened, o);
    if (!steps) return fail(steps.error());
    if (!o.addresses.empty())
        return write_to(o.addresses, Inputs(*opened->recording), false, [&](std::ostream& out) {
            write_step_addresses(*opened->recording, **steps, o.from, o.to, out);
        });
    return o.write(*opened,
                   [&](std::ostream& out) { write_steps_csv(*opened->recording, **steps, o.from, o.to, out); });
}

int run_stats(const Options& o) {
    if (o.of == "functions") {
        auto opened = open_and_read(o.input);
        if (!opened) return fail(opened.error());
        std::vector<std::string> known;
        for (const auto& r : function_rows(*opened->trail, {}, opened->recording->functions)) known.push_back(r.name);
        for (const std::string& name : o.leave_out)
            if (std::find(known.begin(), known.end(), name) == known.end())
                return fail({"no function '" + name + "' ran", "--leave-out",
                             near_names_text(name, known, "the recording tells of no functions")});
        const auto rows =
            function_rows(*opened->trail, {o.leave_out.begin(), o.leave_out.end()}, opened->recording->functions);
        if (rows.empty())
            return fail({"the recording tells of no functions", o.input,
                         "they need an etm4, etrace, ntrace or mtb stream, or samples of the program counter"});
        return o.write(*opened, [&](std::ostream& out) {
            if (o.json)
                out << functions_json(*opened->trail, rows).dump(2) << "\n";
            else if (o.csv)
                write_functions_csv(rows, out);
            else
                out << functions_text(rows);
        });
    }
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    if (o.of != "interrupts") {
        const Trail& trail = *opened->trail;
        if (!trail.tasks.present() || (o.of == "tasks" && trail.tasks.tasks.empty()) ||
            (o.of == "locks" && trail.tasks.streams.empty()) || (o.of == "states" && state_rows(trail).empty()))
            return fail({"the recording tells of no " + o.of, o.input,
                         o.of == "states"
                             ? "they are values with names: give a watch or a port of kind \"value\" its names"
                             : "they come from an operating system's events: record them, or give a ctf stream"});
        return o.write(*opened, [&](std::ostream& out) {
            // As JSON, as CSV, or for people.
            const auto as = [&](auto json, auto csv, auto text) {
                if (o.json)
                    out << json().dump(2) << "\n";
                else if (o.csv)
                    csv();
                else
                    out << text();
            };
            if (o.of == "tasks") {
                const auto rows = task_rows(trail);
                as([&] { return tasks_json(rows); }, [&] { write_tasks_csv(rows, out); },
                   [&] { return tasks_text(rows); });
            } else if (o.of == "locks") {
                const auto rows = lock_rows(trail);
                as([&] { return locks_json(trail, rows); }, [&] { write_locks_csv(rows, out); },
                   [&] { return locks_text(rows); });
            } else if (o.of == "states") {
                const auto rows = state_rows(trail);
                as([&] { return states_json(rows); }, [&] { write_states_csv(rows, out); },
                   [&] { return states_text(rows); });
            } else {
                as([&] { return marks_json(trail); }, [&] { write_marks_csv(trail, out); },
                   [&] { return marks_text(trail); });
            }
        });
    }
    const auto rows = interrupt_rows(*opened->trail);
    return o.write(*opened, [&](std::ostream& out) {
        if (o.json)
            out << stats_json(rows).dump(2) << "\n";
        else if (o.csv)
            write_stats_csv(rows, out);
        else
            print_stats(rows, out);
    });
}

int run_instances(const Options& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    std::vector<std::string> known;
    for (const auto& core : opened->trail->cores)
        for (const auto& lane : core.lanes) {
            if (lane.name() == o.of || std::to_string(core.architectural(lane.number())) == o.of)
                return write_to(o.output, Inputs(*opened->recording), false,
                                [&](std::ostream& out) { write_instances_csv(lane, out, core.timed); });
            known.push_back(lane.name());
        }
    for (const auto& t : opened->trail->tasks.tasks) known.push_back(t.name);
    for (const auto& l : opened->trail->tasks.locks) known.push_back(l.name);
    for (const auto& r : function_rows(*opened->trail)) known.push_back(r.name);
    std::ostringstream calls;
    if (write_task_instances_csv(*opened->trail, o.of, calls))
        return write_to(o.output, Inputs(*opened->recording), false, [&](std::ostream& out) { out << calls.str(); });
    if (write_calls_csv(*opened->trail, o.of, calls))
        return write_to(o.output, Inputs(*opened->recording), false, [&](std::ostream& out) { out << calls.str(); });
    return fail({"nothing named '" + o.of + "' ran", o.input,
                 near_names_text(o.of, known, "no activity is in this recording")});
}

int run_export(const Options& o) {
    if (o.ctf.empty()) return fail({"nothing to export", o.input, "give --ctf DIR"});
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    Progress progress;
    if (auto done = export_ctf(*opened->recording, *opened->trail, o.ctf, o.calls, progress); !done)
        return fail(done.error());
    say("written as " + o.ctf);
    return kDone;
}

// kBad if there are findings of these kinds ("any": of whatever kind).
int verdict(const std::vector<Finding>& findings, const std::vector<std::string>& kinds) {
    bool bad = false;
    for (const auto& f : findings)
        if (std::any_of(kinds.begin(), kinds.end(),
                        [&](const std::string& kind) { return kind == "any" || kind == finding_kind_name(f.kind); })) {
            say("bad: " + f.title);
            bad = true;
        }
    return bad ? kBad : kDone;
}

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
    worst = std::max(worst, write(recipe.measures_csv,
                                  [&](std::ostream& out) { write_stats_csv(interrupt_rows(*opened->trail), out); }));
    if (!recipe.judges()) return worst;
    const auto findings = find_all(*opened->recording, *opened->trail);
    worst = std::max(
        worst, write(recipe.findings_json, [&](std::ostream& out) { out << findings_json(findings).dump(2) << "\n"; }));
    return worst != kDone ? worst : verdict(findings, recipe.bad_if);
}

int run_record(const Options& o) {
    auto recipe = read_recipe(o.recipe);
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
    for (const int signal : {SIGINT, SIGTERM}) std::signal(signal, [](int) { asked = true; });
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
    const RunState state = (*live)->state();
    if (!outcome) return fail(outcome.error());
    if (state.discarded) return fail({"nothing was recorded", folder, ""});
    for (const auto& station : state.stations) {
        if (station.status != Station::Status::done) continue;
        std::string line = station.name + ":";
        for (std::size_t i = 0; i < station.lines.size(); ++i) line += (i == 0 ? " " : ", ") + station.lines[i];
        say(line);
    }
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
        if (s.received.bytes == 0)
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

int run_find(const Options& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    const auto findings = find_all(*opened->recording, *opened->trail);
    const int written = o.write(*opened, [&](std::ostream& out) {
        if (o.json)
            out << findings_json(findings).dump(2) << "\n";
        else
            out << findings_text(findings);
    });
    return written != kDone ? written : verdict(findings, o.fail_if);
}

// What is wrong with a ring, and its packets for the taking.
int run_ring(const Options& o) {
    namespace fs = std::filesystem;
    auto file = MappedFile::open(o.input);
    if (!file) return fail(file.error());
    const auto report = check_ring((*file)->bytes(), o.at, o.hz);
    if (!report) return fail(report.error());
    if (!o.output.empty() && o.output == o.input)
        return fail({"would overwrite what is being read", o.input, "choose another name"});
    std::cout << "header at " << hex_text(report->header_at) << "\n";
    for (const auto& r : report->remarks) {
        constexpr const char* grades[] = {"  ", "? ", "! "};
        std::cout << grades[static_cast<std::size_t>(r.grade)] << plain_text(r.text) << "\n";
        if (!r.advice.empty()) std::cout << "    " << plain_text(r.advice) << "\n";
    }
    if (!o.output.empty()) {
        std::error_code ec;
        if (fs::exists(o.output, ec)) return fail({"exists already", o.output, "choose another name"});
        if (report->packets == 0) return fail({"there is nothing to write", o.input, "see what is wrong above"});
        fs::create_directories(o.output, ec);
        std::ofstream(fs::path(o.output) / "metadata", std::ios::binary)
            << recorder_metadata(o.hz == 0 ? 1'000'000'000 : o.hz);
        std::ofstream packets(fs::path(o.output) / "packets", std::ios::binary);
        packets.write(reinterpret_cast<const char*>(report->stream.data()),
                      static_cast<std::streamsize>(report->stream.size()));
        packets.close();
        if (!packets) return fail({"cannot write", o.output, "check free space and permissions"});
    }
    return report->good() && report->lost == 0 ? kDone : kBad;
}

}  // namespace

// What a thread could not handle: said, and ended like anything else that could not be done.
[[noreturn]] void last_resort() {
    std::string why = "an error inside";
    try {
        if (const auto e = std::current_exception()) std::rethrow_exception(e);
    } catch (const std::bad_alloc&) {
        why = "not enough memory";
    } catch (const std::exception& e) {
        why = e.what();
    } catch (...) {
    }
    std::fprintf(stderr, "mtrail: %s: please report it with the file that was read\n", plain_text(why).c_str());
    std::_Exit(kCannot);
}

int main(int argc, char** argv) {
    std::set_terminate(last_resort);
    CLI::App app{"mtrail: decodes trace recordings and finds timing anomalies, without a window", "mtrail"};
    app.set_version_flag("--version", "mtrail 0.1.0");
    app.require_subcommand(1);
    Options o;
    std::function<int(const Options&)> run;
    const auto command = [&](const char* name, const char* does, int (*what)(const Options&)) {
        CLI::App* c = app.add_subcommand(name, does);
        c->add_option("INPUT", o.input, "a *.target.toml, a *.mtrail folder, or the folder of a CTF trace")->required();
        c->callback([&run, what] { run = what; });
        return c;
    };
    const auto output = [&](CLI::App* c) {
        c->add_option("-o,--output", o.output, "file to write; - for standard output");
        return c;
    };
    const auto times = [&](CLI::App* c) {
        c->add_option("--from", o.from_text, "first time from the start: 1500 (ns), 1.5us, 2ms, 3s");
        c->add_option("--to", o.to_text, "last time from the start");
        c->add_flag("--csv", o.csv, "as CSV (the only form)");
        return c;
    };
    CLI::App* read = command("read", "decode, rebuild, and save a recording folder", run_read);
    read->add_option("-o,--output", o.output, "the *.mtrail folder to write")->required();
    read->add_flag("--replace", o.replace, "replace a recording that is there");
    output(command("summary", "streams, packets by kind, time span, gaps, bad bytes, doubts", run_summary))
        ->add_flag("--json", o.json, "as JSON");
    times(output(command("packets", "every packet: offset, time, kind, detail", run_packets)));
    times(output(command("events", "every event in time order", run_events)));
    CLI::App* steps = times(output(command("steps", "every executed instruction", run_steps)));
    steps->add_option("--core", o.core, "the core, if several are traced");
    steps->add_option("--pcs", o.addresses, "write the addresses to this file, eight bytes each");
    CLI::App* stats = output(command("stats", "measures, one row per activity", run_stats));
    stats->add_option("--of", o.of, "interrupts, tasks, locks, marks, functions, or states that named values stood for")
        ->required()
        ->check(CLI::IsMember({"interrupts", "tasks", "functions", "locks", "marks", "states"}));
    stats->add_option("--leave-out", o.leave_out, "functions that do not count, such as the one that waits for work");
    CLI::Option* as_csv = stats->add_flag("--csv", o.csv, "as CSV");
    stats->add_flag("--json", o.json, "as JSON")->excludes(as_csv);
    CLI::App* instances = output(command("instances", "one row per instance of an activity", run_instances));
    instances->add_option("--of", o.of, "name or number of the interrupt, or name of the task, lock or function")
        ->required();
    instances->add_flag("--csv", o.csv, "as CSV (the only form)");
    CLI::App* find = output(command("find", "findings, worst first", run_find));
    find->add_flag("--json", o.json, "as JSON");
    std::string kinds = "exit with 1 if there are findings of these kinds:";
    for (const auto kind : kFindingKindNames) kinds += " " + std::string(kind);
    find->add_option("--fail-if", o.fail_if, kinds + "; any: of whatever kind")->check([](const std::string& kind) {
        if (kind == "any" || is_finding_kind(kind)) return std::string();
        return "'" + kind + "' is no kind of finding: " +
               near_names_text(kind, {kFindingKindNames.begin(), kFindingKindNames.end()}, "");
    });
    CLI::App* exported = command("export", "write in an open format", run_export);
    exported->add_option("--ctf", o.ctf, "new folder for a Common Trace Format 2 trace");
    exported->add_flag("--calls", o.calls, "function calls too");
    CLI::App* ring = app.add_subcommand("ring", "look at an image of memory with the recorder's ring in it");
    ring->add_option("IMAGE", o.input, "file with the bytes of the target's memory")->required();
    ring->add_option("--at", o.at, "address of its first byte (0x… or decimal)")->check([](const std::string& text) {
        errno = 0;
        (void)std::strtoull(text.c_str(), nullptr, 0);
        return errno == ERANGE ? text + " is more than 64 bits hold" : std::string();
    });
    ring->add_option("--hz", o.hz, "ticks per second of the recorder's time source");
    ring->add_option("-o,--output", o.output, "new folder for what it holds, as a Common Trace Format trace");
    ring->callback([&run] { run = run_ring; });
    CLI::App* record = app.add_subcommand("record", "make a recording after a recipe");
    record->add_option("--recipe", o.recipe, "the *.recipe.toml to follow")->required();
    record->add_option("-o,--output", o.output, "the *.mtrail folder to write; after the recipe's pattern if left out");
    record->add_flag("--replace", o.replace, "replace a recording that is there");
    record->callback([&run] { run = run_record; });
    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& e) {
        if (e.get_exit_code() == 0) return app.exit(e);
        std::vector<std::string> commands;
        for (const CLI::App* c : app.get_subcommands({})) commands.push_back(c->get_name());
        const std::string first = argc > 1 ? argv[1] : "";
        const bool known = std::find(commands.begin(), commands.end(), first) != commands.end();
        if (!known && !first.empty() && first.front() != '-')
            return fail({"no command '" + first + "'", "", near_names_text(first, commands, "")});
        return fail({e.what(), "", "try mtrail " + (known ? first + " " : "") + "--help"});
    }
    if (auto ok = read_times(o); !ok) return fail(ok.error());
    try {
        return run(o);
    } catch (const std::bad_alloc&) {
        return fail({"not enough memory", o.input, "close other programs, or decode a part of it"});
    } catch (const std::exception& e) {
        return fail({std::string("this went wrong inside: ") + e.what(), o.input, "please report it with the file"});
    }
}
