#include <ostream>

#include <CLI/CLI.hpp>

#include "command.h"
#include "input.h"
#include "output.h"
#include "share/value_tables.h"

namespace mt::cli {
namespace {

struct ValuesOptions : Reading {
    Between between;
    std::vector<std::string> of;
    bool csv = false;
};

int values(ValuesOptions& o) {
    if (auto ok = o.between.read(); !ok) return fail(ok.error());
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    ValuesWanted wanted;
    wanted.from = o.between.from;
    wanted.to = o.between.to;
    if (!o.of.empty()) {
        auto lanes = values_named(*opened->trail, o.of);
        if (!lanes) return fail(lanes.error());
        wanted.lanes = std::move(*lanes);
    }
    return o.write(*opened, false, [&](std::ostream& out) { write_values_csv(*opened->trail, wanted, out); });
}

}  // namespace

void add_values(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "values", "what variables, ports and signals were, sample by sample", values);
    o->add_output(c);
    o->between.add(c);
    c.add_option("--of", o->of, "only these, by name");
    c.add_flag("--csv", o->csv, "as CSV, which it always is");
}

}  // namespace mt::cli
