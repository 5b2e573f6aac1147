#include "command.h"

#include <ostream>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "base/finding_kinds.h"
#include "base/near_names.h"
#include "input.h"
#include "judge/muted.h"
#include "output.h"
#include "share/tables.h"
#include "verdict.h"

namespace mt::cli {
namespace {

struct FindOptions : Reading {
    std::vector<std::string> fail_if;
    std::string muted;
    bool json = false, all = false;
};

int find(FindOptions& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    const auto muted = read_muted(o.muted.empty() ? muted_path(opened->recording->input) : o.muted);
    if (!muted) return fail(muted.error());
    for (const auto& w : muted->warnings) say("note: " + w);
    const auto findings = find_all(*opened->recording, *opened->trail);
    std::vector<Finding> loud;
    for (const Finding& f : findings)
        if (muted->find(f) == nullptr) loud.push_back(f);
    const int written = o.write(*opened, !o.json, [&](std::ostream& out) {
        if (o.json)
            out << findings_json(findings, *muted).dump(2) << "\n";
        else
            out << findings_text(o.all ? findings : loud, findings.size() - loud.size());
    });
    return written != kDone ? written : verdict(loud, o.fail_if);
}

}  // namespace

void add_find(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "find", "findings, worst first", find);
    o->add_output(c);
    c.add_flag("--json", o->json, "as JSON; muted ones too, with the reason");
    c.add_flag("--all", o->all, "muted ones too");
    c.add_option("--muted", o->muted,
                 "a file of muted findings; without it the one that is kept with the recording, if there is one")
        ->check(CLI::ExistingFile);
    std::string kinds = "exit with 1 if there are findings of these kinds:";
    for (const auto kind : kFindingKindNames) kinds += " " + std::string(kind);
    c.add_option("--fail-if", o->fail_if, kinds + "; any: of whatever kind")->check([](const std::string& kind) {
        if (kind == "any" || is_finding_kind(kind)) return std::string();
        return "'" + kind + "' is no kind of finding: " +
               near_names_text(kind, {kFindingKindNames.begin(), kFindingKindNames.end()}, "");
    });
}

}  // namespace mt::cli
