#include <ostream>

#include <CLI/CLI.hpp>

#include "base/near_names.h"
#include "command.h"
#include "input.h"
#include "output.h"
#include "share/interplay_tables.h"

namespace mt::cli {
namespace {

struct InterplayOptions : Reading {
    Between between;
    std::string of;
    bool csv = false, json = false;
};

int interplay(InterplayOptions& o) {
    if (auto ok = o.between.read(); !ok) return fail(ok.error());
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    const Trail& trail = *opened->trail;
    if (!tells_interplay(trail))
        return fail({"nobody is seen to act on anybody", o.input,
                     "that is told by an operating system's events and by watched variables: record them"});
    const Progress progress;
    const Interplay all =
        mt::interplay(trail, o.between.from.value_or(Time{}), o.between.to.value_or(trail.end), progress);
    if (!o.of.empty()) {
        std::vector<std::string> known;
        const auto edges = edges_of(all, o.of, &known);
        if (edges.empty())
            return fail({"nothing named '" + o.of + "' acts or is acted on", o.input,
                         near_names_text(o.of, known, "nobody acts on anything in this stretch")});
        return o.write(*opened, !o.csv, [&](std::ostream& out) {
            if (o.csv)
                write_history_csv(trail, all, edges, out);
            else
                out << history_text(trail, all, edges);
        });
    }
    return o.write(*opened, !o.csv && !o.json, [&](std::ostream& out) {
        if (o.csv)
            write_interplay_csv(all, out);
        else if (o.json)
            out << interplay_json(all).dump(2) << '\n';
        else
            out << interplay_text(all);
    });
}

}  // namespace

void add_interplay(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "interplay", "who acts on whom: sends, takes, wakes, writes", interplay);
    o->add_output(c);
    o->between.add(c);
    auto* of = c.add_option("--of", o->of, "the history of this task, interrupt, queue, lock, … call by call");
    auto* csv = c.add_flag("--csv", o->csv, "as CSV");
    c.add_flag("--json", o->json, "as JSON")->excludes(csv)->excludes(of);
}

}  // namespace mt::cli
