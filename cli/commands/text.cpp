#include <ostream>

#include <CLI/CLI.hpp>

#include "command.h"
#include "input.h"
#include "output.h"
#include "share/text_tables.h"

namespace mt::cli {
namespace {

struct TextOptions : Reading {
    Between between;
    std::string of;
    bool csv = false;
};

int text(TextOptions& o) {
    if (auto ok = o.between.read(); !ok) return fail(ok.error());
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    TextWanted wanted;
    wanted.from = o.between.from;
    wanted.to = o.between.to;
    if (!o.of.empty()) {
        if (auto logs = logs_named(*opened->trail, o.of); logs)
            wanted.logs = std::move(*logs);
        else
            return fail(logs.error());
    }
    return o.write(*opened, !o.csv, [&](std::ostream& out) {
        if (o.csv)
            write_text_csv(*opened->trail, wanted, out);
        else
            write_text(*opened->trail, wanted, out);
    });
}

}  // namespace

void add_text(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "text", "what the firmware printed, line by line", text);
    o->add_output(c);
    o->between.add(c);
    c.add_option("--of", o->of, "only this port: its number or its name");
    c.add_flag("--csv", o->csv, "as CSV");
}

}  // namespace mt::cli
