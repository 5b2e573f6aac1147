#include "command.h"

#include <algorithm>
#include <ostream>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "input.h"
#include "judge/rule_check.h"
#include "judge/rule_proposals.h"
#include "output.h"
#include "share/rule_tables.h"

namespace mt::cli {
namespace {

struct JudgeOptions {
    std::vector<std::string> inputs;
    std::string rules, junit, output, propose;
    double margin = 20;  ///< percent
    bool json = false, csv = false, strict = false;
};

// What one recording does now, as rules.
int propose(const JudgeOptions& o) {
    if (o.inputs.size() != 1) return fail({"--propose takes one recording", o.inputs[1], "choose one that is good"});
    const auto opened = open_and_read(o.inputs[0]);
    if (!opened) return fail(opened.error());
    const auto rules = propose_rules(*opened->recording, *opened->trail, o.margin / 100);
    if (rules.empty()) return fail({"nothing happens often enough in it to propose rules", o.inputs[0], "record for longer"});
    return write_to(o.propose, Inputs(*opened->recording), false, [&](std::ostream& out) { out << rules_text(rules); });
}

int judge(JudgeOptions& o) {
    if (!o.propose.empty()) return propose(o);
    if (o.rules.empty()) return fail({"--rules is required", "", "name a *.rules.toml, or have one proposed: --propose FILE"});
    const auto rules = read_rules(o.rules);
    if (!rules) return fail(rules.error());
    std::vector<JudgedInput> all(o.inputs.size());
    Inputs files;
    std::mutex lock;
    const auto read = read_each(o.inputs, [&](std::size_t i, const Opened& opened) -> Result<void> {
        auto outcomes = judge_rules(*opened.recording, *opened.trail, *rules);
        if (!outcomes) return tl::make_unexpected(outcomes.error());
        all[i] = {o.inputs[i], std::move(*outcomes)};
        const std::lock_guard guard(lock);
        const Inputs more(*opened.recording);
        files.files.insert(files.files.end(), more.files.begin(), more.files.end());
        return {};
    });
    if (!read) return fail(read.error());
    files.files.push_back(o.rules);
    int done = write_to(o.output, files, !o.json && !o.csv, [&](std::ostream& out) {
        if (o.json)
            out << judged_json(all).dump(2, ' ', false, nlohmann::json::error_handler_t::replace) << "\n";
        else if (o.csv)
            write_judged_csv(all, out);
        else
            out << judged_text(all);
    });
    if (done == kDone && !o.junit.empty())
        done = write_to(o.junit, files, false, [&](std::ostream& out) { out << judged_junit(all); });
    if (done != kDone) return done;
    for (const JudgedInput& judged : all)
        for (const RuleOutcome& outcome : judged.outcomes)
            if (outcome.verdict == Verdict::broken || (o.strict && outcome.verdict == Verdict::undecided)) return kBad;
    return kDone;
}

}  // namespace

void add_judge(CLI::App& app, Run& run) {
    CLI::App& c = *app.add_subcommand("judge", "whether timing rules are kept; exits with 1 if one is broken");
    const auto o = std::make_shared<JudgeOptions>();
    c.add_option("INPUT", o->inputs, "recordings, as many as wanted: *.target.toml, *.mtrail, CTF folders")->required();
    CLI::Option* rules = c.add_option("--rules", o->rules, "a *.rules.toml")->check(CLI::ExistingFile);
    CLI::Option* propose =
        c.add_option("--propose", o->propose, "instead: write rules of what this recording does to a file; - for standard output");
    propose->excludes(rules);
    c.add_option("--margin", o->margin, "how much looser proposed limits are, in percent")->needs(propose)->check(CLI::Range(0.0, 900.0));
    CLI::Option* as_csv = c.add_flag("--csv", o->csv, "as CSV");
    c.add_flag("--json", o->json, "as JSON")->excludes(as_csv);
    c.add_option("--junit", o->junit, "JUnit XML too, into this file: a test case for each rule");
    c.add_flag("--strict", o->strict, "exit with 1 also if a rule is undecided");
    c.add_option("-o,--output", o->output, "file to write; - for standard output");
    c.callback([o, &run] { run = [o] { return judge(*o); }; });
}

}  // namespace mt::cli
