#include "command.h"

#include <algorithm>
#include <ostream>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "base/near_names.h"
#include "input.h"
#include "measure/lane_kind.h"
#include "measure/functions.h"
#include "output.h"
#include "share/activity_tables.h"

namespace mt::cli {
namespace {

struct StatsOptions : Reading {
    std::string of;
    std::vector<std::string> leave_out;
    RowChoice rows;
    bool csv = false, json = false;
};

int stats(StatsOptions& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    const LaneKind& kind = *LaneKinds::find(o.of);
    Measured of{*opened->trail, opened->recording->functions};
    if (!o.leave_out.empty()) {
        std::vector<std::string> known;
        for (const auto& r : function_rows(of.trail, {}, of.functions)) known.push_back(r.name);
        for (const std::string& name : o.leave_out)
            if (std::find(known.begin(), known.end(), name) == known.end())
                return fail({"no function '" + name + "' ran", "--leave-out",
                             near_names_text(name, known, "the recording contains no functions")});
        of.leave_out = {o.leave_out.begin(), o.leave_out.end()};
    }
    if (const auto known = check_choice(kind, o.rows); !known) return fail(known.error());
    if (!o.rows.core.empty()) {
        std::vector<std::string> cores;
        for (const CoreTrail& core : of.trail.cores) cores.push_back(core.name);
        if (std::find(cores.begin(), cores.end(), o.rows.core) == cores.end())
            return fail({"no core '" + o.rows.core + "'", o.input, near_names_text(o.rows.core, cores, "")});
    }
    if (!kind.told(of.trail)) return fail({"the recording contains no " + o.of, o.input, std::string(kind.advice())});
    return o.write(*opened, !o.csv && !o.json, [&](std::ostream& out) {
        if (o.json)
            out << stats_json(kind, of, o.rows).dump(2) << "\n";
        else if (o.csv)
            write_stats_csv(kind, of, out, o.rows);
        else
            out << stats_text(kind, of, o.rows);
    });
}

}  // namespace

void add_stats(CLI::App& app, Run& run) {
    auto [c, o] = add_command(app, run, "stats", "measures, one row per activity", stats);
    o->add_output(c);
    std::vector<std::string> ids;
    for (const LaneKind* kind : LaneKinds::all()) ids.emplace_back(kind->id());
    c.add_option("--of", o->of, LaneKinds::ids_text())->required()->check(CLI::IsMember(ids));
    c.add_option("--leave-out", o->leave_out, "functions that do not count, such as the one that waits for work");
    c.add_option("--sort", o->rows.sort, "by this figure, as JSON names it: the greatest first");
    c.add_option("--top", o->rows.top, "only so many rows")->check(CLI::PositiveNumber);
    c.add_option("--core", o->rows.core, "only what belongs to this core");
    CLI::Option* as_csv = c.add_flag("--csv", o->csv, "as CSV");
    c.add_flag("--json", o->json, "as JSON")->excludes(as_csv);
}

}  // namespace mt::cli
