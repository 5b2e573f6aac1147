#include "command.h"

#include <ostream>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "compare/compare.h"
#include "input.h"
#include "output.h"
#include "share/compare_tables.h"

namespace mt::cli {
namespace {

struct CompareOptions {
    std::string before, after, output;
    double level = 0.01;
    bool csv = false, json = false;
};

int compare_both(CompareOptions& o) {
    std::vector<Opened> opened(2);
    const auto read = read_each({o.before, o.after}, [&](std::size_t i, const Opened& one) -> Result<void> {
        opened[i] = one;
        return {};
    });
    if (!read) return fail(read.error());
    ChanceSettings settings;
    settings.level = o.level;
    const Comparison c = compare(*opened[0].trail, *opened[1].trail, settings);
    const auto mended = what_is_mended(*opened[0].trail, find_all(*opened[0].recording, *opened[0].trail), *opened[1].trail,
                                       find_all(*opened[1].recording, *opened[1].trail));
    const auto code = code_of_both(*opened[0].trail, *opened[1].recording, *opened[1].trail);
    Inputs files(*opened[0].recording);
    const Inputs more(*opened[1].recording);
    files.files.insert(files.files.end(), more.files.begin(), more.files.end());
    const int done = write_to(o.output, files, !o.json && !o.csv, [&](std::ostream& out) {
        if (o.json)
            out << compare_json(c, mended, code).dump(2, ' ', false, nlohmann::json::error_handler_t::replace) << "\n";
        else if (o.csv)
            write_compare_csv(c, out);
        else
            out << compare_text(c, mended, code);
    });
    return done != kDone ? done : c.worse() > 0 ? kBad : kDone;
}

}  // namespace

void add_compare(CLI::App& app, Run& run) {
    CLI::App& c = *app.add_subcommand("compare", "what changed from one recording to another; exits with 1 if anything got worse");
    const auto o = std::make_shared<CompareOptions>();
    c.add_option("BEFORE", o->before, "a recording")->required();
    c.add_option("AFTER", o->after, "another of the same system")->required();
    c.add_option("--level", o->level, "chance of any false alarm at all, 0.0001 to 0.2")->check(CLI::Range(0.0001, 0.2));
    CLI::Option* as_csv = c.add_flag("--csv", o->csv, "as CSV");
    c.add_flag("--json", o->json, "as JSON")->excludes(as_csv);
    c.add_option("-o,--output", o->output, "file to write; - for standard output");
    c.callback([o, &run] { run = [o] { return compare_both(*o); }; });
}

}  // namespace mt::cli
