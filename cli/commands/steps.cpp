#include "command.h"

#include <ostream>

#include <CLI/CLI.hpp>

#include "input.h"
#include "output.h"
#include "share/step_tables.h"

namespace mt::cli {
namespace {

struct StepsOptions : Reading {
    Between between;
    std::string core, addresses;
    bool csv = false;
};

int steps(StepsOptions& o) {
    if (auto ok = o.between.read(); !ok) return fail(ok.error());
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    auto steps = steps_of(*opened, o.core);
    if (!steps) return fail(steps.error());
    if (!o.addresses.empty())
        return write_to(o.addresses, Inputs(*opened->recording), false, [&](std::ostream& out) {
            write_step_addresses(*opened->recording, **steps, o.between.from, o.between.to, out);
        });
    return o.write(*opened, !o.csv, [&](std::ostream& out) {
        write_steps_csv(*opened->recording, **steps, o.between.from, o.between.to, out);
    });
}

}  // namespace

void add_steps(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "steps", "every executed instruction", steps);
    o->add_output(c);
    o->between.add(c);
    c.add_flag("--csv", o->csv, "as CSV (the only form)");
    c.add_option("--core", o->core, "the core, if several are traced");
    c.add_option("--pcs", o->addresses, "write the addresses to this file, eight bytes each");
}

}  // namespace mt::cli
