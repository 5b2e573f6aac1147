#include "command.h"

#include <algorithm>
#include <ctime>
#include <filesystem>
#include <map>
#include <ostream>
#include <sstream>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "base/near_names.h"
#include "base/read_file.h"
#include "base/text.h"
#include "input.h"
#include "output.h"
#include "recording/source_places.h"
#include "share/cover_store.h"
#include "share/cover_tables.h"
#include "share/report.h"

namespace mt::cli {
namespace fs = std::filesystem;
namespace {

struct CoverOptions {
    std::vector<std::string> inputs, of;
    std::string output, lcov, html, store, justify, reason, note;
    bool csv = false, json = false, instructions = false;
};

// The counts of one core, of each build that was recorded.
struct OfCore {
    struct Build {
        CoverOf cover;
        std::shared_ptr<const Recording> recording;
        std::size_t core = 0;
        std::size_t last = 0;  ///< the last input that was made with it
    };
    std::vector<Build> builds;
};

// The lines of a source; none if it is not here, or no text.
std::vector<std::string> source_lines(const std::string& path) {
    std::vector<std::string> lines;
    const auto text = path.empty() ? Result<std::string>(failure("")) : read_small_file(path, 16'000'000, "source");
    if (!text) return lines;
    std::istringstream in(*text);
    for (std::string line; std::getline(in, line);) {
        if (!line.empty() && line.back() == '\r') line.pop_back();
        lines.push_back(std::move(line));
    }
    return lines;
}

int write_pages(const CoverOptions& o, const std::map<std::string, OfCore>& cores, const std::vector<CoverOfCore>& all,
                const CoverChoice& choice, const Inputs& files) {
    std::error_code ec;
    if (!fs::create_directories(o.html, ec) && (ec || !fs::is_empty(o.html, ec)))
        return fail({"the folder is there already", o.html, "name one that is not there, or an empty one"});
    const auto source = [&](const std::string& name) {
        for (const auto& [core, of] : cores) {
            const OfCore::Build& b = of.builds[0];
            if (auto lines = source_lines(find_source(name, source_places(*b.recording, b.core))); !lines.empty()) return lines;
        }
        return std::vector<std::string>();
    };
    for (const CoverPage& page : cover_pages(all, choice, "Coverage of " + o.inputs.back(), source))
        if (const int done = write_to((fs::path(o.html) / page.name).string(), files, false,
                                      [&](std::ostream& out) { out << page.html; });
            done != kDone)
            return done;
    return kDone;
}

nlohmann::ordered_json with(nlohmann::ordered_json all, const nlohmann::ordered_json& more) {
    all.update(more);
    return all;
}

std::string now_text() {
    char text[64] = {};
    const std::time_t t = std::time(nullptr);
    std::tm local{};
    ::localtime_r(&t, &local);
    std::strftime(text, sizeof text, "%Y-%m-%d %H:%M:%S", &local);
    return text;
}

std::string lost_text(const std::string& core, const CoverMoved& moved) {
    std::string names;
    for (const auto* list : {&moved.changed, &moved.gone})
        for (const std::string& name : *list) names += (names.empty() ? "" : ", ") + name;
    return "note: " + core + ": " + plural(moved.kept.size(), "function", "functions") + " the same byte for byte as in other builds" +
           (names.empty() ? std::string() : "; the coverage of these is lost, as they changed or are gone: " + names);
}

int cover(CoverOptions& o) {
    std::optional<CoverStore> store;
    if (!o.store.empty()) {
        auto opened = CoverStore::open(o.store);
        if (!opened) return fail(opened.error());
        store.emplace(std::move(*opened));
    }
    if (!o.justify.empty() && !store) return fail({"--justify is kept in a store", "", "name one: --store coverage.mtcover"});
    std::map<std::string, OfCore> cores;
    Inputs files;
    std::mutex lock;
    bool gaps = false;
    const auto read = read_each(o.inputs, [&](std::size_t i, const Opened& opened) -> Result<void> {
        const Trail& trail = *opened.trail;
        if (trail.steps.empty())
            return failure("it holds no instruction trace", o.inputs[i], "coverage needs an etm4, pft, etm3, etrace, ntrace or mtb stream");
        const std::lock_guard guard(lock);
        const Inputs more(*opened.recording);
        files.files.insert(files.files.end(), more.files.begin(), more.files.end());
        for (const StepTrail& steps : trail.steps) {
            for (std::size_t g = 0; g < steps.gaps.size(); ++g) gaps = gaps || is_missing(steps.gaps[g].gap.kind);
            CoverOf fresh{steps.code, steps.functions, CoverCounts::of(steps)};
            if (store)
                if (auto kept = store->add(o.inputs[i], now_text(), steps.core, fresh); !kept) return kept;
            auto& builds = cores[steps.core].builds;
            const auto same = std::find_if(builds.begin(), builds.end(),
                                           [&](const OfCore::Build& b) { return b.cover.same_code(fresh); });
            if (same != builds.end()) {
                same->cover.counts.add(fresh.counts);
                same->last = std::max(same->last, i);
            } else {
                builds.push_back({std::move(fresh), opened.recording, steps.core_index, i});
            }
        }
        return {};
    });
    if (!read) return fail(read.error());
    if (gaps) say("note: trace is missing in places: what ran there is not counted");
    std::vector<CoverOfCore> all;
    std::vector<std::string> known;
    for (auto& [core, of] : cores) {
        std::sort(of.builds.begin(), of.builds.end(), [](const auto& a, const auto& b) { return a.last > b.last; });
        OfCore::Build& newest = of.builds[0];
        if (store) {
            const auto moved = store->sum_into(core, newest.cover);
            if (!moved) return fail(moved.error());
            if (!moved->changed.empty() || !moved->gone.empty()) say(lost_text(core, *moved));
        }
        for (std::size_t b = 1; b < of.builds.size() && !store; ++b) say(lost_text(core, add_older(newest.cover, of.builds[b].cover)));
        all.push_back({core, Coverage::of(newest.cover.code, newest.cover.table,
                                          newest.recording->source_map(newest.core, *newest.cover.code),
                                          std::move(newest.cover.counts))});
        for (const CoverFunction& f : all.back().coverage.functions) known.push_back(f.name);
        for (const CoverFile& f : all.back().coverage.files) known.push_back(f.name);
    }
    const CoverChoice choice{o.of};
    for (const std::string& name : o.of) {
        const CoverChoice one{{name}};
        const bool there = std::any_of(all.begin(), all.end(), [&](const CoverOfCore& c) {
            return std::any_of(c.coverage.functions.begin(), c.coverage.functions.end(),
                               [&](const CoverFunction& f) { return one.takes(f); }) ||
                   std::any_of(c.coverage.files.begin(), c.coverage.files.end(),
                               [&](const CoverFile& f) { return one.takes(f); });
        });
        if (!there)
            return fail({"no function or file is called '" + name + "'", "--of",
                         near_names_text(name, known, "the image names none")});
    }
    nlohmann::ordered_json kept = nlohmann::ordered_json::object();
    if (store) {
        if (!o.justify.empty())
            if (auto done = store->justify({o.justify, o.reason, o.note}); !done) return fail(done.error());
        const auto from = store->contributions();
        const auto reasons = store->reasons();
        if (!from) return fail(from.error());
        if (!reasons) return fail(reasons.error());
        for (const CoverOfCore& c : all)
            for (const std::string& text : justified_but_run(*reasons, c.coverage)) say("note: " + text);
        for (const auto& c : *from)
            kept["recordings"].push_back({{"input", c.input}, {"made", c.made}, {"instructions", c.instructions}, {"fresh", c.fresh}});
        for (const auto& r : *reasons) kept["justified"].push_back({{"place", r.place}, {"reason", r.reason}, {"note", r.note}});
        if (auto done = store->keep(); !done) return fail(done.error());
        files.files.push_back(o.store);
    }
    int done = write_to(o.output, files, !o.json && !o.csv && !o.instructions, [&](std::ostream& out) {
        if (o.instructions)
            write_cover_instructions_csv(all, choice, out);
        else if (o.json)
            out << with(cover_json(all, choice), kept).dump(2, ' ', false, nlohmann::json::error_handler_t::replace) << "\n";
        else if (o.csv)
            write_cover_csv(all, choice, out);
        else
            out << cover_text(all, choice);
    });
    if (done == kDone && !o.lcov.empty())
        done = write_to(o.lcov, files, false, [&](std::ostream& out) { write_lcov(all, choice, out); });
    if (done == kDone && !o.html.empty()) done = write_pages(o, cores, all, choice, files);
    return done;
}

}  // namespace

void add_cover(CLI::App& app, Run& run) {
    CLI::App& c = *app.add_subcommand("cover", "which code ran: instructions, branches, lines, functions, files");
    const auto o = std::make_shared<CoverOptions>();
    c.add_option("INPUT", o->inputs, "recordings with instruction trace; of several the sum")->required();
    c.add_option("--of", o->of, "only these functions and files");
    CLI::Option* as_csv = c.add_flag("--csv", o->csv, "a row for each function, as CSV");
    c.add_flag("--json", o->json, "as JSON")->excludes(as_csv);
    c.add_flag("--instructions", o->instructions, "a row for each instruction, as CSV");
    c.add_option("--lcov", o->lcov, "lcov's tracefile too, into this file");
    c.add_option("--html", o->html, "pages with the sources too, into this folder, which must not exist");
    c.add_option("--store", o->store, "add the recordings to this *.mtcover (it is made if it is not there), and show what all in it ran");
    CLI::Option* justify = c.add_option("--justify", o->justify, "in the store: this function, or line (guide.c:41), need not run, or this branch (0x080003e8) not go both ways");
    c.add_option("--reason", o->reason, "why; an empty one takes it away")->needs(justify);
    c.add_option("--note", o->note, "who says so, say")->needs(justify);
    c.add_option("-o,--output", o->output, "file to write; - for standard output");
    c.callback([o, &run] { run = [o] { return cover(*o); }; });
}

}  // namespace mt::cli
