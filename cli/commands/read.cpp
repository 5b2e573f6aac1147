#include "command.h"

#include <CLI/CLI.hpp>

#include "input.h"
#include "judge/muted.h"
#include "recording/waymarks.h"
#include "output.h"
#include "share/tables.h"

namespace mt::cli {
namespace {

struct ReadOptions : Reading {
    bool replace = false;
};

int read(ReadOptions& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    Progress progress;
    if (auto saved = save_recording(*opened->recording, o.output, o.replace, progress); !saved)
        return fail(saved.error());
    if (auto kept = copy_muted(opened->recording->input, o.output); !kept) return fail(kept.error());
    if (auto kept = copy_waymarks(opened->recording->input, o.output); !kept) return fail(kept.error());
    say(summary_text(*opened->recording, *opened->trail) + "saved as " + o.output);
    return kDone;
}

}  // namespace

void add_read(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "read", "decode, rebuild, and save a recording folder", read);
    c.add_option("-o,--output", o->output, "the *.mtrail folder to write")->required();
    c.add_flag("--replace", o->replace, "replace a recording that is there");
}

}  // namespace mt::cli
