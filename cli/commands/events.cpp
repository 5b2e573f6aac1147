#include "command.h"

#include <ostream>

#include <CLI/CLI.hpp>

#include "input.h"
#include "output.h"
#include "share/tables.h"

namespace mt::cli {
namespace {

struct EventsOptions : Reading {
    Between between;
    bool csv = false;
};

int events(EventsOptions& o) {
    if (auto ok = o.between.read(); !ok) return fail(ok.error());
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    return o.write(*opened, !o.csv, [&](std::ostream& out) {
        write_events_csv(*opened->recording, *opened->trail, o.between.from, o.between.to, out);
    });
}

}  // namespace

void add_events(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "events", "every event in time order", events);
    o->add_output(c);
    o->between.add(c);
    c.add_flag("--csv", o->csv, "as CSV (the only form)");
}

}  // namespace mt::cli
