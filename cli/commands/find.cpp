#include "command.h"

#include <ostream>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "base/finding_kinds.h"
#include "base/near_names.h"
#include "input.h"
#include "output.h"
#include "share/tables.h"
#include "verdict.h"

namespace mt::cli {
namespace {

struct Options : Reading {
    std::vector<std::string> fail_if;
    bool json = false;
};

int find(Options& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    const auto findings = find_all(*opened->recording, *opened->trail);
    const int written = o.write(*opened, !o.json, [&](std::ostream& out) {
        if (o.json)
            out << findings_json(findings).dump(2) << "\n";
        else
            out << findings_text(findings);
    });
    return written != kDone ? written : verdict(findings, o.fail_if);
}

}  // namespace

void add_find(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "find", "findings, worst first", find);
    o->add_output(c);
    c.add_flag("--json", o->json, "as JSON");
    std::string kinds = "exit with 1 if there are findings of these kinds:";
    for (const auto kind : kFindingKindNames) kinds += " " + std::string(kind);
    c.add_option("--fail-if", o->fail_if, kinds + "; any: of whatever kind")->check([](const std::string& kind) {
        if (kind == "any" || is_finding_kind(kind)) return std::string();
        return "'" + kind + "' is no kind of finding: " +
               near_names_text(kind, {kFindingKindNames.begin(), kFindingKindNames.end()}, "");
    });
}

}  // namespace mt::cli
