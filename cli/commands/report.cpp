#include "command.h"

#include <algorithm>
#include <ctime>
#include <ostream>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "base/near_names.h"
#include "input.h"
#include "judge/muted.h"
#include "output.h"
#include "share/report.h"

namespace mt::cli {
namespace {

struct ReportOptions {
    std::string input, html, rules, frame, before;
    std::vector<std::string> sections;
};

int report(ReportOptions& o) {
    auto opened = open_and_read(o.input);
    if (!opened) return fail(opened.error());
    const Recording& recording = *opened->recording;
    const Trail& trail = *opened->trail;
    ReportParts parts;
    parts.sections = o.sections;
    const auto muted = read_muted(muted_path(recording.input));
    if (!muted) return fail(muted.error());
    for (Finding& f : find_all(recording, trail))
        if (muted->find(f) == nullptr)
            parts.findings.push_back(std::move(f));
        else
            ++parts.muted;
    if (!o.rules.empty()) {
        const auto rules = read_rules(o.rules);
        if (!rules) return fail(rules.error());
        auto outcomes = judge_rules(recording, trail, *rules);
        if (!outcomes) return fail(outcomes.error());
        parts.rules = std::move(*outcomes);
    }
    for (const StepTrail& steps : trail.steps)
        parts.coverage.push_back({steps.core, Coverage::of(steps.code, steps.functions,
                                                           recording.source_map(steps.core_index, *steps.code),
                                                           CoverCounts::of(steps))});
    Inputs inputs(recording);
    if (!o.before.empty()) {
        auto before = open_and_read(o.before);
        if (!before) return fail(before.error());
        parts.comparison = ReportComparison{
            before->recording->title, compare(*before->trail, trail),
            what_is_mended(*before->trail, find_all(*before->recording, *before->trail), trail, find_all(recording, trail)),
            code_of_both(*before->trail, recording, trail)};
        const Inputs more(*before->recording);
        inputs.files.insert(inputs.files.end(), more.files.begin(), more.files.end());
    } else if (std::find(o.sections.begin(), o.sections.end(), "comparison") != o.sections.end()) {
        return fail({"the section 'comparison' needs another recording", "--sections", "name it: --before GOOD.mtrail"});
    }
    const auto frame = report_frame(o.frame, recording);
    if (!frame) return fail(frame.error());
    parts.frame = *frame;
    char now[64] = {};
    const std::time_t t = std::time(nullptr);
    std::tm local{};
    ::localtime_r(&t, &local);
    std::strftime(now, sizeof now, "%Y-%m-%d %H:%M", &local);
    parts.made = "made " + std::string(now) + " from " + o.input;
    for (const std::string& file : {o.rules, o.frame})
        if (!file.empty()) inputs.files.push_back(file);
    return write_to(o.html, inputs, false, [&](std::ostream& out) { out << report_html(recording, opened->trail, parts); });
}

}  // namespace

void add_report(CLI::App& app, Run& run) {
    CLI::App& c = *app.add_subcommand("report", "one self-contained HTML page about a recording");
    const auto o = std::make_shared<ReportOptions>();
    c.add_option("INPUT", o->input, "a recording")->required();
    c.add_option("--html", o->html, "the page to write; - for standard output")->required();
    c.add_option("--rules", o->rules, "hold it against a *.rules.toml, too")->check(CLI::ExistingFile);
    c.add_option("--before", o->before, "what changed since this recording, too");
    std::vector<std::string> sections(std::begin(kReportSections), std::end(kReportSections));
    c.add_option("--sections", o->sections, "only these: summary, findings, rules, measures, coverage, comparison, waymarks")
        ->delimiter(',')
        ->check(CLI::IsMember(sections));
    c.add_option("--frame", o->frame, "a page of your own in which {{title}}, {{style}} and {{body}} are filled in; without it report-frame.html beside the recording, if it is there")
        ->check(CLI::ExistingFile);
    c.callback([o, &run] { run = [o] { return report(*o); }; });
}

}  // namespace mt::cli
