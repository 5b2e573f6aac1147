#include "command.h"

#include <ostream>

#include <CLI/CLI.hpp>

#include "input.h"
#include "output.h"
#include "share/tables.h"

namespace mt::cli {
namespace {

struct SummaryOptions : Reading {
    bool json = false;
};

int summary(SummaryOptions& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    return o.write(*opened, !o.json, [&](std::ostream& out) {
        if (o.json)
            out << summary_json(*opened->recording, *opened->trail).dump(2) << "\n";
        else
            out << summary_text(*opened->recording, *opened->trail);
    });
}

}  // namespace

void add_summary(CLI::App& app, Run& run) {
    auto [c, o] =
        add_command(app, run, "summary", "streams, packets by kind, time span, gaps, bad bytes, doubts", summary);
    o->add_output(c);
    c.add_flag("--json", o->json, "as JSON");
}

}  // namespace mt::cli
