#include "command.h"

#include <CLI/CLI.hpp>

#include "input.h"
#include "output.h"
#include "share/ctf_export.h"
#include "share/mdf_export.h"
#include "share/vcd_export.h"

namespace mt::cli {
namespace {

struct ExportOptions : Reading {
    std::string ctf, vcd, mdf;
    bool calls = false;
};

int export_it(ExportOptions& o) {
    if (o.ctf.empty() && o.vcd.empty() && o.mdf.empty())
        return fail({"nothing to export", o.input, "give --ctf DIR, --vcd FILE or --mdf FILE"});
    if (o.mdf == "-") return fail({"an MDF file cannot go to standard output", o.input, "give the name of a file"});
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    Progress progress;
    if (!o.vcd.empty()) {
        Result<void> done;
        const int written = write_to(o.vcd, Inputs(*opened->recording), false,
                                     [&](std::ostream& out) { done = write_vcd(*opened->trail, out, progress); });
        if (!done) return fail(done.error());
        if (written != kDone || (o.ctf.empty() && o.mdf.empty())) return written;
    }
    if (!o.mdf.empty()) {
        Result<void> done;
        const int written = write_to(o.mdf, Inputs(*opened->recording), false, [&](std::ostream& out) {
            done = write_mdf(*opened->trail, opened->recording->title, out, progress);
        });
        if (!done) return fail(done.error());
        if (written != kDone || o.ctf.empty()) return written;
    }
    if (auto done = export_ctf(*opened->recording, *opened->trail, o.ctf, o.calls, progress); !done)
        return fail(done.error());
    say("written as " + o.ctf);
    return kDone;
}

}  // namespace

void add_export(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "export", "write in an open format", export_it);
    c.add_option("--ctf", o->ctf, "new folder for a Common Trace Format 2 trace");
    c.add_option("--vcd", o->vcd, "file for a value change dump of everything but calls; - for standard output");
    c.add_option("--mdf", o->mdf, "file of measurement data (MDF 4) with the same");
    c.add_flag("--calls", o->calls, "function calls too");
}

}  // namespace mt::cli
