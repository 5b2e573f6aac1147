#include "command.h"

#include <ostream>

#include <CLI/CLI.hpp>

#include "base/near_names.h"
#include "input.h"
#include "output.h"
#include "share/activity_tables.h"

namespace mt::cli {
namespace {

struct InstancesOptions : Reading {
    std::string of;
    bool csv = false;
};

int instances(InstancesOptions& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    std::vector<std::string> known;
    const auto found = find_activity(*opened->trail, o.of, &known);
    if (!found)
        return fail({"nothing named '" + o.of + "' ran", o.input,
                     near_names_text(o.of, known, "no activity is in this recording")});
    return o.write(*opened, false,
                   [&](std::ostream& out) { write_instances_csv(*found->kind, *opened->trail, found->index, out); });
}

}  // namespace

void add_instances(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "instances", "one row per instance of an activity", instances);
    o->add_output(c);
    c.add_option("--of", o->of, "name of an activity of any kind, or number of an interrupt")->required();
    c.add_flag("--csv", o->csv, "as CSV (the only form)");
}

}  // namespace mt::cli
