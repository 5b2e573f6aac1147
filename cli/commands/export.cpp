#include "command.h"

#include <CLI/CLI.hpp>

#include "input.h"
#include "output.h"
#include "share/ctf_export.h"

namespace mt::cli {
namespace {

struct Options : Reading {
    std::string ctf;
    bool calls = false;
};

int export_it(Options& o) {
    if (o.ctf.empty()) return fail({"nothing to export", o.input, "give --ctf DIR"});
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    Progress progress;
    if (auto done = export_ctf(*opened->recording, *opened->trail, o.ctf, o.calls, progress); !done)
        return fail(done.error());
    say("written as " + o.ctf);
    return kDone;
}

}  // namespace

void add_export(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "export", "write in an open format", export_it);
    c.add_option("--ctf", o->ctf, "new folder for a Common Trace Format 2 trace");
    c.add_flag("--calls", o->calls, "function calls too");
}

}  // namespace mt::cli
